//! Plays simulated deliveries and prints how each kind of fault ended: `cargo run --release --example deliveries -- 1000`.
//!
//! Each is a random tree, packed at a random fit, that goes a random way, suffers on it, is renamed and spread over folders,
//! and is opened by someone who has nothing else. Some are left in the messages that
//! brought them, some come out as a stream, and some are sent in parcels. Half of them are of other kinds: whole messages are lost, volumes
//! are forged, changes come in three generations, pages carry a volume, several passwords and a key file open it. A number after the count is the first seed. One that ends in a wrong byte
//! or in silence stops the run and names its seed.

#[path = "../tests/support/mod.rs"]
mod support;

use std::collections::BTreeMap;
use std::process::ExitCode;
use std::thread;
use support::delivery::{End, FAULTS, Played, play, play_parcels};
use support::delivery_kinds::{play_changes, play_forged, play_keys, play_lost_messages, play_page};

const ENDS: [(End, &str); 4] = [
    (End::Identical, "identical"),
    (End::NamedAndMended, "named, mended"),
    (End::NothingCame, "nothing came"),
    (End::Refused, "refused"),
];

const WAYS: [&str; 11] =
    ["by hand", "mail", "media", "upload", "messages", "mailbox", "parcels", "forged", "changes", "page", "keys"];

/// What is played, in turn.
const KINDS: [fn(u64) -> Played; 10] =
    [play, play_parcels, play, play_lost_messages, play_forged, play, play_changes, play, play_page, play_keys];

fn main() -> ExitCode {
    let mut numbers = std::env::args().skip(1).map(|text| text.parse::<u64>());
    let (Ok(count), Ok(first)) = (numbers.next().unwrap_or(Ok(1000)), numbers.next().unwrap_or(Ok(0))) else {
        eprintln!("Usage: deliveries [COUNT [FIRST SEED]]");
        return ExitCode::from(2);
    };
    let threads = thread::available_parallelism().map_or(1, usize::from);
    let played: Option<Vec<Played>> = thread::scope(|scope| {
        let share = |thread| (first..first + count).skip(thread).step_by(threads);
        let running: Vec<_> = (0..threads).map(|thread| scope.spawn(move || play_all(share(thread)))).collect();
        running.into_iter().map(|thread| thread.join().ok().flatten()).collect::<Option<Vec<_>>>()
    })
    .map(|all| all.concat());
    let Some(played) = played else { return ExitCode::FAILURE };
    print_table(&played);
    ExitCode::SUCCESS
}

fn play_all(seeds: impl Iterator<Item = u64>) -> Option<Vec<Played>> {
    let one = |seed| {
        let played = std::panic::catch_unwind(|| KINDS[(seed % KINDS.len() as u64) as usize](seed));
        played.inspect_err(|_| eprintln!("The delivery of seed {seed} went wrong.")).ok()
    };
    seeds.map(one).collect()
}

fn print_table(played: &[Played]) {
    let mut ends: BTreeMap<_, usize> = BTreeMap::new();
    let mut ways: BTreeMap<_, usize> = BTreeMap::new();
    for one in played {
        *ends.entry((one.fault, one.end)).or_default() += 1;
        *ways.entry(one.way).or_default() += 1;
    }
    let heads: String = ENDS.iter().map(|(_, head)| format!("{head:>15}")).collect();
    println!("{:<20}{heads}{:>10}", "fault", "in all");
    for fault in FAULTS {
        let row = ENDS.map(|(end, _)| ends.get(&(fault, end)).copied().unwrap_or(0));
        let cells: String = row.iter().map(|count| format!("{count:>15}")).collect();
        println!("{:<20}{cells}{:>10}", format!("{fault:?}"), row.iter().sum::<usize>());
    }
    let ways: Vec<String> = WAYS.map(|way| format!("{way} {}", ways.get(way).copied().unwrap_or(0))).to_vec();
    let volumes: usize = played.iter().map(|one| one.volumes).sum();
    println!("\n{} deliveries, {volumes} volumes; {}. No wrong byte, no silence.", played.len(), ways.join(", "));
}
