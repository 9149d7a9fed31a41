//! What is to change: as it is typed, with what is on disk for it, and with what it comes to.

use super::place::Place;
use crate::args::{OnClashName, ReviseArguments};
use crate::commands::list::nothing;
use crate::commands::open::clashes;
use crate::failure::Failure;
use crate::settings::Settings;
use crate::ui::prompt;
use crate::ui::text::{first_few, shown};
use std::path::{Path, PathBuf};
use under_seal_core::Error;
use under_seal_core::disk::resolved;
use under_seal_core::formats::members::path_of;
use under_seal_core::formats::reader::ArchiveReader as _;
use under_seal_core::ground::context::Context;
use under_seal_core::ground::entry::EntryPath;
use under_seal_core::landing::OnClash;
use under_seal_core::source::{Catalogue, Choice, Patterns, expand};
use under_seal_core::tasks::compare::{Comparison, compare};
use under_seal_core::tasks::pack::canonical;
use under_seal_core::tasks::revise::{Edit, EditError, Old, Revision};

/// What is typed.
pub struct Wishes {
    pub refresh: Option<Vec<PathBuf>>,
    add: Vec<PathBuf>,
    remove: Patterns,
    rename: Vec<(EntryPath, EntryPath)>,
    inside: Option<EntryPath>,
    on_clash: Option<OnClashName>,
    choice: Choice,
}

impl Wishes {
    pub fn of(arguments: &ReviseArguments) -> Result<Self, Failure> {
        let path = |text: &String| path_of(text.as_bytes()).map_err(|error| Failure::from(EditError::from(error)));
        let refresh = match &arguments.refresh {
            Some(none) if none.is_empty() => Some(vec![prompt::ask_for_path(
                "Type what it was packed from, a file or a folder: ",
                "What to bring it up to date with is asked for",
                "Name the files and folders that it was packed from behind --refresh.",
            )?]),
            named => named.clone(),
        };
        let pairs = arguments.rename.chunks_exact(2);
        Ok(Self {
            refresh: refresh.map(|sources| expand(&sources)).transpose()?,
            add: expand(&arguments.add)?,
            remove: Patterns::new(&arguments.remove).map_err(|error| Failure::Value(error.into()))?,
            rename: pairs.map(|pair| Ok((path(&pair[0])?, path(&pair[1])?))).collect::<Result<_, Failure>>()?,
            inside: arguments.inside.as_ref().map(path).transpose()?,
            on_clash: arguments.on_clash,
            choice: Settings::choice_alone(&arguments.choice, &arguments.configuration, arguments.work.threads)?,
        })
    }
}

/// What was listed on disk.
pub struct Disk {
    /// What the archive is brought up to date with, and how it differs.
    pub refreshed: Option<(Catalogue, Comparison)>,
    pub added: Option<Catalogue>,
}

impl Disk {
    pub fn gather(old: &mut Old, wishes: &Wishes, place: &Place, context: &Context<'_>) -> Result<Self, Failure> {
        let paths = canonical(&old.reader().paths());
        let folder = resolved(&place.target.folder).ok();
        let is_own = |path: &Path| {
            let is_new = path.parent() == folder.as_deref()
                && path.file_name().is_some_and(|name| place.target.is_own_name(name, place.format));
            is_new || paths.contains(path)
        };
        let gather = |sources: &[PathBuf]| Catalogue::gather(sources, &wishes.choice, &is_own, context);
        let refreshed = match &wishes.refresh {
            None => None,
            Some(sources) => {
                let disk = gather(sources)?;
                let (entries, times) = match old {
                    Old::Sealed(reader) => (reader.entries()?.to_vec(), place.format.abilities.times),
                    Old::Open(archive) => (archive.entries_with_digests(context)?, archive.format.abilities.times),
                };
                let found = compare(&entries, &disk, times, context)?;
                Some((disk, found))
            }
        };
        let added = if wishes.add.is_empty() { None } else { Some(gather(&wishes.add)?) };
        Ok(Self { refreshed, added })
    }

    /// What was listed, for whoever packs it.
    pub fn into_catalogues(self) -> Vec<Catalogue> {
        self.refreshed.map(|(catalogue, _)| catalogue).into_iter().chain(self.added).collect()
    }
}

/// What the archive is to be.
pub struct Planned {
    pub revision: Revision,
    /// Patterns that matched nothing.
    pub unmatched: Vec<String>,
    /// What goes since it is not on disk any more.
    pub gone: Vec<EntryPath>,
}

/// What the archive is to be. Where added files meet others, it is asked what is to become of
/// them.
pub fn planned(old: &Old, wishes: &Wishes, disk: &Disk, context: &Context<'_>) -> Result<Planned, Failure> {
    let decided = wishes.on_clash.map(OnClashName::decided);
    match edited(old, wishes, disk, decided.flatten().unwrap_or_default(), context) {
        Err(Failure::Core(Error::Edit(EditError::Clashes(paths))))
            if prompt::can_ask() && decided.flatten().is_none() =>
        {
            let names: Vec<String> = paths.iter().map(|path| shown(path.as_bytes())).collect();
            let on_clash = clashes::ask(&format!("These are inside already: {}.", first_few(&names)))?;
            edited(old, wishes, disk, on_clash, context)
        }
        outcome => outcome,
    }
}

fn edited(
    old: &Old,
    wishes: &Wishes,
    disk: &Disk,
    on_clash: OnClash,
    context: &Context<'_>,
) -> Result<Planned, Failure> {
    let mut edit = Edit::new(old.entries()?, (context.clock)());
    let gone = match &disk.refreshed {
        Some((catalogue, found)) => edit.refresh(catalogue, found)?,
        None => Vec::new(),
    };
    let unmatched = edit.remove(&wishes.remove);
    for (from, to) in &wishes.rename {
        edit.rename(from, to).map_err(|error| match error {
            EditError::NotThere(path) => nothing(old.reader().listing(), &String::from_utf8_lossy(path.as_bytes())),
            error => error.into(),
        })?;
    }
    if let Some(added) = &disk.added {
        edit.add(added, wishes.inside.as_ref(), on_clash)?;
    }
    Ok(Planned { revision: Revision::of(edit), unmatched, gone })
}
