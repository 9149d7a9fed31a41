//! What the benches share: a corpus that is the same in every run, a context that notes when phases begin and end,
//! and the bare primitives to compare with.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, Instant};
use under_seal_core::ground::context::{Context, NoRandomness, Observer, Phase, Progress, Randomness};
use under_seal_core::ground::entry::Timestamp;
use under_seal_core::ground::ownership::OwnerKey;

/// Bytes that look random and are the same in every run.
pub fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

/// Lines such as a survey's notes and tables have.
pub fn text(seed: u64, length: usize) -> Vec<u8> {
    const WORDS: [&str; 32] = [
        "lamp", "tower", "stair", "granite", "lens", "of", "the", "and", "keeper", "oil", "survey", "north", "wall",
        "gallery", "is", "to", "be", "reset", "with", "lime", "mortar", "crack", "measured", "at", "level", "copper",
        "astragal", "pane", "bronze", "south", "see", "drawing",
    ];
    let dice = noise(seed, length / 4 + 64);
    let mut output = Vec::with_capacity(length + 64);
    for two in dice.chunks_exact(2).cycle() {
        if output.len() >= length {
            break;
        }
        match two[0] {
            0..8 => output.extend_from_slice(format!("{}.{:02};{}\n", two[1], two[0] * 11, output.len()).as_bytes()),
            8..24 => output.extend_from_slice(b".\n"),
            _ => output.extend_from_slice(WORDS[usize::from(two[1] % 32)].as_bytes()),
        }
        output.push(b' ');
    }
    output.truncate(length);
    output
}

/// Records of numbers that change slowly, such as instruments and programs write.
pub fn binary(seed: u64, length: usize) -> Vec<u8> {
    let dice = noise(seed, length / 8 + 64);
    let mut output = Vec::with_capacity(length + 64);
    let (mut level, mut time) = (1_000_i32, 1_700_000_000_u32);
    for die in dice.iter().cycle() {
        if output.len() >= length {
            break;
        }
        level += i32::from(die % 16) - 7;
        time += u32::from(die / 64);
        output.extend_from_slice(&level.to_le_bytes());
        output.extend_from_slice(&time.to_le_bytes());
        output.extend_from_slice(&[0, 0, die & 3, 0x40]);
    }
    output.truncate(length);
    output
}

/// Makes so many bytes, from a seed.
type Make = fn(u64, usize) -> Vec<u8>;

/// A mixed corpus below `root`: text-like, binary-like and random in about equal parts, files from 1 KB to 64 MB,
/// 276 MB in all.
pub fn lay_out_corpus(root: &Path) -> Vec<PathBuf> {
    let sizes: Vec<usize> =
        [vec![1_000; 1_000], vec![16_000; 250], vec![250_000; 40], vec![4_000_000; 3], vec![64_000_000]].concat();
    let kinds: [(&str, Make); 3] = [("text", text), ("binary", binary), ("random", noise)];
    let mut files = Vec::new();
    for (name, make) in kinds {
        fs::create_dir_all(root.join(name)).unwrap();
        for (place, size) in sizes.iter().enumerate() {
            let path = root.join(name).join(format!("{size:08}-{place:05}"));
            fs::write(&path, make(place as u64, *size)).unwrap();
            files.push(path);
        }
    }
    files.sort();
    files
}

/// Notes how long each phase took.
#[derive(Default)]
pub struct Phases(Mutex<Noted>);

#[derive(Default)]
struct Noted {
    over: Vec<(Phase, Duration)>,
    current: Option<(Phase, Instant)>,
}

impl Phases {
    /// How long this phase took in all.
    pub fn of(&self, phase: Phase) -> Duration {
        self.0.lock().unwrap().over.iter().filter(|(known, _)| *known == phase).map(|(_, time)| *time).sum()
    }
}

impl Observer for Phases {
    fn told(&self, progress: Progress<'_>) {
        match progress {
            Progress::Begin(phase, _) => self.0.lock().unwrap().current = Some((phase, Instant::now())),
            Progress::End => {
                let mut noted = self.0.lock().unwrap();
                if let Some((phase, began)) = noted.current.take() {
                    noted.over.push((phase, began.elapsed()));
                }
            }
            _ => {}
        }
    }
}

struct Fixed;

impl Randomness for Fixed {
    fn fill(&self, buffer: &mut [u8]) -> Result<(), NoRandomness> {
        buffer.fill(7);
        Ok(())
    }
}

/// Runs some work in a context of so many threads; how long its phases took.
pub fn with_context<T>(threads: usize, work: impl FnOnce(&Context<'_>) -> T) -> (T, Phases) {
    let phases = Phases::default();
    let clock = || Timestamp { seconds: 1_900_000_000, nanoseconds: 0 };
    let owner_key = &|| OwnerKey::new(&[0; 32]);
    let context =
        Context { observer: &phases, cancel: &|| false, randomness: &Fixed, clock: &clock, owner_key, threads };
    let done = work(&context);
    (done, phases)
}

/// Seconds that all processors have worked for this process.
pub fn cpu_seconds() -> f64 {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    time.tv_sec as f64 + time.tv_nsec as f64 / 1e9
}

/// The middle one.
pub fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}
