//! Simulated deliveries: a random tree is packed at a random fit, goes a random way, suffers on it, is renamed and spread
//! over folders, and is opened by someone who has nothing else. Everything follows from a seed.

use super::gather;
use super::messages::{message, part};
use super::system::{set_mode, symlink};
use super::{Desk, PASSWORD, noise, tree};
use std::collections::{BTreeMap, BTreeSet};
use std::ffi::OsStr;
use std::fs;
use std::path::{Path, PathBuf};
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::reader::{ArchiveReader as _, Flaws};
use under_seal_core::formats::sealed::volume::spares::spare_bytes;
use under_seal_core::formats::sealed::volume::supplement::Run;
use under_seal_core::formats::sealed::volume::{
    CHECK_BYTES, GatherError, Geometry, HEADER_BYTES, SpareWish, VolumeKind, VolumeSet,
};
use under_seal_core::formats::sealed::{DeliveryReader, NotWhole, SealedReader};
use under_seal_core::ground::secrets::Password;
use under_seal_core::tasks::check::{SetReport, VolumeState, inspect};
use under_seal_core::tasks::handover::NoteFields;
use under_seal_core::tasks::mend::{Wanted, mend};
use under_seal_core::tasks::open::open;
use under_seal_core::tasks::open::streaming::as_tar;
use under_seal_core::tasks::pack::Target;
use under_seal_core::tasks::rehearse::carriers::{Carried, CarryError, Choices, Load, Sent, Way, carry};
use under_seal_core::tasks::resend::{Resent, Slip, resend};
use under_seal_core::{Error, ErrorClass};

/// What happens to volumes on their way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Fault {
    None,
    /// A volume does not arrive.
    Lost,
    /// A byte behind the header changes.
    ByteChanged,
    /// A byte of the header changes.
    HeaderChanged,
    /// Only so much arrives.
    CutShort,
    /// It comes twice, and a byte of one of them changes.
    TwiceOnceChanged,
    /// Something stands behind its end.
    Lengthened,
    /// The carrier's limit is too small for the volumes.
    TooLarge,
    /// Any of these, to any volume.
    Everything,
}

pub const FAULTS: [Fault; 9] = [
    Fault::None,
    Fault::Lost,
    Fault::ByteChanged,
    Fault::HeaderChanged,
    Fault::CutShort,
    Fault::TwiceOnceChanged,
    Fault::Lengthened,
    Fault::TooLarge,
    Fault::Everything,
];

/// How a delivery ended. Whatever else happens is a panic.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum End {
    /// Identical files.
    Identical,
    /// Exactly what is missing or damaged was named; with what the slip asked for, identical files.
    NamedAndMended,
    /// Nothing was left to know the set by, and that was said.
    NothingCame,
    /// The carrier refused exactly the volumes that are too large for it.
    Refused,
}

/// What was played, and how it ended.
#[derive(Debug, Clone, Copy)]
pub struct Played {
    pub fault: Fault,
    pub way: &'static str,
    pub volumes: usize,
    pub end: End,
}

