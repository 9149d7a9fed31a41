//! Prints the worked example of docs/format.md: a tiny archive, sealed with fixed "randomness" and the cheapest key
//! derivation, byte by byte. `tests/all/formats/worked_example.rs` holds the page to it.

#![allow(clippy::unwrap_used, dead_code, reason = "an example stops at the first thing that is not as it should be")]

use std::fmt::Write as _;
use std::fs::{self, File, FileTimes};
use std::slice;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::{Duration, SystemTime};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::sealed::cells::CellSeal;
use under_seal_core::formats::sealed::keys::{KeyPurpose, SecretBytes, keyhole_key, stretch};
use under_seal_core::formats::sealed::volume::spares::reach::Beyond;
use under_seal_core::formats::sealed::volume::supplement::Run;
use under_seal_core::formats::sealed::volume::{Bound, CellLength, VolumeSet};
use under_seal_core::formats::sealed::{ArchiveKey, CostLimit, KeyCost, SealedReader, unlock};
use under_seal_core::ground::context::{Context, NoRandomness, Observer, Progress, Randomness};
use under_seal_core::ground::entry::Timestamp;
use under_seal_core::ground::ownership::OwnerKey;
use under_seal_core::ground::secrets::Password;
use under_seal_core::source::Choice;
use under_seal_core::tasks::check::SetReport;
use under_seal_core::tasks::pack::{Delivery, PackRequest, Target};
use under_seal_core::tasks::receipt::Receipt;
use under_seal_core::tasks::resend::{Slip, resend};

const PASSWORD: &str = "twelve panes";
const CONTENT: &[u8] = b"The lamp is lit.\n";

/// The first request gets bytes of 01, the second bytes of 02, and so on.
struct Counting(AtomicU8);

impl Randomness for Counting {
    fn fill(&self, buffer: &mut [u8]) -> Result<(), NoRandomness> {
        buffer.fill(self.0.fetch_add(1, Ordering::Relaxed) + 1);
        Ok(())
    }
}

