//! What files have beside their content, such as further names, holes and extended attributes: whether the archive keeps it, in words and as
//! JSON. The same for whoever packs and for whoever plans.

use crate::ui::text::grouped;
use serde::Serialize;
use under_seal_core::formats::registry::Format;
use under_seal_core::source::Extras;

/// One thing that some files have.
#[derive(Debug, Serialize)]
pub struct Extra {
    what: &'static str,
    how_many: u64,
    is_kept: bool,
    /// What becomes of it, where it is not.
    #[serde(skip)]
    instead: &'static str,
}

/// Everything of which there is any.
pub fn extras(found: Extras, format: &Format, packs_attributes: bool) -> Vec<Extra> {
    let abilities = format.abilities;
    let no_attributes = match abilities.attributes {
        true => "left out: add --attributes to pack them",
        false => "left out: this format has none",
    };
    let all = [
        (
            "names (hard links) of files that have others",
            found.further_names,
            abilities.hard_links,
            "each a file of its own",
        ),
        ("files with holes", found.with_holes, abilities.holes, "the zeros in them are stored"),
        ("files with extended attributes", found.with_attributes.files, packs_attributes, no_attributes),
        (
            "folders with extended attributes",
            found.with_attributes.folders,
            false,
            "left out: those of folders are never packed",
        ),
    ];
    let extra = |(what, how_many, is_kept, instead)| Extra { what, how_many, is_kept, instead };
    all.into_iter().map(extra).filter(|extra| extra.how_many > 0).collect()
}

/// The lines of a summary: what is kept, and what is not.
pub fn rows(extras: &[Extra]) -> [(&'static str, Vec<String>); 2] {
    let told = |is_kept: bool| extras.iter().filter(move |extra| extra.is_kept == is_kept);
    let kept = told(true).map(Extra::counted).collect();
    let not_kept = told(false).map(|extra| format!("{}; {}", extra.counted(), extra.instead)).collect();
    [("kept too", kept), ("not kept", not_kept)]
}

/// The same as sentences: what is not kept first.
pub fn sentences(extras: &[Extra]) -> Vec<String> {
    let [(_, kept), (_, not_kept)] = rows(extras);
    let not_kept = not_kept.into_iter().map(|told| format!("not kept: {told}"));
    not_kept.chain(kept.into_iter().map(|told| format!("kept too: {told}"))).collect()
}

impl Extra {
    fn counted(&self) -> String {
        let (noun, rest) = self.what.split_once(' ').unwrap_or((self.what, ""));
        let noun = if self.how_many == 1 { noun.trim_end_matches('s') } else { noun };
        format!("{} {noun} {rest}", grouped(self.how_many))
    }
}