/// Plays the delivery of this seed.
pub fn play(seed: u64) -> Played {
    let mut choices = Choices::new(seed);
    let desk = packed(&mut choices);
    let fault = *one_of(&FAULTS, &mut choices);
    let volumes = desk.volumes();
    let sent = VolumeSet::from_files(&volumes).unwrap();
    let (name, way, limit) = way(&sent.geometry, fault, &mut choices);
    let inbox = desk.path("inbox");
    let carried = carried(&desk, way, &volumes, &inbox, &mut choices);
    let played = |end| Played { fault, way: name, volumes: volumes.len(), end };
    if fault == Fault::TooLarge {
        let refused: BTreeSet<u32> =
            carried.trips.iter().filter(|trip| trip.refused).flat_map(|trip| trip.volumes.clone()).collect();
        // Between the two a carrier may still take it: a fit leaves more room than every message needs.
        let over = |limit| (1..=volumes.len() as u32).filter(move |number| bytes_of(&sent.geometry, *number) > limit);
        let may: BTreeSet<u32> = over(way.volume_limit().unwrap()).collect();
        let must: BTreeSet<u32> = over(limit).collect();
        assert!(must.is_subset(&refused) && refused.is_subset(&may) && !must.is_empty(), "{way:?} refused {refused:?}");
        return played(End::Refused);
    }
    assert!(carried.trips.iter().all(|trip| !trip.refused), "{way:?} refused what was made for it");

    let mut suffered = Suffered::default();
    for (number, path) in &carried.arrived {
        suffered.volume(*number, path, fault, &sent.geometry, &mut choices);
    }
    let mut places = spread(&desk, &inbox, &mut choices);
    let name = left_in_messages(&places, &mut choices).unwrap_or(name);
    let played = |end| Played { fault, way: name, volumes: volumes.len(), end };
    let set = match gather(&places) {
        Ok(set) => set,
        Err(GatherError::NoVolumes { .. } | GatherError::Unusable { .. }) if suffered.known_by == 0 => {
            return played(End::NothingCame);
        }
        Err(error) => panic!("{error}: {suffered:?}"),
    };
    let found = inspected(&desk, &set);
    let single = |runs: &[Run]| runs.iter().flat_map(|run| run.first..run.end()).collect::<BTreeSet<u64>>();
    assert_eq!(single(&found.lost), suffered.cells, "{fault:?}");
    let beyond = suffered.beyond(&sent.geometry);
    assert_eq!(single(&found.beyond.cells), beyond, "{fault:?}");
    assert_eq!(found.numbers(VolumeState::Missing), suffered.missing.iter().copied().collect::<Vec<_>>());
    assert!(found.not_fitting.is_empty() && !found.disputed);
    if beyond.is_empty() {
        mended(&desk, &set, &found, &volumes);
    }
    let opened = desk.open(&places, &desk.path("board"));
    let end = if beyond.is_subset(&suffered.checks) {
        // A damaged check of a cell whose seal is right stops nobody.
        opened.unwrap();
        End::Identical
    } else {
        refused_to_open(&desk, opened.map(|_| ()), &suffered);
        // Told over the telephone, and typed in small letters.
        let slip = Slip::read(&Slip::of(&set, &found).unwrap().code().to_lowercase()).unwrap();
        let resent = again(&desk, &sent, &slip);
        assert!(resent.supplement.is_some() || !resent.volumes.is_empty());
        places.push(desk.path("again"));
        desk.open(&places, &desk.path("board")).unwrap();
        End::NamedAndMended
    };
    assert_eq!(tree(&desk.path("board/source")), tree(&desk.path("source")));
    if choices.below(4) == 0 {
        as_a_stream(&desk, &places);
    }
    played(end)
}

/// Everything that is lost is made again as it was.
fn mended(desk: &Desk, set: &VolumeSet, found: &SetReport, volumes: &[PathBuf]) {
    let wanted = Wanted::lost(set, found, u32::MAX).unwrap();
    let target = Target { folder: desk.path("mended"), stem: "set".into() };
    let mended = desk.with_context(&|| false, |context| mend(set, &wanted, &target, context)).unwrap();
    for volume in mended {
        let at = match volume.kind {
            VolumeKind::Spare => set.geometry.data_volumes + volume.number,
            _ => volume.number,
        };
        let original = &volumes[at as usize - 1];
        assert_eq!(fs::read(&volume.path).unwrap(), fs::read(original).unwrap(), "{volume:?}");
        assert_eq!(volume.path.file_name(), original.file_name());
    }
}

/// The length of the volume that was sent at this place, the spare ones behind the others.
fn bytes_of(geometry: &Geometry, place: u32) -> u64 {
    if place > geometry.data_volumes { spare_bytes(geometry) } else { geometry.volume_bytes(place) }
}

