//! Picking what to take out from a list on the terminal.

use crate::failure::Failure;
use crate::ui::prompt;
use crate::ui::text::{shown, size};
use inquire::ui::{RenderConfig, Styled};
use inquire::{InquireError, MultiSelect};
use std::collections::HashSet;
use std::fmt;
use std::io;
use under_seal_core::ground::entry::{EntryKind, EntryPath, ListedEntry};

/// So many lines of the list are on the screen at once.
const LINES: usize = 20;

/// A line of the list.
struct Line<'a> {
    listed: &'a ListedEntry,
}

impl fmt::Display for Line<'_> {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let path = shown(self.listed.entry.path.as_bytes());
        match self.listed.entry.kind {
            EntryKind::Folder => write!(formatter, "{path}/"),
            EntryKind::File => write!(formatter, "{path}  ({})", size(self.listed.content.size)),
            EntryKind::Link => write!(formatter, "{path} -> {}", shown(&self.listed.entry.link_target)),
        }
    }
}

/// How the list looks: what is taken says so, and a bar stands where the next key counts.
fn look() -> RenderConfig<'static> {
    RenderConfig::empty()
        .with_prompt_prefix(Styled::new("Take out:"))
        .with_highlighted_option_prefix(Styled::new("▌"))
        .with_selected_checkbox(Styled::new("take"))
        .with_unselected_checkbox(Styled::new("   ·"))
        .with_scroll_up_prefix(Styled::new("…"))
        .with_scroll_down_prefix(Styled::new("…"))
}

/// Asks which of the entries at these places are wanted; a folder stands for everything in it.
pub(super) fn pick(entries: &[ListedEntry], offered: &[usize]) -> Result<Vec<usize>, Failure> {
    if !prompt::can_ask() {
        return Err(Failure::NobodyToAsk {
            what: "What to extract is picked on a terminal",
            instead: "Name it with patterns after the volumes.",
        });
    }
    let lines = offered.iter().map(|place| Line { listed: &entries[*place] }).collect();
    let question = MultiSelect::new("what do you want of this?", lines)
        .with_render_config(look())
        .with_page_size(LINES)
        .with_formatter(&|picked| format!("{} taken", picked.len()))
        .with_help_message("Space: take or leave. Letters: narrow the list. Enter: extract. Esc: give up");
    let picked = prompt::while_asking(|| question.raw_prompt());
    let picked = picked.map_err(|error| match error {
        InquireError::IO(error) => Failure::Prompt(error),
        InquireError::OperationCanceled | InquireError::OperationInterrupted => Failure::GivenUp,
        other => Failure::Prompt(io::Error::other(other.to_string())),
    })?;
    if picked.is_empty() {
        return Err(Failure::GivenUp);
    }
    let picked: HashSet<&EntryPath> = picked.iter().map(|option| &option.value.listed.entry.path).collect();
    let is_picked = |place: &usize| {
        let path = &entries[*place].entry.path;
        picked.contains(path) || path.folders_above().any(|folder| picked.contains(&folder))
    };
    Ok(offered.iter().copied().filter(is_picked).collect())
}
