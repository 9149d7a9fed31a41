//! One whole delivery, from sources to volumes that are proven to open.
//!
//! The order protects the user: nothing is written before the target is known to be free; everything is
//! written under a staging folder; it is read back from disk, unlocked with the password and verified to
//! the last byte; and only then do the volumes get their names, all or none.

pub mod arranging;
mod error;
pub mod kinds;
mod old;
mod open_formats;
mod paging;
pub mod parcels;
mod sealing;
pub mod target;
mod tarring;
mod zipping;

pub use error::PackError;
pub use old::{Loss, OldArchive};
pub use target::{Target, TargetError, TargetWish, WayError};
pub(crate) use zipping::zip_headers_bytes;

use crate::codecs::block::Squeeze;
use crate::disk::Folder;
use crate::disk::staging::{Placing, Staging};
use crate::formats::abilities::Ability;
use crate::formats::registry::{Format, SEALED, Writing};
use crate::formats::sealed::volume::in_page::InPage;
use crate::formats::sealed::volume::{CellLength, Ids, VolumeSet, WriteError, header_of, names};
use crate::formats::sealed::{KeyCost, SealError, SealedReader};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{Content, EntryPath, Totals, link_stays_inside};
use crate::ground::fit::Fit;
use crate::ground::secrets::Credentials;
use crate::source::feed::FilledUp;
use crate::source::{Catalogue, Choice, PassedOver, SourceEntry};
use crate::tasks::check::verify_contents;
use crate::tasks::pack::parcels::{Parcel, Weights};
use arranging::Outlook;
use kinds::{KindWeight, kinds};
use sealing::{Job, Sealed, SoFar};
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

/// What to pack, and into what.
pub struct PackRequest<'a> {
    /// Files and folders.
    pub sources: &'a [PathBuf],
    /// What of them is packed.
    pub choice: &'a Choice,
    /// Where the volumes go.
    pub target: &'a Target,
    /// In which format. Parcels are made of the sealed one only.
    pub format: &'static Format,
    /// How large a volume may be.
    pub fit: Fit,
    /// How hard to compress.
    pub squeeze: Squeeze,
    /// What to say to whoever opens it; sealed with the rest. Empty where nothing is said.
    pub message: &'a str,
    /// Whether names, sizes and dates are hidden too. The sealed format always hides them; in ZIP the password does, which is
    /// needed for that.
    pub hide_names: bool,
    /// Whether several archives are made that each open alone and are one volume of this fit, instead of one that is cut.
    pub parcels: bool,
    /// Whether volumes that have the target's name already are replaced.
    pub replace: bool,
}

/// A delivery that can be made: the sources are listed and the target is free. Nothing was written yet.
#[derive(Debug)]
pub struct Delivery {
    target: Target,
    format: &'static Format,
    fit: Fit,
    squeeze: Squeeze,
    message: String,
    hide_names: bool,
    catalogue: Catalogue,
    lone_volumes: Vec<LoneVolume>,
    /// Where there are to be parcels: how they are divided.
    parcels: Option<Division>,
    old: OldArchive,
}

/// A division into parcels, and what is needed for another.
#[derive(Debug)]
struct Division {
    weights: Weights,
    parcels: Vec<Parcel>,
    volume_limit: u64,
}

/// How often a division is mended: what is compressed together can come out longer than each by itself.
const DIVISIONS: u32 = 8;

/// A finished volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackedVolume {
    /// Where it is.
    pub path: PathBuf,
    /// The file's length.
    pub bytes: u64,
    /// Where the volume is in a page, if it is in one.
    pub in_page: Option<InPage>,
    /// Its set; parcels are a set each. Only the sealed format has sets.
    pub ids: Option<Ids>,
    /// What its set holds.
    pub totals: Totals,
}

/// A finished, verified delivery.
#[derive(Debug)]
pub struct Packed {
    /// Whether each volume is a parcel, which opens alone.
    pub parcels: bool,
    /// What was packed.
    pub totals: Totals,
    /// What was read back from the finished volumes and verified.
    pub verified: Totals,
    /// The volumes in order.
    pub volumes: Vec<PackedVolume>,
    /// Old volumes that were replaced: where they were, and their bytes.
    pub replaced: Vec<(PathBuf, u64)>,
    /// Files of such names that were not recognised, and stay.
    pub not_replaced: Vec<PathBuf>,
    /// What could not be packed.
    pub passed_over: Vec<PassedOver>,
    /// Kinds of files, heaviest first, with what squeezing leaves of each; none where nothing was squeezed.
    pub kinds: Vec<KindWeight>,
    /// What was not to be packed.
    pub left_out: LeftOut,
    /// Files that changed while they were read, twice.
    pub changed: Vec<EntryPath>,
    /// Files of which the archive holds less than they had at first, the rest being zeros; only tar has such.
    pub filled_up: Vec<FilledUp>,
    /// Links that an opening will not make, because they could lead outside.
    pub outward_links: Vec<EntryPath>,
    /// Sources that are volumes of a sealed archive, of which others were not named.
    pub lone_volumes: Vec<LoneVolume>,
    /// Names that are no text, and the paths under which they stand in the archive for that.
    pub escaped_names: Vec<(EntryPath, EntryPath)>,
}

