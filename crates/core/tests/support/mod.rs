//! A desk to pack and open at: a temporary folder, fixed randomness, cheap keys.

#![allow(clippy::unwrap_used, clippy::panic, dead_code, reason = "each test file uses its part of this")]

pub mod cpio;
pub mod delivery;
pub mod delivery_kinds;
pub mod draft;
pub mod forging;
pub mod iso;
pub mod lies;
pub mod messages;
pub mod system;
pub mod tar;
pub mod zip;

#[allow(unused_imports, reason = "not every test binary forges")]
pub use forging::mend_checks;

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};
use under_seal_core::Error;
use under_seal_core::codecs::block::Squeeze;
use under_seal_core::disk::{mode_of, modified_of};
use under_seal_core::formats::abilities::Ability;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::reader::Flaws;
use under_seal_core::formats::registry::{Format, SEALED, ZIP};
use under_seal_core::formats::sealed::volume::SpareWish;
use under_seal_core::formats::sealed::volume::{GatherError, VolumeSet};
use under_seal_core::formats::sealed::{KeyCost, SealedReader};
use under_seal_core::ground::context::{Context, NoRandomness, Observer, Progress, Randomness};
use under_seal_core::ground::entry::Timestamp;
use under_seal_core::ground::fit::Fit;
use under_seal_core::ground::ownership::OwnerKey;
use under_seal_core::ground::secrets::{Credentials, Password};
use under_seal_core::landing::Destination;
use under_seal_core::source::Choice;
use under_seal_core::tasks::open::{Opened, open};
use under_seal_core::tasks::pack::{Delivery, PackError, PackRequest, Packed, Target};

pub const PASSWORD: &str = "twelve panes of salted glass";

/// Bytes that look random and are the same in every run.
pub struct Repeatable(AtomicU64);

impl From<u64> for Repeatable {
    /// Other bytes than from another number on.
    fn from(first: u64) -> Self {
        Self(AtomicU64::new(first))
    }
}

impl Randomness for Repeatable {
    fn fill(&self, buffer: &mut [u8]) -> Result<(), NoRandomness> {
        let call = self.0.fetch_add(1, Ordering::Relaxed) + 1;
        blake3::Hasher::new().update(&call.to_le_bytes()).finalize_xof().fill(buffer);
        Ok(())
    }
}

struct NobodyWatches;

impl Observer for NobodyWatches {
    fn told(&self, _: Progress<'_>) {}
}

/// A folder to work in; a temporary one, or one that another process has made.
pub enum Place {
    Temporary(tempfile::TempDir),
    Made(PathBuf),
}

impl Place {
    pub fn path(&self) -> &Path {
        match self {
            Self::Temporary(folder) => folder.path(),
            Self::Made(path) => path,
        }
    }
}

pub struct Desk {
    pub place: Place,
    pub randomness: Repeatable,
    pub threads: usize,
    pub squeeze: Squeeze,
    pub format: &'static Format,
    pub hide_names: bool,
    pub spares: SpareWish,
}

/// The set that these places speak of, while nobody watches.
pub fn gather(places: &[PathBuf]) -> Result<VolumeSet, GatherError> {
    Desk::at(Path::new("")).with_context(&|| false, |context| VolumeSet::gather(places, context))
}

impl Desk {
    pub fn new() -> Self {
        // In memory where the system has such a folder: the sweeps wait for the disk thousands of times.
        let folder = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir());
        Self { place: Place::Temporary(folder.unwrap()), ..Self::at(Path::new("")) }
    }

    /// A desk in a folder that is there already.
    pub fn at(path: &Path) -> Self {
        let randomness = Repeatable(AtomicU64::new(0));
        Self {
            place: Place::Made(path.to_owned()),
            randomness,
            threads: 2,
            squeeze: Squeeze::default(),
            format: &SEALED,
            hide_names: false,
            spares: SpareWish::NONE,
        }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.place.path().join(name)
    }

