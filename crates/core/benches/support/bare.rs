//! The bare primitives: the same compression level and AES-256-GCM on the same blocks, by as many threads, without any
//! format. No digests, no checks, no index, no order; the blocks only lie one after another in one file.

use ring::aead::{AES_256_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use std::fs::{self, File, OpenOptions};
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::thread;

const BLOCK_BYTES: usize = 1024 * 1024;

/// A stretch of a file.
pub struct Piece {
    file: usize,
    offset: u64,
    length: usize,
}

/// The files' bytes, one after another, in blocks of 1 MiB.
pub fn blocks_of(files: &[PathBuf]) -> Vec<Vec<Piece>> {
    let (mut blocks, mut block, mut room) = (Vec::new(), Vec::new(), BLOCK_BYTES);
    for (file, path) in files.iter().enumerate() {
        let (mut offset, mut left) = (0, fs::metadata(path).unwrap().len() as usize);
        while left > 0 {
            let length = left.min(room);
            block.push(Piece { file, offset, length });
            (offset, left, room) = (offset + length as u64, left - length, room - length);
            if room == 0 {
                blocks.push(std::mem::take(&mut block));
                room = BLOCK_BYTES;
            }
        }
    }
    blocks.extend((!block.is_empty()).then_some(block));
    blocks
}

/// Where a block lies in the file, and how long it was before compression.
#[derive(Clone, Copy, Default)]
pub struct Packed {
    offset: u64,
    stored: usize,
    raw: usize,
}

fn key() -> LessSafeKey {
    LessSafeKey::new(UnboundKey::new(&AES_256_GCM, &[3; 32]).unwrap())
}

fn nonce(block: usize) -> Nonce {
    let mut bytes = [0; 12];
    bytes[4..].copy_from_slice(&(block as u64).to_be_bytes());
    Nonce::assume_unique_for_key(bytes)
}

fn read_block(files: &[PathBuf], pieces: &[Piece], raw: &mut Vec<u8>) {
    raw.clear();
    for piece in pieces {
        let from = raw.len();
        raw.resize(from + piece.length, 0);
        File::open(&files[piece.file]).unwrap().read_exact_at(&mut raw[from..], piece.offset).unwrap();
    }
}

/// Lets `threads` threads take the blocks one after another; each makes its own worker.
fn in_parallel<W: FnMut(usize)>(threads: usize, count: usize, make_worker: impl Fn() -> W + Sync) {
    let next = AtomicUsize::new(0);
    thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| {
                let mut work = make_worker();
                loop {
                    let block = next.fetch_add(1, Ordering::Relaxed);
                    if block >= count {
                        break;
                    }
                    work(block);
                }
            });
        }
    });
}

/// Reads, compresses, seals and writes every block.
pub fn pack(files: &[PathBuf], blocks: &[Vec<Piece>], level: i32, threads: usize, target: &Path) -> Vec<Packed> {
    let output = File::create(target).unwrap();
    let end = AtomicU64::new(0);
    let packed = Mutex::new(vec![Packed::default(); blocks.len()]);
    in_parallel(threads, blocks.len(), || {
        let mut compressor = zstd::bulk::Compressor::new(level).unwrap();
        let (mut raw, mut sealed, key) = (Vec::new(), vec![0; 2 * BLOCK_BYTES], key());
        let (output, end, packed) = (&output, &end, &packed);
        move |block: usize| {
            read_block(files, &blocks[block], &mut raw);
            let stored = compress_and_seal(&mut compressor, &key, block, &mut raw, &mut sealed);
            let bytes = stored.map_or(&raw[..], |length| &sealed[..length]);
            let raw_bytes = blocks[block].iter().map(|piece| piece.length).sum();
            let offset = end.fetch_add(bytes.len() as u64, Ordering::Relaxed);
            output.write_all_at(bytes, offset).unwrap();
            packed.lock().unwrap()[block] = Packed { offset, stored: bytes.len(), raw: raw_bytes };
        }
    });
    output.sync_all().unwrap();
    packed.into_inner().unwrap()
}

/// The length of what now stands in `sealed`; `None` where compression saves nothing and `raw` itself is sealed.
fn compress_and_seal(
    compressor: &mut zstd::bulk::Compressor<'_>,
    key: &LessSafeKey,
    block: usize,
    raw: &mut Vec<u8>,
    sealed: &mut [u8],
) -> Option<usize> {
    let length = compressor.compress_to_buffer(raw.as_slice(), &mut *sealed).unwrap();
    if length >= raw.len() {
        let tag = key.seal_in_place_separate_tag(nonce(block), Aad::empty(), raw).unwrap();
        raw.extend_from_slice(tag.as_ref());
        return None;
    }
    let tag = key.seal_in_place_separate_tag(nonce(block), Aad::empty(), &mut sealed[..length]).unwrap();
    sealed[length..length + 16].copy_from_slice(tag.as_ref());
    Some(length + 16)
}

/// Compresses and seals blocks that are in memory; nothing is read and nothing is written.
pub fn pack_in_memory(blocks: &[Vec<u8>], level: i32, threads: usize) {
    in_parallel(threads, blocks.len(), || {
        let mut compressor = zstd::bulk::Compressor::new(level).unwrap();
        let (mut raw, mut sealed, key) = (Vec::new(), vec![0; 2 * BLOCK_BYTES], key());
        move |block: usize| {
            raw.clear();
            raw.extend_from_slice(&blocks[block]);
            std::hint::black_box(compress_and_seal(&mut compressor, &key, block, &mut raw, &mut sealed));
        }
    });
}

/// Every block's bytes.
pub fn load(files: &[PathBuf], blocks: &[Vec<Piece>]) -> Vec<Vec<u8>> {
    let load = |pieces: &Vec<Piece>| {
        let mut raw = Vec::new();
        read_block(files, pieces, &mut raw);
        raw
    };
    blocks.iter().map(load).collect()
}

/// Reads, opens, decompresses and writes every block to files of the same names below `root`.
pub fn open(names: &[PathBuf], blocks: &[Vec<Piece>], packed: &[Packed], threads: usize, source: &Path, root: &Path) {
    let input = File::open(source).unwrap();
    for name in names {
        fs::create_dir_all(root.join(name).parent().unwrap()).unwrap();
    }
    in_parallel(threads, blocks.len(), || {
        let mut decompressor = zstd::bulk::Decompressor::new().unwrap();
        let (mut sealed, mut raw, key) = (Vec::new(), vec![0; BLOCK_BYTES], key());
        let input = &input;
        move |block: usize| {
            let Packed { offset, stored, raw: raw_bytes } = packed[block];
            sealed.resize(stored, 0);
            input.read_exact_at(&mut sealed, offset).unwrap();
            let opened = key.open_in_place(nonce(block), Aad::empty(), &mut sealed).unwrap();
            let mut content = if opened.len() == raw_bytes {
                &*opened
            } else {
                let length = decompressor.decompress_to_buffer(opened, &mut raw[..raw_bytes]).unwrap();
                &raw[..length]
            };
            for piece in &blocks[block] {
                let (now, later) = content.split_at(piece.length);
                let path = root.join(&names[piece.file]);
                let file = OpenOptions::new().write(true).create(true).truncate(false).open(path).unwrap();
                file.write_all_at(now, piece.offset).unwrap();
                content = later;
            }
        }
    });
    rustix::fs::syncfs(File::open(root).unwrap()).unwrap();
}