/// Every file's content, by its path in the archive, sorted.
type Contents = Vec<(EntryPath, Content)>;

/// A source that is one of several volumes of a sealed archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LoneVolume {
    /// Where it is, as it was typed.
    pub path: PathBuf,
    /// Its number.
    pub number: u32,
    /// How many volumes there are.
    pub count: u32,
}

/// What the sender's choice left out.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct LeftOut {
    /// How many files, links and whole folders, by patterns or as litter.
    pub chosen: u64,
    /// Folders on other file systems.
    pub other_systems: Vec<EntryPath>,
    /// Files of this archive's own name, so that it is not packed into itself.
    pub own_output: u64,
    /// Patterns that matched nothing, as they were written.
    pub unmatched: Vec<String>,
    /// What has a name that is no text, without what lies below it.
    pub not_text: Vec<EntryPath>,
}

impl<'a> PackRequest<'a> {
    /// Everything below the sources, in one volume, compressed as usual.
    pub fn new(sources: &'a [PathBuf], choice: &'a Choice, target: &'a Target) -> Self {
        Self {
            sources,
            choice,
            target,
            format: &SEALED,
            fit: Fit::OneVolume,
            squeeze: Squeeze::default(),
            message: "",
            hide_names: false,
            parcels: false,
            replace: false,
        }
    }
}

impl Delivery {
    /// Looks at everything that can be known before the password is.
    ///
    /// # Errors
    /// [`PackError`]; nothing was written, but what an earlier run left may have been cleared or completed.
    pub fn prepare(request: &PackRequest<'_>, context: &Context<'_>) -> Result<Self, PackError> {
        check_fit(request.fit, request.format)?;
        request.format.refuse_what_it_lacks(&[
            (request.parcels, Ability::Parcels),
            (request.fit != Fit::OneVolume, Ability::Volumes),
            (!request.message.is_empty(), Ability::Message),
            (request.hide_names, Ability::HiddenNames),
        ])?;
        let old = request.target.make_way(request.replace, request.format, context)?;
        // An archive that is made inside a source must not be packed into itself, nor an old one that it replaces.
        let folder = fs::canonicalize(&request.target.folder).ok();
        let is_own = |path: &Path| {
            path.parent() == folder.as_deref()
                && path.file_name().is_some_and(|name| request.target.is_own_name(name, request.format))
        };
        let catalogue = Catalogue::gather(request.sources, request.choice, &is_own, context)?;
        let parcels = match request.fit.volume_limit().filter(|_| request.parcels) {
            Some(volume_limit) => {
                let weights = Weights::find(&catalogue, request.squeeze, context)?;
                let parcels = weights.divide(&catalogue, volume_limit, request.message.len() as u64)?;
                Some(Division { weights, parcels, volume_limit })
            }
            None => None,
        };
        Ok(Self {
            parcels,
            format: request.format,
            target: request.target.clone(),
            fit: request.fit,
            squeeze: request.squeeze,
            message: request.message.to_owned(),
            hide_names: request.hide_names,
            catalogue,
            lone_volumes: lone_volumes(request.sources),
            old,
        })
    }

    /// What will be packed.
    pub fn catalogue(&self) -> &Catalogue {
        &self.catalogue
    }

