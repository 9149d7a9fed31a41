//! What of the sources is chosen, and under which paths it will stand in the archive: the sender's wishes, as data.
//!
//! A pattern without a slash means a name at any depth; one with slashes means a path's end, and one that begins with
//! a slash, the whole path. A slash at its end means folders only. What is left out takes everything below it along.

use super::text_names::UnsafeNames;
use crate::disk::names::path_of;
use crate::ground::entry::EntryPath;
use globset::{GlobBuilder, GlobSet, GlobSetBuilder};

/// What editors, file managers and systems leave in folders, and nobody means to send.
pub const LITTER: [&str; 21] = [
    "*~",
    "*.swp",
    "*.swo",
    "#*#",
    ".#*",
    "~$*",
    ".~lock.*#",
    "*.tmp",
    "*.bak",
    ".DS_Store",
    "._*",
    "__MACOSX/",
    ".Spotlight-V100/",
    ".Trashes/",
    ".fseventsd/",
    "Thumbs.db",
    "desktop.ini",
    "$RECYCLE.BIN/",
    "System Volume Information/",
    ".Trash-*/",
    "lost+found/",
];

/// A pattern cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the pattern {pattern} cannot be read: {why}")]
pub struct PatternError {
    /// The pattern as it was written.
    pub pattern: String,
    /// What is wrong with it.
    pub why: String,
}

/// Patterns for paths inside the archive.
#[derive(Debug, Clone, Default)]
pub struct Patterns {
    written: Vec<String>,
    folders_only: Vec<bool>,
    globs: GlobSet,
}

impl Patterns {
    /// Reads patterns: `*` and `?` within a name, `**` for any folders, `[a-z]`, `{one,other}`; a backslash makes the
    /// next character plain.
    ///
    /// # Errors
    /// [`PatternError`] names the first that cannot be read.
    pub fn new<T: AsRef<str>>(patterns: impl IntoIterator<Item = T>) -> Result<Self, PatternError> {
        let (mut written, mut folders_only, mut globs) = (Vec::new(), Vec::new(), GlobSetBuilder::new());
        for pattern in patterns {
            let pattern = pattern.as_ref();
            let unreadable = |why: String| PatternError { pattern: pattern.to_owned(), why };
            let (name, only_folders) = pattern.strip_suffix('/').map_or((pattern, false), |name| (name, true));
            let glob = match name.strip_prefix('/') {
                Some(whole) => whole.to_owned(),
                None => format!("**/{}", name.strip_prefix("./").unwrap_or(name)),
            };
            if matches!(name.trim_matches('/'), "" | "." | "./") {
                return Err(unreadable("it is empty".to_owned()));
            }
            let glob = GlobBuilder::new(&glob).literal_separator(true).backslash_escape(true).build();
            globs.add(glob.map_err(|error| unreadable(error.kind().to_string()))?);
            written.push(pattern.to_owned());
            folders_only.push(only_folders);
        }
        let all = || PatternError { pattern: written.join(" "), why: "all together they are too large".to_owned() };
        let globs = globs.build().map_err(|_| all())?;
        Ok(Self { written, folders_only, globs })
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.written.is_empty()
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.written.len()
    }

    /// The patterns as they were written.
    pub fn written(&self) -> &[String] {
        &self.written
    }

    /// The places, in the order in which they were given, of the patterns that this path matches.
    pub fn matching(&self, path: &EntryPath, is_folder: bool) -> Vec<usize> {
        if self.is_empty() {
            return Vec::new();
        }
        let mut places = self.globs.matches(path_of(path.as_bytes()));
        places.retain(|place| is_folder || !self.folders_only[*place]);
        places
    }
}

/// Under which path a source stands in the archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Naming {
    /// Under its own name.
    #[default]
    OwnName,
    /// A folder's contents stand by themselves, without the folder.
    Contents,
    /// With the folders that were typed before it, so that `survey/raw` stays `survey/raw`. An absolute path, and what
    /// comes before a `..`, is left out.
    AsTyped,
}

/// What of the sources is packed.
#[derive(Debug, Clone, Default)]
pub struct Choice {
    /// What is not.
    pub leave_out: Patterns,
    /// Where there are any: nothing else than this, and what lies below it.
    pub only: Patterns,
    /// Whether [`LITTER`] is left out.
    pub no_litter: bool,
    /// Whether what symbolic links lead to is packed in their place.
    pub follow: bool,
    /// Whether folders on other file systems than their source are left out.
    pub one_system: bool,
    /// Whether extended attributes of files are packed.
    pub attributes: bool,
    /// Under which paths the sources stand.
    pub naming: Naming,
    /// Where names must be text (UTF-8): what becomes of the others. `None` where a name may be any bytes.
    pub text_names: Option<UnsafeNames>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::name_at_any_depth("raw", "survey/raw", true, true)]
    #[case::star_within_a_name("*.pts", "survey/raw/scan.pts", false, true)]
    #[case::star_is_not_for_folders("survey*", "survey/raw", true, false)]
    #[case::end_of_a_path("survey/raw", "dossier/survey/raw", true, true)]
    #[case::whole_path("/survey/raw", "dossier/survey/raw", true, false)]
    #[case::whole_path_from_the_top("/dossier/survey", "dossier/survey", true, true)]
    #[case::folders_only("raw/", "survey/raw", false, false)]
    #[case::any_folders("dossier/**/*.pts", "dossier/survey/raw/scan.pts", false, true)]
    #[case::alternatives("*.{jpg,svg}", "a/b.svg", false, true)]
    #[case::as_a_shell_completes_it("./survey", "dossier/survey", true, true)]
    #[case::plain_bracket("\\[old]", "x/[old]", false, true)]
    fn a_pattern_means_what_it_looks_like(
        #[case] pattern: &str,
        #[case] path: &str,
        #[case] is_folder: bool,
        #[case] matches: bool,
    ) {
        let patterns = Patterns::new([pattern]).unwrap();
        assert_eq!(!patterns.matching(&EntryPath::new(path).unwrap(), is_folder).is_empty(), matches);
    }

    #[rstest]
    #[case("")]
    #[case("/")]
    #[case("[a")]
    #[case("{a,b")]
    fn a_pattern_that_cannot_be_read_is_named(#[case] pattern: &str) {
        assert_eq!(Patterns::new(["*.pts", pattern]).unwrap_err().pattern, pattern);
    }

    #[test]
    fn every_pattern_for_litter_can_be_read() {
        assert_eq!(Patterns::new(LITTER).unwrap().len(), LITTER.len());
    }
}