    /// Writes a file below `source`.
    pub fn source(&self, name: &str, content: &[u8]) -> &Self {
        let path = self.path("source").join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, content).unwrap();
        self
    }

    pub fn with_context<T>(&self, cancel: &(dyn Fn() -> bool + Sync), work: impl FnOnce(&Context<'_>) -> T) -> T {
        self.watched_by(&NobodyWatches, cancel, work)
    }

    /// The same, where somebody is told how far the work is.
    pub fn watched_by<T>(
        &self,
        observer: &dyn Observer,
        cancel: &(dyn Fn() -> bool + Sync),
        work: impl FnOnce(&Context<'_>) -> T,
    ) -> T {
        let now = || Timestamp { seconds: 1_700_000_000, nanoseconds: 0 };
        work(&Context {
            observer,
            cancel,
            randomness: &self.randomness,
            clock: &now,
            owner_key: &|| OwnerKey::new(&[0; 32]),
            threads: self.threads,
        })
    }

    /// Packs `source` into `out`, until `cancel` says stop.
    pub fn pack_until(&self, fit: &str, cancel: &(dyn Fn() -> bool + Sync)) -> Result<Packed, PackError> {
        self.pack_with(fit, false, cancel)
    }

    /// Packs `source` into `out`, in the place of old volumes if so asked.
    pub fn pack_replacing(&self, fit: &str, replace: bool) -> Result<Packed, PackError> {
        self.pack_with(fit, replace, &|| false)
    }

    /// Packs `source` into `out` without a password.
    pub fn pack_open(&self, fit: &str) -> Result<Packed, PackError> {
        self.pack_for(fit, false, &|| false, &[Credentials::none()])
    }

    fn pack_with(&self, fit: &str, replace: bool, cancel: &(dyn Fn() -> bool + Sync)) -> Result<Packed, PackError> {
        let credentials = match self.format {
            format if format.can(Ability::Password) => Password::new(PASSWORD).unwrap().into(),
            _ => Credentials::none(),
        };
        self.pack_for(fit, replace, cancel, &[credentials])
    }

    /// Packs `source` into `out`, opened by any of these.
    pub fn pack_locked(&self, fit: &str, credentials: &[Credentials]) -> Result<Packed, PackError> {
        self.pack_for(fit, false, &|| false, credentials)
    }

    fn pack_for(
        &self,
        fit: &str,
        replace: bool,
        cancel: &(dyn Fn() -> bool + Sync),
        credentials: &[Credentials],
    ) -> Result<Packed, PackError> {
        let target = Target { folder: self.path("out"), stem: "set".into() };
        let fit = if fit.is_empty() { Fit::OneVolume } else { fit.parse().unwrap() };
        let (sources, choice) = ([self.path("source")], Choice::default());
        let request = PackRequest {
            format: self.format,
            hide_names: self.hide_names,
            spares: self.spares,
            fit,
            squeeze: self.squeeze,
            replace,
            ..PackRequest::new(&sources, &choice, &target)
        };
        self.with_context(cancel, |context| {
            Delivery::prepare(&request, context)?.pack(credentials, KeyCost::CHEAPEST, context)
        })
    }

    pub fn pack(&self, fit: &str) -> Vec<PathBuf> {
        let packed = self.pack_until(fit, &|| false).unwrap();
        packed.volumes.into_iter().map(|volume| volume.path).collect()
    }

    /// Packs `source` into parcels in `out`; where they are, in order.
    pub fn pack_parcels(&self, fit: &str) -> Vec<PathBuf> {
        let target = Target { folder: self.path("out"), stem: "set".into() };
        let (sources, choice) = ([self.path("source")], Choice::default());
        let request = PackRequest {
            fit: fit.parse().unwrap(),
            squeeze: self.squeeze,
            parcels: true,
            ..PackRequest::new(&sources, &choice, &target)
        };
        let credentials = [Password::new(PASSWORD).unwrap().into()];
        let packed = self.with_context(&|| false, |context| {
            Delivery::prepare(&request, context)?.pack(&credentials, KeyCost::CHEAPEST, context)
        });
        packed.unwrap().volumes.into_iter().map(|volume| volume.path).collect()
    }

    /// The volumes that were packed, in order, the spare ones last.
    pub fn volumes(&self) -> Vec<PathBuf> {
        let mut volumes: Vec<PathBuf> =
            fs::read_dir(self.path("out")).unwrap().map(|file| file.unwrap().path()).collect();
        volumes.sort_by_key(|path| (path.to_string_lossy().contains("-spare"), path.clone()));
        volumes
    }

    /// Opens what was packed into `out`, whatever its format.
    pub fn open_packed(&self, into: &Path) -> Result<Opened, Error> {
        match self.format {
            format if format.abilities.volumes => self.open(&[self.path("out")], into),
            format => {
                let path = self.path(&format!("out/set{}", format.extension()));
                self.with_context(&|| false, |context| {
                    let mut archive = Archive::open(&path, Flaws::Refused, context)?.unwrap();
                    if archive.is_secret() {
                        archive = archive.unlock(&Password::new(PASSWORD).unwrap().into(), context)?;
                    }
                    Ok(open(&mut *archive, into, context)?)
                })
            }
        }
    }

    /// What is below a folder, as far as this desk's format keeps it.
    pub fn tree(&self, root: &Path) -> BTreeMap<PathBuf, String> {
        let kept = |features: String| match self.format {
            format if *format != ZIP => features,
            _ => {
                let (mode, rest) = features.split_once(' ').unwrap();
                let (time, content) = rest.split_once(' ').unwrap();
                format!("{mode} {} {content}", time.split_once('.').unwrap().0)
            }
        };
        tree(root).into_iter().map(|(path, features)| (path, kept(features))).collect()
    }

    pub fn unlock(&self, places: &[PathBuf]) -> Result<SealedReader, Error> {
        let set = gather(places)?.complete()?;
        Ok(SealedReader::unlock(set, &Password::new(PASSWORD).unwrap().into())?)
    }

    pub fn open(&self, places: &[PathBuf], into: &Path) -> Result<Opened, Error> {
        self.open_with(places, into.into())
    }

    pub fn open_with(&self, places: &[PathBuf], into: Destination<'_>) -> Result<Opened, Error> {
        let mut archive = self.unlock(places)?;
        Ok(self.with_context(&|| false, |context| open(&mut archive, into, context))?)
    }
}

/// Everything below a folder that an archive keeps.
pub fn tree(root: &Path) -> BTreeMap<PathBuf, String> {
    let mut found = BTreeMap::new();
    let mut waiting = vec![root.to_owned()];
    while let Some(path) = waiting.pop() {
        let metadata = fs::symlink_metadata(&path).unwrap();
        let content = if metadata.is_symlink() {
            format!("link to {:?}", fs::read_link(&path).unwrap())
        } else if metadata.is_dir() {
            waiting.extend(fs::read_dir(&path).unwrap().map(|entry| entry.unwrap().path()));
            "folder".to_owned()
        } else {
            blake3::hash(&fs::read(&path).unwrap()).to_string()
        };
        let Timestamp { seconds, nanoseconds } = modified_of(&metadata);
        // A link's own bits mean nothing.
        let mode = match (metadata.is_symlink(), metadata.is_dir()) {
            (true, _) => 0o120_777,
            (false, true) => 0o040_000 | mode_of(&metadata),
            (false, false) => 0o100_000 | mode_of(&metadata),
        };
        let features = format!("{mode:o} {seconds}.{nanoseconds} {content}");
        found.insert(path.strip_prefix(root).unwrap().to_owned(), features);
    }
    found
}

/// Changes what a file holds.
pub fn edit(path: &Path, change: impl FnOnce(&mut Vec<u8>)) {
    let mut bytes = fs::read(path).unwrap();
    change(&mut bytes);
    fs::write(path, bytes).unwrap();
}

/// Bytes that do not compress; longer ones begin with the shorter ones.
pub fn noise(length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().finalize_xof().fill(&mut bytes);
    bytes
}