    /// Packs, verifies, places. Each of the credentials will open the archive; an attempt at one will cost `cost`.
    ///
    /// # Errors
    /// [`PackError`]; no volume has a name then, and old ones are as they were.
    pub fn pack(
        mut self,
        credentials: &[Credentials],
        cost: KeyCost,
        context: &Context<'_>,
    ) -> Result<Packed, PackError> {
        let secret = credentials.iter().any(|given| *given != Credentials::none());
        self.format.refuse_what_it_lacks(&[
            (credentials.iter().any(|given| given.key_file.is_some()), Ability::KeyFile),
            (credentials.len() > 1, Ability::SeveralPasswords),
            (secret, Ability::Password),
        ])?;
        if !self.format.abilities.volumes {
            let password = credentials.first().filter(|_| secret).map(|given| &given.password);
            return self.pack_open(password, context);
        }
        let kinds = match self.squeeze {
            Squeeze::None => Vec::new(),
            _ => kinds(&self.catalogue, &[self.squeeze]).map_err(SealError::from)?,
        };
        let (staging, mut archives) = self.seal(&Outlook::new(self.squeeze, &kinds), credentials, cost, context)?;
        let (target, old, parcels) = (self.target, self.old, self.parcels.is_some());
        let catalogue = self.catalogue;
        // With many entries the catalogue is large, and reading back needs room for the index.
        let (outward_links, left_out, mut passed_over) = summary_of(catalogue);
        drop(self.parcels);
        archives.iter_mut().for_each(|archive| passed_over.append(&mut archive.passed_over));
        let (mut totals, mut verified) = (Totals::default(), Totals::default());
        for archive in &archives {
            totals.add_all(&archive.totals);
        }
        refuse_nothing(&totals, &mut passed_over)?;
        for archive in &archives {
            verified.add_all(&read_back(archive, credentials, &staging, context)?);
            if archive.in_page.is_some() && !paging::is_right(archive, &staging)? {
                return Err(PackError::ContentsDiffer);
            }
        }
        context.go_on()?;
        let placings: Vec<Placing> = archives.iter().flat_map(|archive| archive.written.placings.clone()).collect();
        staging.place(&placings, &old.files)?;
        let volumes = |archive: &Sealed| {
            let Sealed { ids, totals, written, in_page, .. } = archive;
            let volume = |(number, placing): (u32, &Placing)| PackedVolume {
                path: target.path_with(&placing.suffix),
                bytes: in_page.map_or(written.geometry.volume_bytes(number), |inside| inside.file_bytes()),
                in_page: *in_page,
                ids: Some(*ids),
                totals: *totals,
            };
            (1..).zip(&written.placings).map(volume).collect::<Vec<_>>()
        };
        Ok(Packed {
            parcels,
            totals,
            verified,
            volumes: archives.iter().flat_map(volumes).collect(),
            replaced: old.replaced(&target),
            not_replaced: old.left,
            passed_over,
            kinds,
            left_out,
            changed: archives.into_iter().flat_map(|archive| archive.changed).collect(),
            filled_up: Vec::new(),
            outward_links,
            lone_volumes: self.lone_volumes,
            escaped_names: Vec::new(),
        })
    }

    /// Seals everything into staged volumes: one archive, or a parcel each.
    fn seal(
        &mut self,
        outlook: &Outlook<'_>,
        credentials: &[Credentials],
        cost: KeyCost,
        context: &Context<'_>,
    ) -> Result<(Staging, Vec<Sealed>), PackError> {
        let mut reserve = self.message.len() as u64;
        for _ in 0..DIVISIONS {
            let target = Folder::open_or_create(&self.target.folder)?;
            let staging = Staging::begin(target, &self.target.stem, context)?;
            context.tell(Progress::Begin(Phase::Packing, self.catalogue.total_bytes()));
            let archives = self.seal_all(outlook, credentials, cost, &staging, context)?;
            context.tell(Progress::End);
            let Some(division) = &mut self.parcels else { return Ok((staging, archives)) };
            let lengths = archives.iter().map(|archive| archive.written.geometry.volume_bytes(1));
            match lengths.max().unwrap_or(0).checked_sub(division.volume_limit).filter(|over| *over > 0) {
                None => return Ok((staging, archives)),
                Some(over) => reserve += over,
            }
            division.parcels = division.weights.divide(&self.catalogue, division.volume_limit, reserve)?;
        }
        Err(PackError::ParcelTooLarge)
    }