/// Leaves what came in the messages that brought it, one for each file or a mailbox for each folder, or in none; which.
pub fn left_in_messages(places: &[PathBuf], choices: &mut Choices) -> Option<&'static str> {
    let (name, in_mailbox) = (*one_of(&[None, Some(("messages", false)), Some(("mailbox", true))], choices))?;
    for folder in places {
        let mut files: Vec<PathBuf> = fs::read_dir(folder).unwrap().map(|file| file.unwrap().path()).collect();
        files.sort();
        let mut mailbox = Vec::new();
        for (place, path) in files.iter().enumerate() {
            let encoding = one_of(&["base64", "quoted-printable"], choices);
            let named = *one_of(&["set.useal", "scan.pdf", "noname"], choices);
            let attached = part(named, encoding, &fs::read(path).unwrap());
            let bytes = message(&format!("b{place}"), &[attached]);
            fs::remove_file(path).unwrap();
            if in_mailbox {
                mailbox.extend(
                    b"From keeper@example.invalid Thu Jun  1 17:09:00 2031\r\n".iter().chain(&bytes).chain(b"\r\n"),
                );
            } else {
                fs::write(path.with_extension("eml"), bytes).unwrap();
            }
        }
        if in_mailbox && !files.is_empty() {
            fs::write(folder.join("Inbox"), mailbox).unwrap();
        }
    }
    Some(name)
}

/// The same out of a stream: what was delivered, as tar, opened again.
fn as_a_stream(desk: &Desk, places: &[PathBuf]) {
    let mut reader = desk.unlock(places).unwrap();
    let all: Vec<usize> = (0..reader.entries().unwrap().len()).collect();
    let tar = desk.path("stream.tar");
    let output = fs::File::create(&tar).unwrap();
    desk.with_context(&|| false, |context| {
        as_tar(&mut reader, &all, output, context).unwrap();
        let mut archive = Archive::open(&tar, Flaws::Refused, context).unwrap().unwrap();
        open(&mut *archive, desk.path("stream").as_path(), context).unwrap();
    });
    assert_eq!(tree(&desk.path("stream/source")), tree(&desk.path("source")));
}

/// Plays a delivery in parcels: some do not come, and what does is opened, each alone and, where all came, as one.
pub fn play_parcels(seed: u64) -> Played {
    let mut choices = Choices::new(seed);
    let desk = laid_out(&mut choices);
    let parcels = desk.pack_parcels("450KB");
    let lost: BTreeSet<usize> = (0..parcels.len()).filter(|_| choices.below(5) == 0).collect();
    lost.iter().for_each(|place| fs::remove_file(&parcels[*place]).unwrap());
    let here = parcels.len() - lost.len();
    let played = |end| Played {
        fault: if lost.is_empty() { Fault::None } else { Fault::Lost },
        way: "parcels",
        volumes: here,
        end,
    };
    if here == 0 {
        return played(End::NothingCame);
    }
    left_in_messages(&[desk.path("out")], &mut choices);
    let credentials = Password::new(PASSWORD).unwrap().into();
    let readers = || -> Vec<SealedReader> {
        let sets =
            desk.with_context(&|| false, |context| VolumeSet::gather_each(&[desk.path("out")], context)).unwrap();
        sets.into_iter().map(|set| SealedReader::unlock(set, &credentials).unwrap()).collect()
    };
    let sent = tree(&desk.path("source"));
    for mut reader in readers() {
        desk.with_context(&|| false, |context| open(&mut reader, desk.path("board").as_path(), context)).unwrap();
    }
    let landed = tree(&desk.path("board/source"));
    let is_file = |path: &&PathBuf| desk.path("source").join(path).is_file();
    for path in landed.keys().filter(is_file) {
        assert_eq!(sent.get(path), landed.get(path), "{path:?}");
    }
    match DeliveryReader::of(readers()) {
        Ok(mut delivery) => {
            assert!(lost.is_empty() && sent.keys().eq(landed.keys()));
            desk.with_context(&|| false, |context| open(&mut delivery, desk.path("one").as_path(), context)).unwrap();
            assert!(tree(&desk.path("one/source")).keys().eq(sent.keys()));
            played(End::Identical)
        }
        Err(NotWhole::Missing { numbers, count }) => {
            assert_eq!(count as usize, parcels.len());
            assert_eq!(numbers, lost.iter().map(|place| *place as u32 + 1).collect::<Vec<_>>());
            played(End::NamedAndMended)
        }
        Err(error) => panic!("they are one delivery: {error}"),
    }
}

