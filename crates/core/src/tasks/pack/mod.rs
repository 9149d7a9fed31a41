//! One whole delivery, from sources to volumes that are proven to open.
//!
//! The order protects the user: nothing is written before the target is known to be free; everything is
//! written under a staging folder; it is read back from disk, unlocked with the password and verified to
//! the last byte; and only then do the volumes get their names, all or none.

pub mod arranging;
mod error;
mod extracting;
pub mod kinds;
pub(in crate::tasks) mod layout;
mod old;
mod open_formats;
mod packed;
mod paging;
mod parcel_error;
pub mod parcels;
mod reading_back;
mod sealing;
mod sealing_parcels;
pub mod since;
pub mod target;
mod tarring;
mod weighing;
mod zipping;

pub use error::PackError;
pub use old::{Loss, OldArchive};
pub use packed::{LeftOut, LoneVolume, Packed, PackedVolume, lone_volumes, outward_links};
pub use target::{Target, TargetError, TargetWish, WayError};
pub(crate) use zipping::zip_headers_bytes;

use crate::codecs::block::Squeeze;
use crate::disk::staging::{Placing, Staging};
use crate::disk::{Folder, resolved};
use crate::formats::abilities::Ability;
use crate::formats::error::ArchiveError;
use crate::formats::reader::ArchiveReader;
use crate::formats::registry::{Format, SEALED, Writing};
use crate::formats::sealed::volume::spares::making::stage_spares;
use crate::formats::sealed::volume::spares::spare_bytes;
use crate::formats::sealed::volume::{CellLength, SpareWish, WriteError};
use crate::formats::sealed::{Fates, KeyCost, OldEntries, ParcelOf, SealError, SealedReader};
use crate::ground::context::{Context, Phase, Progress};
use crate::ground::entry::{Content, EntryKind, EntryPath, Totals};
use crate::ground::fit::Fit;
use crate::ground::secrets::Credentials;
use crate::source::{Catalogue, Choice, Extras, PassedOver, SourceEntry, StreamSource, UnsafeNames};
use crate::tasks::pack::parcels::{Parcel, Weights};
use arranging::Outlook;
use extracting::extracting;
use kinds::kinds;
use packed::summary_of;
use reading_back::read_back;
use sealing::{Carried, FramesToCarry, Job, Sealed, SoFar};
use since::{Changes, State};
use std::collections::{HashMap, HashSet};
use std::path::{Path, PathBuf};

/// What to pack, and into what.
pub struct PackRequest<'a> {
    /// Files and folders.
    pub sources: &'a [PathBuf],
    /// What comes in as a stream, beside them or alone.
    pub stream: Option<&'a StreamSource>,
    /// What of them is packed.
    pub choice: &'a Choice,
    /// Files that are not packed wherever they lie, such as those of the archive that this one builds upon.
    pub own_files: &'a [PathBuf],
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
    /// How many spare volumes there are to be beside the others.
    pub spares: SpareWish,
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
    spares: SpareWish,
    catalogue: Catalogue,
    /// What files were found to have beside their content.
    extras: Extras,
    /// Which parcel of a delivery the old archive is, where there is one.
    parcel: Option<ParcelOf>,
    lone_volumes: Vec<LoneVolume>,
    /// Where there are to be parcels: how they are divided.
    parcels: Option<Division>,
    old: OldArchive,
    /// Files on disk without which nothing is packed, since they take the place of something in the archive.
    needed: HashSet<PathBuf>,
    /// What it builds upon, where it holds only what has changed.
    changes: Option<Changes>,
}

/// A division into parcels, and what is needed for another.
#[derive(Debug)]
struct Division {
    weights: Weights,
    parcels: Vec<Parcel>,
    volume_limit: u64,
}

/// What opens the archives of a delivery, and what an attempt costs.
#[derive(Clone, Copy)]
struct Locks<'a> {
    credentials: &'a [Credentials],
    cost: KeyCost,
}

