//! The page's module, run without a browser: each primitive gives what the program's own gives, and known answers of their authors.

use flate2::read::DeflateDecoder;
use rstest::rstest;
use std::io::Read as _;
use std::sync::LazyLock;
use under_seal_core::tasks::page::PAGE;
use wasmi::{Engine, Instance, Linker, Memory, Module, Store, TypedFunc, WasmParams, WasmResults};

/// The module as it stands in the page: its longest text in base 64, which is a deflate stream.
static MODULE: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let is_digit = |byte: &u8| byte.is_ascii_alphanumeric() || b"+/=".contains(byte);
    let texts = PAGE.split(|byte| !is_digit(byte));
    let longest = texts.max_by_key(|text| text.len()).unwrap();
    let packed = data_encoding::BASE64.decode(longest).unwrap();
    let mut module = Vec::new();
    DeflateDecoder::new(packed.as_slice()).read_to_end(&mut module).unwrap();
    module
});

struct Primitives {
    store: Store<()>,
    instance: Instance,
    memory: Memory,
}

impl Primitives {
    fn new() -> Self {
        let engine = Engine::default();
        let module = Module::new(&engine, &MODULE[..]).unwrap();
        assert_eq!(module.imports().count(), 0, "the module can reach something outside");
        let mut store = Store::new(&engine, ());
        let instance = Linker::new(&engine).instantiate_and_start(&mut store, &module).unwrap();
        let memory = instance.get_memory(&store, "memory").unwrap();
        Self { store, instance, memory }
    }

    fn call<P: WasmParams, R: WasmResults>(&mut self, name: &str, parameters: P) -> R {
        let function: TypedFunc<P, R> = self.instance.get_typed_func(&self.store, name).unwrap();
        function.call(&mut self.store, parameters).unwrap()
    }

    fn lend(&mut self, bytes: &[u8]) -> u32 {
        let at: u32 = self.call("allocate", bytes.len().max(1) as u32);
        self.memory.write(&mut self.store, at as usize, bytes).unwrap();
        at
    }

    fn read(&self, at: u32, length: usize) -> Vec<u8> {
        let mut bytes = vec![0; length];
        self.memory.read(&self.store, at as usize, &mut bytes).unwrap();
        bytes
    }

    fn argon2id(&mut self, password: &[u8], salt: &[u8], (kibibytes, passes, lanes): (u32, u32, u32)) -> Vec<u8> {
        let (given, salted, output) = (self.lend(password), self.lend(salt), self.lend(&[0; 32]));
        let parameters = (given, password.len() as u32, salted, salt.len() as u32, kibibytes, passes, lanes, output);
        let outcome: i32 = self.call("argon2id", parameters);
        assert_eq!(outcome, 0);
        self.read(output, 32)
    }

    fn blake3(&mut self, bytes: &[u8], key: Option<&[u8; 32]>) -> Vec<u8> {
        let (hasher, output): (u32, u32) = (self.call("hasher", ()), self.lend(&[0; 32]));
        if let Some(key) = key {
            let key = self.lend(key);
            let () = self.call("hasher_keyed", (hasher, key));
        }
        let at = self.lend(bytes);
        // In two pieces, as content comes.
        let first = bytes.len() as u32 / 3;
        let () = self.call("hasher_take", (hasher, at, first));
        let () = self.call("hasher_take", (hasher, at + first, bytes.len() as u32 - first));
        let () = self.call("hasher_tell", (hasher, output));
        self.read(output, 32)
    }

    /// What a decompressor makes of it, where it takes it.
    fn decompressed(&mut self, name: &str, stored: &[u8], length: usize) -> Option<Vec<u8>> {
        let (at, output) = (self.lend(stored), self.lend(&vec![0; length]));
        let outcome: u32 = self.call(name, (output, length as u32, at, stored.len() as u32, 16_u32 << 20));
        (outcome != u32::MAX).then(|| self.read(output, outcome as usize))
    }
}

/// Passwords whatever letters they have, at several costs.
#[rstest]
#[case::plain("twelve panes of salted glass", (64, 3, 1))]
#[case::umlauts("größere zwölf Fensterläden", (256, 2, 1))]
#[case::other_scripts("灯台の灯り, маяк", (64, 1, 4))]
#[case::empty("", (128, 1, 2))]
fn argon2id_is_the_programs(#[case] password: &str, #[case] cost: (u32, u32, u32)) {
    let (salt, (kibibytes, passes, lanes)) = ([7; 16], cost);
    let parameters = argon2::Params::new(kibibytes, passes, lanes, Some(32)).unwrap();
    let argon2id = argon2::Argon2::new(argon2::Algorithm::Argon2id, argon2::Version::V0x13, parameters);
    let mut expected = [0; 32];
    argon2id.hash_password_into(password.as_bytes(), &salt, &mut expected).unwrap();
    assert_eq!(Primitives::new().argon2id(password.as_bytes(), &salt, cost), expected);
}

/// BLAKE3's own vectors count 0 to 250 again and again, and have this key.
#[rstest]
fn blake3_is_the_programs(#[values(0, 1, 63, 64, 65, 1024, 1025, 5_000, 31_744, 102_400)] length: usize) {
    let input: Vec<u8> = (0..length).map(|place| (place % 251) as u8).collect();
    let key = b"whats the Elvish word for friend";
    let mut primitives = Primitives::new();
    assert_eq!(primitives.blake3(&input, None), blake3::hash(&input).as_bytes());
    assert_eq!(primitives.blake3(&input, Some(key)), blake3::keyed_hash(key, &input).as_bytes());
}

/// The check value of CRC-32/ISO-HDLC, which every catalogue of CRCs has.
#[test]
fn crc32_is_the_usual_one() {
    let mut primitives = Primitives::new();
    let at = primitives.lend(b"123456789");
    let first: u32 = primitives.call("crc32", (0_u32, at, 4_u32));
    let all: u32 = primitives.call("crc32", (first, at + 4, 5_u32));
    assert_eq!(all, 0xCBF4_3926);
}

/// Both decompressors give back what the program's compressors made, and nothing of what is cut, too long or followed by more.
#[rstest]
#[case::zstandard("zstandard", |content: &[u8]| zstd::bulk::compress(content, 3).unwrap())]
#[case::lzma2("lzma2", |content: &[u8]| {
    let mut stored = Vec::new();
    liblzma::read::XzEncoder::new(content, 6).read_to_end(&mut stored).unwrap();
    stored
})]
fn decompressors_take_exactly_what_was_compressed(#[case] name: &str, #[case] compress: fn(&[u8]) -> Vec<u8>) {
    let content: Vec<u8> = (0..90_000_u32).map(|place| (place.wrapping_mul(place) >> 7) as u8 & 15).collect();
    let stored = compress(&content);
    let mut primitives = Primitives::new();
    assert!(primitives.decompressed(name, &stored, content.len()).as_deref() == Some(&content[..]));
    let wrong: [(&[u8], usize); 5] = [
        (&stored[..stored.len() - 1], content.len()),
        (&[&stored[..], b"\0"].concat(), content.len()),
        (&[&stored[..], &stored].concat(), content.len()),
        (&stored, content.len() - 1),
        (&stored, content.len() + 1),
    ];
    for (place, (bytes, length)) in wrong.into_iter().enumerate() {
        assert!(primitives.decompressed(name, bytes, length).is_none(), "{place}");
    }
}