fn refused_to_open(desk: &Desk, opened: Result<(), Error>, suffered: &Suffered) {
    let class = opened.unwrap_err().class();
    let is_missing = class == ErrorClass::VolumesMissing && !suffered.missing.is_empty();
    // Where spare volumes make good what is missing, what is damaged as well can be too much.
    let is_damaged = class == ErrorClass::Damaged && (suffered.missing.is_empty() || !suffered.spares.is_empty());
    assert!(is_missing || is_damaged, "{class:?}");
    assert!(!desk.path("board/source").exists(), "something landed");
}

pub fn one_of<'a, T>(all: &'a [T], choices: &mut Choices) -> &'a T {
    &all[choices.below(all.len() as u64) as usize]
}

/// Packs a tree.
fn packed(choices: &mut Choices) -> Desk {
    let mut desk = laid_out(choices);
    desk.spares = *one_of(&[0, 0, 1, 2, 3].map(SpareWish::Count), choices);
    let fit: &&str = one_of(&["70KB", "100KB", "150KB", "300KB", ""], choices);
    desk.pack(fit);
    desk
}

/// A tree of a few files and folders, and what else may be in one.
pub fn laid_out(choices: &mut Choices) -> Desk {
    let mut desk = Desk::new();
    desk.squeeze = *one_of(&[Squeeze::None, Squeeze::Light, Squeeze::Even, Squeeze::Hard], choices);
    let folders = ["", "tide tables/", "Überblick – Laterne/", "a/b/c/d/", "-rf/"];
    desk.source("keeper.txt", b"The lamp was lit at dusk.");
    for place in 0..choices.below(12) {
        let length = *one_of(&[0, 1, 300, 4_096, 70_000, 150_000, 400_000], choices);
        let mut content = noise(length);
        if choices.below(3) == 0 {
            content.fill(b'x');
        }
        let name = format!("{}part {place}.tif", one_of(&folders, choices));
        desk.source(&name, &content);
        if choices.below(6) == 0 {
            fs::hard_link(desk.path("source").join(&name), desk.path("source").join(format!("further {place}")))
                .unwrap();
        }
        if choices.below(4) == 0 {
            let path = desk.path("source").join(&name);
            set_mode(&path, 0o750);
        }
    }
    if choices.below(2) == 0 {
        fs::create_dir(desk.path("source/nothing in here")).unwrap();
        symlink("keeper.txt", desk.path("source/latest"));
    }
    desk
}

/// A way that the volumes fit, or, for that fault, do not.
fn way(geometry: &Geometry, fault: Fault, choices: &mut Choices) -> (&'static str, Way, u64) {
    let all = 1..=geometry.data_volumes + geometry.spare_volumes;
    let largest = all.map(|place| bytes_of(geometry, place)).max().unwrap();
    let name = match fault {
        Fault::TooLarge => *one_of(&["mail", "media", "upload"], choices),
        _ => *one_of(&["by hand", "mail", "media", "upload"], choices),
    };
    let less = 1 + choices.below(9);
    // The smallest limit within which the largest volume stays; or a little less than that.
    let least = |way: fn(u64) -> Way| {
        let (mut low, mut high) = (0, 10 * largest + 100_000);
        while low < high {
            let middle = (low + high) / 2;
            if way(middle).volume_limit().unwrap() >= largest { high = middle } else { low = middle + 1 }
        }
        if fault == Fault::TooLarge { largest - less } else { low }
    };
    let Some(way) = way_called(name) else { return (name, Way::ByHand, u64::MAX) };
    let limit = least(way);
    (name, way(limit), limit)
}