/// What of another archive goes into a new one.
pub enum OldContents<'a> {
    /// There is no other.
    None,
    /// Files, for the entries of the catalogue that come from it.
    Entries {
        /// The archive.
        archive: &'a mut dyn ArchiveReader,
        /// Whether they may go over as they are stored there, where both archives are ZIP.
        as_stored: bool,
    },
    /// All frames of a sealed archive, beside what the catalogue has; sealed archives only.
    Frames {
        /// The archive.
        reader: &'a mut SealedReader,
        /// Its entries that do not stay as they are.
        fates: Fates,
        /// The ids of those of the catalogue that take the place of one of its.
        ids: &'a HashMap<EntryPath, u64>,
        /// Folders of the catalogue that come before all frames.
        first: &'a HashSet<EntryPath>,
    },
}

/// Every file's content, by its path in the archive, sorted.
type Contents = Vec<(EntryPath, Content)>;

impl<'a> PackRequest<'a> {
    /// Everything below the sources, in one volume, compressed as usual.
    pub fn new(sources: &'a [PathBuf], choice: &'a Choice, target: &'a Target) -> Self {
        Self {
            sources,
            stream: None,
            choice,
            own_files: &[],
            target,
            format: &SEALED,
            fit: Fit::OneVolume,
            squeeze: Squeeze::default(),
            message: "",
            hide_names: false,
            parcels: false,
            spares: SpareWish::NONE,
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
        let old = Self::make_way(request, context)?;
        // An archive that is made inside a source must not be packed into itself, nor an old one that it replaces.
        let folder = resolved(&request.target.folder).ok();
        let own_files = canonical(request.own_files);
        let is_own = |path: &Path| {
            let is_new = path.parent() == folder.as_deref()
                && path.file_name().is_some_and(|name| request.target.is_own_name(name, request.format));
            is_new || own_files.contains(path)
        };
        let Some(stream) = request.stream else {
            let catalogue = Catalogue::gather(request.sources, request.choice, &is_own, context)?;
            return Self::of(request, catalogue, old, context);
        };
        let beside = match request.sources {
            [] => Catalogue::default(),
            sources => Catalogue::gather(sources, request.choice, &is_own, context)?,
        };
        let delivery = Self::of(request, beside.with_stream(stream.clone())?, old, context)?;
        // A stream that breaks off is not there in part.
        Ok(Self { needed: HashSet::from([StreamSource::disk_path()]), ..delivery })
    }

    /// The same of what has changed since another archive led to this state. Compare says what has: nothing at all may have.
    ///
    /// # Errors
    /// [`PackError`], as there.
    pub fn prepare_since(request: &PackRequest<'_>, state: State, context: &Context<'_>) -> Result<Self, PackError> {
        request.format.refuse_what_it_lacks(&[(true, Ability::Changes)])?;
        let whole = Self::prepare(request, context)?;
        let (mut changes, catalogue) = Changes::since(state, whole.catalogue, context)?;
        let needed = std::mem::take(&mut changes.needed);
        let extras = catalogue.extras();
        Ok(Self { catalogue, extras, needed, changes: Some(changes), parcels: None, ..whole })
    }

    /// What has changed, where only that is packed.
    pub fn changes(&self) -> Option<&Changes> {
        self.changes.as_ref()
    }

    /// Refuses what cannot be, and finds what is replaced.
    fn make_way(request: &PackRequest<'_>, context: &Context<'_>) -> Result<OldArchive, PackError> {
        check_fit(request.fit, request.format)?;
        request.format.refuse_what_it_lacks(&[
            (request.parcels, Ability::Parcels),
            (request.stream.is_some(), Ability::Streams),
            (request.choice.attributes, Ability::Attributes),
            (request.fit != Fit::OneVolume, Ability::Volumes),
            (!request.message.is_empty(), Ability::Message),
            (request.hide_names, Ability::HiddenNames),
            (request.spares != SpareWish::NONE, Ability::Spares),
        ])?;
        Ok(request.target.make_way(request.replace, request.format, context)?)
    }

    /// The same for entries each of which says where its content comes from, with what was listed on disk for them: the request's
    /// sources count for nothing. Where one of the files that are `needed` cannot be read, nothing is packed.
    ///
    /// # Errors
    /// [`PackError`], as there.
    pub fn prepare_from(
        request: &PackRequest<'_>,
        entries: Vec<SourceEntry>,
        gathered: Vec<Catalogue>,
        needed: HashSet<PathBuf>,
        context: &Context<'_>,
    ) -> Result<Self, PackError> {
        let text_names = request.format.abilities.text_names.then_some(UnsafeNames::Escape);
        let catalogue = Catalogue::put_together(entries, gathered, text_names)?;
        let old = Self::make_way(request, context)?;
        Ok(Self { needed, ..Self::of(request, catalogue, old, context)? })
    }

    fn of(
        request: &PackRequest<'_>,
        catalogue: Catalogue,
        old: OldArchive,
        context: &Context<'_>,
    ) -> Result<Self, PackError> {
        let extras = catalogue.extras();
        let catalogue = catalogue.as_kept(request.format.abilities.hard_links, request.format.abilities.holes);
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
            spares: request.spares,
            catalogue,
            extras,
            parcel: None,
            lone_volumes: lone_volumes(request.sources),
            old,
            needed: HashSet::new(),
            changes: None,
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
    pub fn pack(self, credentials: &[Credentials], cost: KeyCost, context: &Context<'_>) -> Result<Packed, PackError> {
        self.pack_from(OldContents::None, credentials, cost, context)
    }

    /// The same, with contents of another archive.
    ///
    /// # Errors
    /// [`PackError`]; no volume has a name then, and old ones are as they were.
    pub fn pack_from(
        mut self,
        old: OldContents<'_>,
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
            return self.pack_open(old, password, context);
        }
        let kinds = match self.squeeze {
            Squeeze::None => Vec::new(),
            _ => kinds(&self.catalogue, &[self.squeeze]).map_err(SealError::from)?,
        };
        let (outlook, locks) = (Outlook::new(self.squeeze, &kinds), Locks { credentials, cost });
        // What is made of a parcel is that parcel.
        self.parcel = match &old {
            OldContents::None => None,
            OldContents::Frames { reader, .. } => reader.about().parcel,
            OldContents::Entries { archive, .. } => archive.about().and_then(|about| about.parcel),
        };
        let (staging, mut archives) = match old {
            OldContents::None if self.parcels.is_some() => self.seal_parcels(&outlook, locks, context)?,
            OldContents::None => self.seal_whole(Carried::Nothing, &outlook, locks, context)?,
            OldContents::Frames { reader, fates, ids, first } => {
                let (source, listed) = reader.to_carry().map_err(ArchiveError::from)?;
                let last_id = listed.iter().map(|listed| listed.entry.id).max().unwrap_or(0);
                let old = OldEntries::new(listed, fates).map_err(SealError::from)?;
                let frames = FramesToCarry { source, old: &old, last_id, ids, first };
                let sealed = self.seal_whole(Carried::Frames(frames), &outlook, locks, context)?;
                reader.close_files();
                sealed
            }
            OldContents::Entries { archive, .. } => {
                let sealed = extracting(&mut *archive, &self.catalogue, self.format, context, |pipe| {
                    self.seal_whole(Carried::Piped(pipe), &outlook, locks, context)
                })?;
                archive.close_files();
                sealed
            }
        };
        let (target, old, parcels) = (self.target, self.old, self.parcels.is_some());
        let catalogue = self.catalogue;
        let packs_attributes = catalogue.packs_attributes;
        let folders = catalogue.entries.iter().filter(|entry| entry.kind == EntryKind::Folder).count() as u64;
        // With many entries the catalogue is large, and reading back needs room for the index.
        let (outward_links, left_out, mut passed_over) = summary_of(catalogue);
        drop(self.parcels);
        archives.iter_mut().for_each(|archive| passed_over.append(&mut archive.passed_over));
        let (mut totals, mut verified) = (Totals::default(), Totals::default());
        for archive in &archives {
            totals.add_all(&archive.totals);
        }
        let may_be_empty = self.changes.as_ref().is_some_and(|changes| !changes.removed.is_empty());
        refuse_what_lacks(&totals, &mut passed_over, &self.needed, may_be_empty)?;
        context.tell(Progress::Staged);
        for archive in &archives {
            verified.add_all(&read_back(archive, credentials, &staging, context)?);
            if archive.in_page.is_some() && !paging::is_right(archive, &staging)? {
                return Err(PackError::ContentsDiffer);
            }
        }
        if parcels {
            // Each brings the folders of its files, so that some are in several.
            (totals.folders, verified.folders) = (folders, folders);
        }
        context.go_on()?;
        let placings: Vec<Placing> = archives.iter().flat_map(|archive| archive.written.all_placings()).collect();
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
        let spares = |archive: &Sealed| {
            let bytes = spare_bytes(&archive.written.geometry);
            let spare = |placing: &Placing| (target.path_with(&placing.suffix), bytes);
            archive.written.spares.iter().map(spare).collect::<Vec<_>>()
        };
        Ok(Packed {
            parcels,
            totals,
            verified,
            volumes: archives.iter().flat_map(volumes).collect(),
            spares: archives.iter().flat_map(spares).collect(),
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
            extras: self.extras,
            packs_attributes,
        })
    }

    fn staging(&self, carried_bytes: u64, context: &Context<'_>) -> Result<Staging, PackError> {
        let target = Folder::open_or_create(&self.target.folder)?;
        let staging = Staging::begin(target, &self.target.stem, context)?;
        context.tell(Progress::Begin(Phase::Packing, self.catalogue.total_bytes().saturating_add(carried_bytes)));
        Ok(staging)
    }

    /// What is the same for every archive of the delivery.
    fn job<'a>(&'a self, outlook: &'a Outlook<'a>, Locks { credentials, cost }: Locks<'a>) -> Job<'a> {
        Job {
            catalogue: &self.catalogue,
            entries: &[],
            outlook,
            name: self.target.stem.as_encoded_bytes(),
            squeeze: self.squeeze,
            message: &self.message,
            volume_limit: self.fit.volume_limit(),
            spares: self.spares,
            first_staged: 1,
            opening: &[],
            credentials,
            cost,
            before: SoFar::default(),
            changes: self.changes.as_ref(),
            parcel: self.parcel,
        }
    }

    /// Seals everything into the staged volumes of one archive.
    fn seal_whole(
        &self,
        carried: Carried<'_>,
        outlook: &Outlook<'_>,
        locks: Locks<'_>,
        context: &Context<'_>,
    ) -> Result<(Staging, Vec<Sealed>), PackError> {
        let staging = self.staging(carried.content_bytes(), context)?;
        let in_page = self.format.writing == Some(Writing::Page);
        let opening = if in_page { paging::opening() } else { Vec::new() };
        let entries: Vec<&SourceEntry> = self.catalogue.entries.iter().collect();
        let job = Job { entries: &entries, opening: &opening, ..self.job(outlook, locks) };
        let mut sealed = sealing::seal(&job, carried, &staging, context)?;
        if in_page {
            paging::complete(&mut sealed, &staging, context)?;
        }
        context.tell(Progress::End);
        stage_spares(&mut sealed.written, &staging, context)?;
        Ok((staging, vec![sealed]))
    }
}

/// Files by the paths that the walk finds them under.
pub fn canonical(files: &[PathBuf]) -> HashSet<PathBuf> {
    files.iter().filter_map(|path| resolved(path).ok()).collect()
}

/// Refuses an archive in which there would be nothing, or nothing but folders since all else could not be read; and one that lacks
/// what is needed.
fn refuse_what_lacks(
    totals: &Totals,
    passed_over: &mut Vec<PassedOver>,
    needed: &HashSet<PathBuf>,
    may_be_empty: bool,
) -> Result<(), PackError> {
    if let Some(place) = passed_over.iter().position(|over| needed.contains(&over.disk_path)) {
        return Err(PackError::Needed(passed_over.swap_remove(place)));
    }
    let nothing_to_read = totals.files + totals.links == 0 && !passed_over.is_empty();
    if !may_be_empty && (*totals == Totals::default() || nothing_to_read) {
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
