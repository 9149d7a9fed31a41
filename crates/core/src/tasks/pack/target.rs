//! Where an archive goes and what it is called, from what the user wrote.

use crate::disk::staging::{self, StagingError};
use crate::disk::{Interruption, absolute, interruptible, resolved};
use crate::formats::registry::{ALL, Format};
use crate::formats::sealed::volume::names;
use crate::ground::class::{Classed, ErrorClass};
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf, is_separator};

/// A folder and the archive's name in it, without extension.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Target {
    /// The folder; it need not exist yet.
    pub folder: PathBuf,
    /// The name that all volumes begin with.
    pub stem: OsString,
}

/// What a user wrote of where an archive goes and what it is called.
#[derive(Debug, Clone, Copy)]
pub struct TargetWish<'a> {
    /// A folder, or the archive's own name.
    pub to: Option<&'a Path>,
    /// What it is called in a folder.
    pub name: Option<&'a OsStr>,
    /// What it is made from.
    pub sources: &'a [PathBuf],
    /// The format, where it was said.
    pub format: Option<&'static Format>,
    /// The format where neither that nor the name says any.
    pub usual_format: &'static Format,
}

/// Ends of names by which people know archives that are not written here, beside those of formats that are only read.
const ENDINGS_OF_OTHERS: [&str; 7] = [".tar.xz", ".txz", ".tar.bz2", ".tbz2", ".tbz", ".tar.lz", ".cpio"];

fn ending_of_others(name: &OsStr) -> Option<&'static str> {
    let name = name.to_string_lossy().to_lowercase();
    let only_read =
        ALL.into_iter().filter(|format| format.writing.is_none()).flat_map(|format| format.extensions.iter().copied());
    ENDINGS_OF_OTHERS.into_iter().chain(only_read).find(|ending| name.len() > ending.len() && name.ends_with(ending))
}

/// Why there is no target.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TargetError {
    /// Several sources (or one without a name of its own), and no name for the archive.
    #[error("the archive needs a name")]
    NeedsName,
    /// Its name ends like those of a format that is not written here.
    #[error("{0} is not written")]
    NotWritten(String),
}

/// Why a target is not free.
#[derive(Debug, thiserror::Error)]
pub enum WayError {
    /// Volumes with the target's name are there already.
    #[error("{} volumes are there already", paths.len())]
    Taken {
        /// Where they are.
        paths: Vec<PathBuf>,
        /// Their bytes.
        bytes: u64,
    },
    /// Something has the archive's very name, and is no volume or part of one: it is not replaced.
    #[error("{} is something else", .0.display())]
    SomethingElse(PathBuf),
    /// Volumes of several archives have the target's name, so it is not clear which of them is to be replaced.
    #[error("volumes of several archives are there")]
    SeveralArchives(Vec<PathBuf>),
    /// An earlier run was cut off while it placed its verified volumes; that is now completed.
    #[error("an earlier run was completed")]
    EarlierRunCompleted(Vec<PathBuf>),
    /// What an earlier run left cannot be settled.
    #[error(transparent)]
    Staging(#[from] StagingError),
    /// Something that can end any work.
    #[error(transparent)]
    Interrupted(Interruption),
}

interruptible!(WayError);

impl Classed for WayError {
    fn class(&self) -> ErrorClass {
        match self {
            Self::Interrupted(error) => error.class(),
            Self::Taken { .. } | Self::EarlierRunCompleted(_) => ErrorClass::Unsafe,
            Self::SomethingElse(_) | Self::SeveralArchives(_) => ErrorClass::Unsafe,
            Self::Staging(error) => error.class(),
        }
    }
}

impl Target {
    /// Whether a typed target is a folder to put the archive into: it is there, or ends in `/`, or what else stands between names here.
    pub fn is_folder(to: &Path) -> bool {
        let last = to.as_os_str().as_encoded_bytes().last();
        last.is_some_and(|byte| is_separator(char::from(*byte))) || to.is_dir()
    }