/// A way by its name, for any limit; `None` for what has none.
fn way_called(name: &str) -> Option<fn(u64) -> Way> {
    Some(match name {
        "mail" => |limit| Way::Mail { limit },
        "media" => |capacity| Way::Media { capacity, largest_file: u64::MAX },
        "upload" => |limit| Way::Upload { limit },
        _ => return None,
    })
}

/// The way of this name, which takes volumes of so many bytes together.
pub fn way_of_limit(bytes: u64, name: &'static str) -> (&'static str, Way) {
    (name, way_called(name).map_or(Way::ByHand, |way| way(bytes + bytes / 2 + 40_000)))
}

fn carried(desk: &Desk, way: Way, volumes: &[PathBuf], inbox: &Path, choices: &mut Choices) -> Carried {
    let sent = (1..).zip(volumes).map(|(number, path)| {
        let bytes = fs::metadata(path).unwrap().len();
        Sent { number, path: path.clone(), bytes, share: None }
    });
    let sent: Vec<Sent> = sent.collect();
    carried_until(desk, way, &sent, (inbox, choices), &|| false).unwrap()
}

/// Has files carried into a new inbox, until `cancel` says stop.
pub fn carried_until(
    desk: &Desk,
    way: Way,
    sent: &[Sent],
    inbox_and_choices: (&Path, &mut Choices),
    cancel: &(dyn Fn() -> bool + Sync),
) -> Result<Carried, CarryError> {
    carry_them(desk, way, sent, inbox_and_choices, (0, cancel))
}

/// Has files carried into a new inbox, of which so many messages, media or uploads are lost.
pub fn carried_with(
    desk: &Desk,
    way: Way,
    sent: &[Sent],
    inbox_and_choices: (&Path, &mut Choices),
    lost: u32,
) -> Result<Carried, CarryError> {
    carry_them(desk, way, sent, inbox_and_choices, (lost, &|| false))
}

fn carry_them(
    desk: &Desk,
    way: Way,
    sent: &[Sent],
    (inbox, choices): (&Path, &mut Choices),
    (lost, cancel): (u32, &(dyn Fn() -> bool + Sync)),
) -> Result<Carried, CarryError> {
    let listed = sent.iter().map(|volume| (volume.name(), volume.bytes)).collect();
    let fields = NoteFields {
        archive: "source".into(),
        sets: vec!["0".into()],
        volumes: listed,
        spares: None,
        messages_to_spare: 0,
        upon: None,
        secret: true,
        key_file: None,
        how: String::new(),
        page: None,
        in_page: false,
    };
    let under_way = desk.path("under way");
    fs::create_dir(inbox).unwrap();
    fs::create_dir(&under_way).unwrap();
    let load = Load { volumes: sent, fields: &fields, inbox, under_way: &under_way, keep_names: false, lost };
    desk.with_context(cancel, |context| carry(way, &load, choices, context))
}

/// What volumes have suffered, by a reckoning of its own.
#[derive(Debug, Default)]
struct Suffered {
    /// Cells of which no good copy came.
    cells: BTreeSet<u64>,
    /// Of those, the ones of which nothing but the check has changed.
    checks: BTreeSet<u64>,
    /// Numbers of data volumes of which nothing came.
    missing: BTreeSet<u32>,
    /// Of each spare volume the indices of the cells of which a good copy came.
    spares: BTreeMap<u32, BTreeSet<u32>>,
    /// How many came whose header is right.
    known_by: u32,
}

impl Suffered {
    /// The cells that spare volumes cannot make good: those at an index of which more are lost than there are spare cells.
    fn beyond(&self, geometry: &Geometry) -> BTreeSet<u64> {
        let index = |cell: &u64| geometry.locate(*cell).1;
        let is_beyond = |cell: &u64| {
            let lost = self.cells.iter().filter(|other| index(other) == index(cell)).count();
            lost > self.spares.values().filter(|here| here.contains(&index(cell))).count()
        };
        self.cells.iter().copied().filter(is_beyond).collect()
    }

