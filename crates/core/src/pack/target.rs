//! Where an archive goes and what it is called, from what the user wrote.

use super::Format;
use crate::context::Context;
use crate::place::staging::{self, Leftover, Replaced, StagingError, settle};
use crate::place::{FileError, Folder, absolute};
use crate::volume::names;
use std::ffi::{OsStr, OsString};
use std::io;
use std::os::unix::ffi::OsStrExt as _;
use std::path::{Path, PathBuf};

/// A folder and the archive's name in it, without extension.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Target {
    /// The folder; it need not exist yet.
    pub folder: PathBuf,
    /// The name that all volumes begin with.
    pub stem: OsString,
}

/// Why there is no target.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TargetError {
    /// Several sources (or one without a name of its own), and no name for the archive.
    #[error("the archive needs a name")]
    NeedsName,
}

/// Why a target is not free.
#[derive(Debug, thiserror::Error)]
pub enum WayError {
    /// Volumes with the target's name are there already.
    #[error("{} volumes are there already", .0.len())]
    Taken(Vec<PathBuf>),
    /// An earlier run was cut off while it placed its verified volumes; that is now completed.
    #[error("an earlier run was completed")]
    EarlierRunCompleted(Vec<PathBuf>),
    /// What an earlier run left cannot be settled.
    #[error(transparent)]
    Staging(#[from] StagingError),
    /// The system refused an operation.
    #[error(transparent)]
    File(#[from] FileError),
}

impl Format {
    /// The extension of what is made, with its dot.
    pub const fn extension(self) -> &'static str {
        match self {
            Self::Sealed => names::EXTENSION,
            Self::Zip => ".zip",
            Self::Tar => ".tar",
            Self::TarGz => ".tar.gz",
            Self::TarZst => ".tar.zst",
        }
    }

    /// The open format that a name says by its end, and the name without that.
    pub fn of_name(name: &OsStr) -> Option<(Self, OsString)> {
        [Self::Zip, Self::Tar, Self::TarGz, Self::TarZst].into_iter().find_map(|format| {
            let end = format.extension().as_bytes();
            let (stem, own) = name.as_bytes().split_at_checked(name.len().checked_sub(end.len())?)?;
            let is_one = own.eq_ignore_ascii_case(end) && !stem.is_empty();
            is_one.then(|| (format, OsStr::from_bytes(stem).to_owned()))
        })
    }

    /// What follows the archive's name, if `name` is that of one of its volumes or parts.
    fn suffix_of<'a>(self, name: &'a OsStr, stem: &OsStr) -> Option<&'a str> {
        match self {
            Self::Sealed => names::suffix_of(name, stem),
            Self::Zip => {
                let suffix = std::str::from_utf8(name.as_bytes().strip_prefix(stem.as_bytes())?).ok()?;
                let digits = suffix.strip_prefix(".z").filter(|digits| digits.len() >= 2);
                let is_part = digits.is_some_and(|digits| digits.bytes().all(|byte| byte.is_ascii_digit()));
                (suffix == ".zip" || is_part).then_some(suffix)
            }
            Self::Tar | Self::TarGz | Self::TarZst => {
                let suffix = std::str::from_utf8(name.as_bytes().strip_prefix(stem.as_bytes())?).ok()?;
                (suffix == self.extension()).then_some(suffix)
            }
        }
    }
}

impl Target {
    /// Whether a typed target is a folder to put the archive into: it is there, or ends in `/`.
    pub fn is_folder(to: &Path) -> bool {
        to.as_os_str().as_bytes().ends_with(b"/") || to.is_dir()
    }

    /// `to` as a folder: inside it, called `name`, or else after the only source. `to` as anything else: that very
    /// name. No `to`: the current folder. Our extension, typed or not, is no part of the name.
    ///
    /// # Errors
    /// [`TargetError::NeedsName`].
    pub fn resolve(to: Option<&Path>, name: Option<&OsStr>, sources: &[PathBuf]) -> Result<Self, TargetError> {
        let folder = match to {
            None => PathBuf::from("."),
            Some(to) if Self::is_folder(to) => to.to_owned(),
            Some(to) => {
                let stem = names::without_extension(to.file_name().ok_or(TargetError::NeedsName)?);
                let folder = to.parent().filter(|folder| !folder.as_os_str().is_empty());
                return Ok(Self { folder: folder.unwrap_or(Path::new(".")).to_owned(), stem });
            }
        };
        if let Some(name) = name {
            return Ok(Self { folder, stem: names::without_extension(name) });
        }
        match sources {
            [source] => Ok(Self { folder, stem: name_of(source).ok_or(TargetError::NeedsName)? }),
            _ => Err(TargetError::NeedsName),
        }
    }

    /// Settles what an earlier run left, and says which old volumes of this name are to be
    /// replaced: none, unless `replace` allows it.
    ///
    /// # Errors
    /// [`WayError`]; no volume was touched then.
    pub fn make_way(&self, replace: bool, format: Format, context: &Context<'_>) -> Result<Vec<Replaced>, WayError> {
        let folder = match Folder::open(&self.folder) {
            Err(error) if error.source.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            folder => folder?,
        };
        let leftover = settle(&folder, &self.stem, context)?;
        let names = folder.names()?;
        let mut taken = Vec::new();
        for name in &names {
            if let Some(suffix) = format.suffix_of(name, &self.stem) {
                let (bytes, modified) = folder.size_and_time_of(name)?;
                taken.push(Replaced { suffix: suffix.to_owned(), bytes, modified });
            }
        }
        if taken.is_empty() || replace {
            return Ok(taken);
        }
        let paths = taken.iter().map(|taken| self.path_with(&taken.suffix)).collect();
        Err(match leftover {
            Leftover::Completed => WayError::EarlierRunCompleted(paths),
            _ => WayError::Taken(paths),
        })
    }

    /// Whether a file of this name in the target's folder is a volume of this archive, or its staging folder.
    pub fn is_own_name(&self, name: &OsStr, format: Format) -> bool {
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
        None => source.canonicalize().ok()?.file_name().map(ToOwned::to_owned),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::beside(None, &["demo/dossier"], Ok((".", "dossier")))]
    #[case::trailing_slash(Some("out/"), &["demo/dossier/"], Ok(("out/", "dossier")))]
    #[case::name(Some("out/board"), &["a", "b"], Ok(("out", "board")))]
    #[case::extension_typed(Some("board.useal"), &["a"], Ok((".", "board")))]
    #[case::extension_typed_twice(Some("board.useal.USEAL"), &["a"], Ok((".", "board")))]
    #[case::two_without_a_name(None, &["a", "b"], Err(TargetError::NeedsName))]
    #[case::two_into_a_folder(Some("out/"), &["a", "b"], Err(TargetError::NeedsName))]
    fn a_target_is_what_the_user_means(
        #[case] to: Option<&str>,
        #[case] sources: &[&str],
        #[case] expected: Result<(&str, &str), TargetError>,
    ) {
        let sources: Vec<PathBuf> = sources.iter().map(PathBuf::from).collect();
        let expected = expected.map(|(folder, stem)| Target { folder: folder.into(), stem: stem.into() });
        assert_eq!(Target::resolve(to.map(Path::new), None, &sources), expected);
    }
}