    /// Where an archive goes, what it is called, and its format. `to` as a folder: inside it, called `name`, or else after the
    /// only source. `to` as anything else: that very name, whose end may say the format, and is no part of the name then.
    /// No `to`: the current folder.
    pub fn resolve(wish: &TargetWish<'_>) -> Result<(Self, &'static Format), TargetError> {
        let otherwise = wish.format.unwrap_or(wish.usual_format);
        let folder = match wish.to {
            None => PathBuf::from("."),
            Some(to) if Self::is_folder(to) => to.to_owned(),
            Some(to) => {
                let name = to.file_name().ok_or(TargetError::NeedsName)?;
                let folder = to.parent().filter(|folder| !folder.as_os_str().is_empty());
                let folder = folder.unwrap_or(Path::new(".")).to_owned();
                let (stem, format) = match (Format::of_name(name), wish.format) {
                    (Some((said, stem)), None) => (stem, said),
                    (Some((said, stem)), Some(typed)) if said == typed => (stem, typed),
                    (None, None) => match ending_of_others(name) {
                        Some(ending) => return Err(TargetError::NotWritten(ending.to_owned())),
                        None => (name.to_owned(), otherwise),
                    },
                    _ => (name.to_owned(), otherwise),
                };
                return Ok((Self { folder, stem }, format));
            }
        };
        if let Some(name) = wish.name {
            return Ok((Self { folder, stem: names::without_extension(name) }, otherwise));
        }
        match wish.sources {
            [source] => Ok((Self { folder, stem: name_of(source).ok_or(TargetError::NeedsName)? }, otherwise)),
            _ => Err(TargetError::NeedsName),
        }
    }

    /// Whether a file of this name in the target's folder is a volume of this archive, or its staging folder.
    pub fn is_own_name(&self, name: &OsStr, format: &Format) -> bool {
        format.suffix_of(name, &self.stem).is_some() || staging::is_folder_of(name, &self.stem)
    }

    /// The path of the volume with this suffix.
    pub fn path_with(&self, suffix: &str) -> PathBuf {
        let mut name = self.stem.clone();
        name.push(suffix);
        absolute(&self.folder).join(name)
    }
}

/// What a source is called: as it was typed, or for `.` and the like, as the system knows it.
pub fn name_of(source: &Path) -> Option<OsString> {
    let own = source.components().next_back().filter(|last| matches!(last, std::path::Component::Normal(_)));
    match own {
        Some(name) => Some(name.as_os_str().to_owned()),
        None => resolved(source).ok()?.file_name().map(ToOwned::to_owned),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::formats::registry::{SEALED, TAR, TAR_GZ, ZIP};
    use rstest::rstest;

    #[rstest]
    #[case::beside(None, None, &["demo/dossier"], Ok((".", "dossier", &SEALED)))]
    #[case::trailing_slash(Some("out/"), None, &["demo/dossier/"], Ok(("out/", "dossier", &SEALED)))]
    #[case::name(Some("out/board"), None, &["a", "b"], Ok(("out", "board", &SEALED)))]
    #[case::extension_typed(Some("board.useal"), None, &["a"], Ok((".", "board", &SEALED)))]
    #[case::extension_typed_twice(Some("board.useal.USEAL"), None, &["a"], Ok((".", "board", &SEALED)))]
    #[case::by_its_end(Some("board.ZIP"), None, &["a"], Ok((".", "board", &ZIP)))]
    #[case::short_for_two(Some("board.tgz"), None, &["a"], Ok((".", "board", &TAR_GZ)))]
    #[case::typed_counts_more(Some("board.zip"), Some(&TAR), &["a"], Ok((".", "board.zip", &TAR)))]
    #[case::not_written(Some("board.tar.xz"), None, &["a"], Err(TargetError::NotWritten(".tar.xz".into())))]
    #[case::not_written_but_named(Some("board.tar.xz"), Some(&ZIP), &["a"], Ok((".", "board.tar.xz", &ZIP)))]
    #[case::two_without_a_name(None, None, &["a", "b"], Err(TargetError::NeedsName))]
    #[case::two_into_a_folder(Some("out/"), None, &["a", "b"], Err(TargetError::NeedsName))]
    fn a_target_is_what_the_user_means(
        #[case] to: Option<&str>,
        #[case] format: Option<&'static Format>,
        #[case] sources: &[&str],
        #[case] expected: Result<(&str, &str, &'static Format), TargetError>,
    ) {
        let sources: Vec<PathBuf> = sources.iter().map(PathBuf::from).collect();
        let expected =
            expected.map(|(folder, stem, format)| (Target { folder: folder.into(), stem: stem.into() }, format));
        let to = to.map(Path::new);
        let wish = TargetWish { to, name: None, sources: &sources, format, usual_format: &SEALED };
        assert_eq!(Target::resolve(&wish), expected);
    }
}
