//! Why an entry of an archive is not extracted, in words.

use crate::ui::text;
use under_seal_core::formats::members::RefusedReason;
use under_seal_core::ground::entry::{MAX_DEPTH, MAX_PATH_BYTES, PathError};
use under_seal_core::landing::NotLandedWhy;

/// Why bytes cannot be a path inside an archive.
pub fn no_path(why: PathError) -> String {
    match why {
        PathError::Empty => "an empty name".to_owned(),
        PathError::Absolute => "an absolute path".to_owned(),
        PathError::Climbs => "a path with . or .. in it".to_owned(),
        PathError::Nul => "a NUL byte in a name".to_owned(),
        PathError::TooLong => format!("a path longer than {MAX_PATH_BYTES} bytes"),
        PathError::TooDeep => format!("a path of more than {MAX_DEPTH} folders"),
    }
}

/// Why a member of an archive in an open format is refused.
pub fn refused(why: RefusedReason) -> String {
    let fixed = match why {
        RefusedReason::Path(why) => return no_path(why),
        RefusedReason::Method(method) => return format!("compression method {method}, which is not read here"),
        RefusedReason::LongPaths => "its path: with the others it is longer than is read here",
        RefusedReason::EmptyLink => "a link that says nothing of where it leads",
        RefusedReason::CutShort => "it is cut short, or damaged",
        RefusedReason::Encryption => "a closed kind of encryption, or patches, which are not read here",
        RefusedReason::Twice => "a second entry of that name",
        RefusedReason::InNoFolder => "an entry inside what is no folder",
        RefusedReason::Sparse => "a file with holes, stored in a way that is not read here",
        RefusedReason::Unstored => {
            "holes, or a second name: together with the others it comes to more than is written here"
        }
        RefusedReason::Compressed => "a file that is compressed within the image, which is not read here",
        RefusedReason::Separator => "a slash within a name",
        RefusedReason::NoTarget => "a second name for what is not in the archive",
        RefusedReason::Special => "neither file, folder nor link",
    };
    fixed.to_owned()
}

/// Above a list of links that no opening makes.
pub const OUTWARD_LINKS: &str = "These links lead outside what is packed. Opening will not make them:";

/// What does not come out of an archive, of everything in it, as a headline has it: `all but 1 link`; `None` where everything does.
pub fn all_but(links: usize, others: usize) -> Option<String> {
    let some = |number: usize, noun| (number > 0).then(|| text::count(number as u64, noun));
    let counted: Vec<String> = [some(links, "link"), some(others, "thing")].into_iter().flatten().collect();
    (!counted.is_empty()).then(|| format!("all but {}", counted.join(" and ")))
}

/// Why something is not landed.
pub const fn not_landed(why: NotLandedWhy) -> &'static str {
    match why {
        NotLandedWhy::AmongUnfinished => {
            "it would lie among unfinished work of this program, which its next run clears up"
        }
        NotLandedWhy::NoLinks => "it is a link, and the system lets no links be made there",
    }
}
