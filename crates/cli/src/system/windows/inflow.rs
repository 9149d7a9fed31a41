//! Standard input. Programs of Windows are given no other handles by number.

use std::fs::File;
use std::io::{self, Read};
use std::os::windows::io::AsHandle as _;
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, RecvTimeoutError, sync_channel};
use std::time::Duration;

/// So often it is asked whether the work is to stop, while nothing comes.
const LOOK_EVERY: Duration = Duration::from_millis(200);

/// So much is read at once, and so many such pieces ahead.
const PIECE_BYTES: usize = 256 * 1024;
const PIECES_AHEAD: usize = 4;

/// Standard input, without the library's own buffer, in which a password would stay.
pub fn standard_input() -> io::Result<File> {
    io::stdin().as_handle().try_clone_to_owned().map(File::from)
}

/// There is none of any number.
pub fn descriptor(_: u32) -> io::Result<File> {
    Err(io::Error::new(io::ErrorKind::Unsupported, "Windows has no descriptors that are open already"))
}

/// What is said instead of its path.
pub fn descriptor_path(number: u32) -> PathBuf {
    PathBuf::from(number.to_string())
}

/// Something that is waited for no longer than the user wishes: where the work is to stop, it ends. Nothing tells here whether
/// anything has come, so another thread waits.
pub struct Stoppable {
    pieces: Receiver<io::Result<Vec<u8>>>,
    piece: Vec<u8>,
    read: usize,
    is_stopping: fn() -> bool,
}

impl Stoppable {
    /// What comes from here, until this says that the work is to stop.
    pub fn new(mut from: File, is_stopping: fn() -> bool) -> Self {
        let (give, pieces) = sync_channel(PIECES_AHEAD);
        std::thread::spawn(move || {
            loop {
                let mut piece = vec![0; PIECE_BYTES];
                let read = from.read(&mut piece);
                let is_last = matches!(read, Ok(0) | Err(_));
                let piece = read.map(|length| {
                    piece.truncate(length);
                    piece
                });
                if give.send(piece).is_err() || is_last {
                    break;
                }
            }
        });
        Self { pieces, piece: Vec::new(), read: 0, is_stopping }
    }
}

impl Read for Stoppable {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        while self.read == self.piece.len() {
            if (self.is_stopping)() {
                return Ok(0);
            }
            match self.pieces.recv_timeout(LOOK_EVERY) {
                Ok(piece) => (self.piece, self.read) = (piece?, 0),
                Err(RecvTimeoutError::Timeout) => continue,
                Err(RecvTimeoutError::Disconnected) => return Ok(0),
            }
            if self.piece.is_empty() {
                return Ok(0);
            }
        }
        let left = &self.piece[self.read..];
        let count = left.len().min(buffer.len());
        buffer[..count].copy_from_slice(&left[..count]);
        self.read += count;
        Ok(count)
    }
}
