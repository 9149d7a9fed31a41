//! Tables without lines, each row in its tone; and the two-column summaries that end a command.

use super::paint::{Tone, paint};
use super::text::wrapped_behind;
use comfy_table::{CellAlignment, ContentArrangement, Table};

/// How a column is set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Column {
    /// To the left.
    Text(&'static str),
    /// To the right.
    Number(&'static str),
}

/// The lines of a table, indented, headings first.
pub fn lines(columns: &[Column], rows: &[(Tone, Vec<String>)]) -> Vec<String> {
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(columns.iter().map(|column| match column {
        Column::Text(name) | Column::Number(name) => *name,
    }));
    for (_, row) in rows {
        table.add_row(row);
    }
    for (place, column) in columns.iter().enumerate() {
        if let Some(set) = table.column_mut(place) {
            set.set_padding((0, 2));
            if matches!(column, Column::Number(_)) {
                set.set_cell_alignment(CellAlignment::Right);
            }
        }
    }
    let tones = std::iter::once(Tone::Faint).chain(rows.iter().map(|(tone, _)| *tone));
    let drawn: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
    drawn.into_iter().zip(tones).map(|(line, tone)| format!("  {}", paint(tone, line))).collect()
}

/// Leaves so many rows, at least three: of more, those between the first ones and the last give way to one that tells how many they
/// are.
pub fn shorten(rows: &mut Vec<(Tone, Vec<String>)>, most: usize, hidden: impl FnOnce(usize) -> Vec<String>) {
    let Some(over) = rows.len().checked_sub(most).filter(|over| *over > 0) else { return };
    let (kept, count) = (most.saturating_sub(2), over + 1);
    rows.splice(kept..kept + count, [(Tone::Faint, hidden(count))]);
}

/// A summary: a word on the left, what it says on the right; further lines below it. A word with nothing to say is left
/// out.
pub fn summary(rows: &[(&str, Vec<String>)]) -> Vec<String> {
    let said = rows.iter().filter(|(_, texts)| !texts.is_empty());
    let width = said.map(|(word, _)| word.len()).max().unwrap_or(0);
    let mut lines = Vec::new();
    for (word, texts) in rows {
        for (place, text) in texts.iter().flat_map(|text| wrapped_behind(width + 4, text)).enumerate() {
            let word = if place == 0 { *word } else { "" };
            lines.push(format!("  {}  {text}", paint(Tone::Faint, format!("{word:width$}"))));
        }
    }
    lines
}