    /// Does to a volume what the fault says, or leaves it alone: every third one suffers, and of everything a half.
    fn volume(&mut self, number: u32, path: &Path, fault: Fault, geometry: &Geometry, choices: &mut Choices) {
        let (spared, fault) = match fault {
            Fault::Everything => (choices.below(2) == 0, *one_of(&FAULTS[1..7], choices)),
            fault => (choices.below(3) != 0, fault),
        };
        let fault = if spared { Fault::None } else { fault };
        let mut bytes = fs::read(path).unwrap();
        let behind_header = HEADER_BYTES + choices.below((bytes.len() - HEADER_BYTES) as u64) as usize;
        let cell = ((behind_header - HEADER_BYTES) / geometry.cell_length.bytes()) as u32;
        let spare = number.checked_sub(geometry.data_volumes).filter(|spare| *spare > 0);
        let all = if spare.is_some() { geometry.cells_per_volume } else { geometry.cells_in(number) };
        let lost = match fault {
            Fault::None | Fault::TooLarge | Fault::Everything => 0..0,
            Fault::Lost => 0..all,
            Fault::ByteChanged => {
                bytes[behind_header] ^= 0x10;
                cell..cell + 1
            }
            Fault::HeaderChanged => {
                bytes[8 + choices.below(HEADER_BYTES as u64 - 8) as usize] ^= 0x10;
                0..0
            }
            Fault::CutShort => {
                bytes.truncate(behind_header);
                cell..all
            }
            Fault::TwiceOnceChanged => {
                fs::write(path.with_extension("again"), &bytes).unwrap();
                bytes[behind_header] ^= 0x10;
                0..0
            }
            Fault::Lengthened => {
                bytes.extend_from_slice(b"-- \r\nA list's footer\r\n");
                0..0
            }
        };
        self.known_by += u32::from(!matches!(fault, Fault::Lost | Fault::HeaderChanged));
        if let Some(spare) = spare {
            self.spares.insert(spare, (0..all).filter(|index| !lost.contains(index)).collect());
            return if fault == Fault::Lost { fs::remove_file(path).unwrap() } else { fs::write(path, bytes).unwrap() };
        }
        let of_set = |index: u32| geometry.first_cell(number) + u64::from(index);
        let end = geometry.cell_length.offset_of(cell) as usize + geometry.cell_bytes(of_set(cell));
        if fault == Fault::ByteChanged && behind_header >= end - CHECK_BYTES {
            self.checks.insert(of_set(cell));
        }
        self.cells.extend(lost.map(of_set));
        match fault {
            Fault::Lost => {
                self.missing.insert(number);
                fs::remove_file(path).unwrap();
            }
            _ => fs::write(path, bytes).unwrap(),
        }
    }
}

/// Renames what came, and spreads it over folders.
fn spread(desk: &Desk, inbox: &Path, choices: &mut Choices) -> Vec<PathBuf> {
    let folders: Vec<PathBuf> = ["one", "another folder"].map(|name| desk.path(name)).to_vec();
    folders.iter().for_each(|folder| fs::create_dir(folder).unwrap());
    let came: BTreeMap<_, _> = fs::read_dir(inbox).unwrap().map(|file| (file.as_ref().unwrap().path(), ())).collect();
    for (place, path) in came.into_keys().enumerate() {
        let names = [format!("{place}"), format!("Überblick ({place})"), format!("scan.{place}.pdf")];
        fs::rename(path, one_of(&folders, choices).join(one_of(&names, choices))).unwrap();
    }
    folders
}

fn inspected(desk: &Desk, set: &VolumeSet) -> SetReport {
    desk.with_context(&|| false, |context| inspect(set, context)).unwrap()
}

fn again(desk: &Desk, sent: &VolumeSet, slip: &Slip) -> Resent {
    let folder = desk.path("again");
    desk.with_context(&|| false, |context| resend(sent, slip, &folder, OsStr::new("set"), context)).unwrap()
}