    fn seal_all(
        &self,
        outlook: &Outlook<'_>,
        credentials: &[Credentials],
        cost: KeyCost,
        staging: &Staging,
        context: &Context<'_>,
    ) -> Result<Vec<Sealed>, PackError> {
        let in_page = self.format.writing == Some(Writing::Page);
        let opening = if in_page { paging::opening() } else { Vec::new() };
        let whole = Job {
            catalogue: &self.catalogue,
            entries: &[],
            outlook,
            name: self.target.stem.as_bytes(),
            squeeze: self.squeeze,
            message: &self.message,
            volume_limit: self.fit.volume_limit(),
            first_staged: 1,
            opening: &opening,
            credentials,
            cost,
            before: SoFar::default(),
        };
        let Some(division) = &self.parcels else {
            let entries: Vec<&SourceEntry> = self.catalogue.entries.iter().collect();
            let mut sealed = sealing::seal(&Job { entries: &entries, ..whole }, staging, context)?;
            if in_page {
                paging::complete(&mut sealed, staging, context)?;
            }
            return Ok(vec![sealed]);
        };
        let (mut sealed, mut before) = (Vec::new(), SoFar::default());
        let count = division.parcels.len() as u32;
        for (number, parcel) in (1..).zip(&division.parcels) {
            let entries: Vec<_> = parcel.members.iter().map(|place| &self.catalogue.entries[*place]).collect();
            let suffix = names::parcel_suffix(number, count);
            let name = [whole.name, suffix.trim_end_matches(names::EXTENSION).as_bytes()].concat();
            let job = Job { entries: &entries, name: &name, volume_limit: None, first_staged: number, before, ..whole };
            let mut archive = sealing::seal(&job, staging, context)?;
            archive.written.placings.iter_mut().for_each(|placing| placing.suffix.clone_from(&suffix));
            before = archive.so_far;
            sealed.push(archive);
        }
        Ok(sealed)
    }
}

/// The sources that are volumes of sets of which not all volumes are among the sources.
fn lone_volumes(sources: &[PathBuf]) -> Vec<LoneVolume> {
    let mut sets: BTreeMap<Ids, Vec<LoneVolume>> = BTreeMap::new();
    for path in sources.iter().filter(|path| path.is_file()) {
        // What cannot be read is told when it is packed.
        if let Ok(Some(header)) = header_of(path) {
            let volume = LoneVolume { path: path.clone(), number: header.number, count: header.geometry.data_volumes };
            sets.entry(header.ids).or_default().push(volume);
        }
    }
    let incomplete = |volumes: &Vec<LoneVolume>| volumes.first().is_some_and(|one| volumes.len() < one.count as usize);
    sets.into_values().filter(incomplete).flatten().collect()
}

/// What the sender is told of a catalogue, when it is not needed any more: links that lead outside, what was left out, and
/// what could not be read.
fn summary_of(catalogue: Catalogue) -> (Vec<EntryPath>, LeftOut, Vec<PassedOver>) {
    let outward = |entry: &&SourceEntry| !link_stays_inside(&entry.path, &entry.link_target);
    let outward_links = catalogue.entries.iter().filter(outward).map(|entry| entry.path.clone()).collect();
    let left_out = LeftOut {
        chosen: catalogue.left_out,
        other_systems: catalogue.other_systems,
        own_output: catalogue.own_output,
        unmatched: catalogue.unmatched,
        not_text: catalogue.not_text,
    };
    (outward_links, left_out, catalogue.passed_over)
}

/// Refuses an archive in which there would be nothing, or nothing but folders since all else could not be read.
fn refuse_nothing(totals: &Totals, passed_over: &mut Vec<PassedOver>) -> Result<(), PackError> {
    let nothing_to_read = totals.files + totals.links == 0 && !passed_over.is_empty();
    if *totals == Totals::default() || nothing_to_read {
        return Err(PackError::NothingPacked(std::mem::take(passed_over)));
    }
    Ok(())
}

/// Refuses a fit in which no volume of the sealed format fits. Parts in other formats have rules of their own.
///
/// # Errors
/// [`PackError::Seal`] with [`WriteError::FitTooSmall`].
pub fn check_fit(fit: Fit, format: &Format) -> Result<(), PackError> {
    if format.abilities.volumes {
        CellLength::within(fit.volume_limit()).ok_or(SealError::from(WriteError::NO_ROOM))?;
    }
    Ok(())
}

/// Reads everything back from disk, with nothing but the staged files and the credentials, and counts it.
fn read_back(
    sealed: &Sealed,
    credentials: &[Credentials],
    staging: &Staging,
    context: &Context<'_>,
) -> Result<Totals, PackError> {
    let files: Vec<_> = sealed.written.placings.iter().map(|placing| staging.path_of(placing.number)).collect();
    let set = VolumeSet::from_files(&files).map_err(PackError::Regather)?;
    let mut verified = Totals::default();
    for (place, credentials) in credentials.iter().enumerate() {
        let unlocked = SealedReader::unlock(set.clone(), credentials);
        let mut archive = unlocked.map_err(|error| PackError::ReadBack(error.into()))?;
        if archive.index_digest() != sealed.index_digest {
            return Err(PackError::ContentsDiffer);
        }
        // All keyholes lead to the same contents; once is enough.
        if place == 0 {
            verified = verify_contents(&mut archive, context).map_err(PackError::reading_back)?;
        }
    }
    if verified == sealed.totals { Ok(verified) } else { Err(PackError::ContentsDiffer) }
}