impl Observer for Counting {
    fn told(&self, _: Progress<'_>) {}
}

/// What is made.
struct Made {
    volume: Vec<u8>,
    /// The recipient's receipt.
    receipt: String,
    /// The slip where the only cell is lost, and the supplement that answers it.
    slip: String,
    supplement: Vec<u8>,
}

fn make() -> Made {
    let place = tempfile::tempdir().unwrap();
    let source = place.path().join("lamp.txt");
    fs::write(&source, CONTENT).unwrap();
    // The usual one on Windows.
    #[cfg(unix)]
    fs::set_permissions(&source, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let modified = SystemTime::UNIX_EPOCH + Duration::new(1_930_000_000, 500);
    File::options().write(true).open(&source).unwrap().set_times(FileTimes::new().set_modified(modified)).unwrap();
    let fixed = Counting(AtomicU8::new(0));
    let clock = || Timestamp { seconds: 1_940_000_000, nanoseconds: 7 };
    let owner_key = &|| OwnerKey::new(&[0; 32]);
    let context =
        Context { observer: &fixed, cancel: &|| false, randomness: &fixed, clock: &clock, owner_key, threads: 1 };
    let target = Target { folder: place.path().to_owned(), stem: "lamp".into() };
    let (sources, choice) = ([source], Choice::default());
    let request = PackRequest { squeeze: Squeeze::Even, ..PackRequest::new(&sources, &choice, &target) };
    let credentials = [Password::new(PASSWORD).unwrap().into()];
    let delivery = Delivery::prepare(&request, &context).unwrap();
    let packed = delivery.pack(&credentials, KeyCost::CHEAPEST, &context).unwrap();
    let path = packed.volumes[0].path.clone();
    let volume = fs::read(&path).unwrap();
    let set = VolumeSet::from_files(slice::from_ref(&path)).unwrap();
    let key = unlock(&set, &credentials[0], CostLimit::Bearable).unwrap();
    let mut archive = SealedReader::with_key(set.clone(), &key).unwrap();
    let receipt = Receipt::make(&mut archive, &key, &context).unwrap().code();
    let run = vec![Run { first: 0, count: 1 }];
    let beyond = Beyond { cells: run.clone(), asked: run.clone() };
    let lost = SetReport { lost: run, beyond, ..SetReport::default() };
    let slip = Slip::of(&set, &lost).unwrap();
    let resent = resend(&set, &slip, &place.path().join("again"), "lamp".as_ref(), &context).unwrap();
    let again = resent.supplement.map_or_else(|| resent.volumes[0].1.clone(), |(supplement, _)| supplement);
    Made { volume, receipt, slip: slip.code(), supplement: fs::read(again).unwrap() }
}

/// Sixteen bytes a line, each line with its offset.
fn dump(bytes: &[u8], from: usize, to: usize) -> String {
    let mut text = String::new();
    for (line, chunk) in bytes[from..to].chunks(16).enumerate() {
        write!(text, "    {:04x} ", from + line * 16).unwrap();
        chunk.iter().for_each(|byte| write!(text, " {byte:02x}").unwrap());
        text.push('\n');
    }
    text
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::new(), |text, byte| text + &format!("{byte:02x}"))
}

/// The example, as it stands in the page.
pub fn text() -> String {
    let Made { volume, receipt, slip, supplement } = make();
    let header = &volume[..4_096];
    let salt: [u8; 32] = header[144..176].try_into().unwrap();
    let set: [u8; 16] = header[16..32].try_into().unwrap();
    let stretched = stretch(&Password::new(PASSWORD).unwrap(), &salt, KeyCost::CHEAPEST).unwrap();
    let wrapping = keyhole_key(&header[208..240], &stretched, &[0; 32]);
    let key = ArchiveKey::from_bytes(SecretBytes::copied(&[3; 32]));
    let derived = |purpose| hex(key.derive(&set, purpose).as_slice());
    let cell = &volume[4_096..];
    let mut plain = cell[..cell.len() - 16].to_vec();
    let length = CellSeal::new(&key, &Bound { set, cell_length: CellLength::LONGEST })
        .unwrap()
        .open(0, true, &mut plain)
        .unwrap();
    plain.truncate(length);
    let inner_bytes = usize::from_le_bytes(plain[plain.len() - 128..plain.len() - 120].try_into().unwrap());
    let frames = &plain[4..4 + inner_bytes];

    let mut text = String::new();
    let mut say = |line: &str| text.push_str(&format!("{line}\n"));
    say(
        "One file, `lamp.txt`, mode 0644, modified 1,930,000,000 seconds and 500 nanoseconds after 1970, holding the 17 bytes",
    );
    say(
        "`The lamp is lit.` and a line feed; packed at 1,940,000,000 seconds and 7 nanoseconds under the name `lamp`, with the",
    );
    say(
        "password `twelve panes` and the squeeze `even`. Random values are fixed: set id all 01, cut id all 02, archive key all 03, and the random bytes that first",
    );
    say(&format!("fill the head all 04. Argon2id has 8 KiB, 1 pass, 1 lane. The volume has {} bytes.", volume.len()));
    say("\nThe header's first values, and the head up to the first keyhole's end:\n");
    say(&dump(header, 0, 288));
    say("Bytes 288 to 847 are 04 (unused keyholes), 848 to 4031 are 00. The head tag and the header's check:\n");
    say(&dump(header, 4_032, 4_096));
    say("The keys on the way:\n");
    say(&format!("    S            {}", hex(stretched.as_slice())));
    say(&format!("    W            {}", hex(wrapping.as_slice())));
    say(&format!("    K_cells      {}", derived(KeyPurpose::Cells)));
    say(&format!("    K_head       {}", derived(KeyPurpose::Head)));
    say(&format!("    K_commitment {}", derived(KeyPurpose::Commitment)));
    say(&format!("    K_receipt    {}", derived(KeyPurpose::Receipt)));
    say(&format!(
        "\nThe only cell, which is the last one, begins at 4096 and has {} bytes. Its first bytes, its tag and its check:\n",
        cell.len()
    ));
    say(&dump(&volume, 4_096, 4_128));
    say(&dump(&volume, volume.len() - 32, volume.len()));
    say("Its plaintext: the mark 0000 (a frame begins at once), two zeros, and the inner stream:\n");
    say(&dump(frames, 0, frames.len()));
    say("After that zeros, and the tail:\n");
    say(&dump(&plain[plain.len() - 128..], 0, 128));
    let mut at = 0;
    while at < frames.len() {
        let number = |from: usize| u32::from_le_bytes(frames[from..from + 4].try_into().unwrap()) as usize;
        let (stored, raw) = (number(at + 4), number(at + 8));
        let payload = &frames[at + 16..at + 16 + stored];
        let bytes = if frames[at + 2] == 0 { payload.to_vec() } else { zstd::bulk::decompress(payload, raw).unwrap() };
        say(&format!("The frame at {at:#06x}, kind {}, decompressed:\n", frames[at]));
        say(&dump(&bytes, 0, bytes.len()));
        at += 16 + stored;
    }
    let mut say = |line: &str| text.push_str(&format!("{line}\n"));
    say(&format!("The receipt after opening it is `{receipt}`. The slip that asks for its only cell is `{slip}`,"));
    say(&format!("and the file that answers it has {} bytes: header, page and cell.", supplement.len()));
    say("Its header has the kind 2 and the number 1. The page's beginning and its end:\n");
    say(&dump(&supplement, 4_096, 4_128));
    say(&dump(&supplement, 8_160, 8_192));
    text
}

fn main() {
    print!("{}", text());
}
