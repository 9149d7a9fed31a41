//! Tables without lines, each row in its tone; and the two-column summaries that end a command. A table fits the terminal: columns that
//! say the least are left out first, then paths are shortened in the middle and sentences wrapped; on a narrow terminal each row is a
//! few lines of a list.

use super::paint::{Tone, paint};
use super::text::{self, columns as columns_of, wrapped_behind};
use comfy_table::{CellAlignment, ContentArrangement, Table};

/// A terminal of fewer columns than this gets lists.
const NARROWEST_TABLE: usize = 60;

/// Columns between two cells, and in front of the first.
const GAP: usize = 2;

/// A path or sentence is not made narrower than this; a table that is still too wide becomes a list.
const NARROWEST_CELL: usize = 14;

/// How a column is set, with its heading.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Column {
    /// Words, to the left; wrapped between words where there is little room.
    Text(&'static str),
    /// To the right; never broken.
    Number(&'static str),
    /// A name or path, to the left; shortened in the middle where there is little room.
    Path(&'static str),
    /// Words that are left out where there is little room.
    Aside(&'static str),
    /// A number that is left out where there is little room.
    AsideNumber(&'static str),
    /// A bar, which is the first to be left out.
    Bar,
}

impl Column {
    const fn heading(self) -> &'static str {
        match self {
            Self::Text(name) | Self::Number(name) | Self::Path(name) | Self::Aside(name) | Self::AsideNumber(name) => {
                name
            }
            Self::Bar => "",
        }
    }

    const fn is_right(self) -> bool {
        matches!(self, Self::Number(_) | Self::AsideNumber(_))
    }
}

type Row = (Tone, Vec<String>);

/// The lines of a table, indented, headings first.
pub fn lines(columns: &[Column], rows: &[Row]) -> Vec<String> {
    lines_within(columns, rows, text::terminal_width())
}

fn lines_within(columns: &[Column], rows: &[Row], width: Option<usize>) -> Vec<String> {
    let Some(width) = width else { return drawn(columns, rows) };
    if width < NARROWEST_TABLE {
        return as_list(columns, rows);
    }
    let (mut columns, mut rows) = (columns.to_vec(), rows.to_vec());
    while table_width(&columns, &rows) > width {
        let bar = columns.iter().position(|column| *column == Column::Bar);
        let aside = || columns.iter().rposition(|column| matches!(column, Column::Aside(_) | Column::AsideNumber(_)));
        let Some(place) = bar.or_else(aside) else { break };
        columns.remove(place);
        rows.iter_mut().filter(|(_, row)| place < row.len()).for_each(|(_, row)| drop(row.remove(place)));
    }
    while table_width(&columns, &rows) > width {
        let over = table_width(&columns, &rows) - width;
        let widths = widths(&columns, &rows);
        let can = |place: &usize| {
            matches!(columns[*place], Column::Text(_) | Column::Path(_)) && widths[*place] > NARROWEST_CELL
        };
        let Some(widest) = (0..columns.len()).filter(can).max_by_key(|place| widths[*place]) else {
            return as_list(&columns, &rows);
        };
        let narrower = widths[widest].saturating_sub(over).max(NARROWEST_CELL);
        let narrowed = |cell: &str| match columns[widest] {
            Column::Path(_) => text::middle_shortened(cell, narrower),
            _ => text::filled(cell, narrower),
        };
        for (_, row) in &mut rows {
            if let Some(cell) = row.get_mut(widest) {
                *cell = narrowed(cell);
            }
        }
        // A heading that is wider than all below it, or a cell that cannot be broken.
        if self::widths(&columns, &rows)[widest] == widths[widest] {
            return as_list(&columns, &rows);
        }
    }
    drawn(&columns, &rows)
}

fn widths(columns: &[Column], rows: &[Row]) -> Vec<usize> {
    let cell = |place: usize| {
        let widest = |cell: &String| cell.lines().map(columns_of).max().unwrap_or(0);
        rows.iter().filter_map(|(_, row)| row.get(place)).map(widest).max().unwrap_or(0)
    };
    (0..columns.len()).map(|place| cell(place).max(columns_of(columns[place].heading()))).collect()
}

fn table_width(columns: &[Column], rows: &[Row]) -> usize {
    widths(columns, rows).iter().map(|width| width + GAP).sum()
}

fn drawn(columns: &[Column], rows: &[Row]) -> Vec<String> {
    let mut table = Table::new();
    table.load_style(comfy_table::presets::NOTHING).set_content_arrangement(ContentArrangement::Disabled);
    table.set_header(columns.iter().map(|column| column.heading()));
    for (_, row) in rows {
        table.add_row(row);
    }
    for (place, column) in columns.iter().enumerate() {
        if let Some(set) = table.column_mut(place) {
            set.set_padding((0, 2));
            if column.is_right() {
                set.set_cell_alignment(CellAlignment::Right);
            }
        }
    }
    // A cell that was wrapped makes a row of several lines.
    let height = |row: &Vec<String>| row.iter().map(|cell| cell.lines().count()).max().unwrap_or(1).max(1);
    let of_rows = rows.iter().flat_map(|(tone, row)| std::iter::repeat_n(*tone, height(row)));
    let tones = std::iter::once(Tone::Faint).chain(of_rows);
    let drawn: Vec<String> = table.lines().map(|line| line.trim_end().to_owned()).collect();
    drawn.into_iter().zip(tones).map(|(line, tone)| format!("  {}", paint(tone, line))).collect()
}

/// Each row as its first words, and below them what else there is, each behind its heading. Whoever prints it breaks long lines.
fn as_list(columns: &[Column], rows: &[Row]) -> Vec<String> {
    let titles = |row: &Vec<String>| {
        let named = columns.iter().position(|column| matches!(column, Column::Path(_) | Column::Text(_))).unwrap_or(0);
        row.get(named).cloned().map(|title| (named, title))
    };
    let mut lines = Vec::new();
    for (tone, row) in rows {
        let Some((named, title)) = titles(row) else { continue };
        lines.push(format!("  {}", paint(*tone, title)));
        let rest = columns.iter().zip(row).enumerate();
        let rest =
            rest.filter(|(place, (column, cell))| *place != named && **column != Column::Bar && !cell.is_empty());
        let rest: Vec<String> = rest.map(|(_, (column, cell))| format!("{} {cell}", column.heading())).collect();
        lines.extend((!rest.is_empty()).then(|| format!("    {}", rest.join(", "))));
    }
    lines
}

/// Leaves so many rows, at least three: of more, those between the first ones and the last give way to one that tells how many they
/// are.
pub fn shorten(rows: &mut Vec<Row>, most: usize, hidden: impl FnOnce(usize) -> Vec<String>) {
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn table(width: Option<usize>) -> Vec<String> {
        let columns = [
            Column::Path("file"),
            Column::Number("bytes"),
            Column::Bar,
            Column::Text("state"),
            Column::AsideNumber("left"),
        ];
        let row = |name: &str, state: &str| {
            (Tone::Plain, vec![name.into(), "259,840".into(), "████████████".into(), state.into(), "98 %".into()])
        };
        let rows = [
            row("wrenfall-light/photographs/02 keeper's house.jpg", "intact"),
            row("costs.csv", "damaged in bytes 65,536 to 131,071, and cut short"),
        ];
        let plain = lines_within(&columns, &rows, width).join("\n");
        anstream::adapter::strip_str(&plain).to_string().lines().map(str::to_owned).collect()
    }

    /// Whatever the width: no line is wider, no heading is torn, and a bar is whole or not there.
    #[rstest]
    fn a_table_fits(#[values(60, 72, 80, 90, 100, 120, 140)] width: usize) {
        let lines = table(Some(width));
        assert!(lines.iter().all(|line| columns_of(line) <= width), "{lines:#?}");
        assert!(lines[0].contains("file") && lines[0].contains("bytes") && lines[0].contains("state"), "{lines:#?}");
        assert!(lines.iter().all(|line| !line.contains('█') || line.contains("████████████")), "{lines:#?}");
        assert!(lines.join("\n").contains("house.jpg"), "{lines:#?}");
    }

    #[test]
    fn a_narrow_terminal_gets_a_list() {
        let lines = table(Some(50));
        let expected = [
            "  wrenfall-light/photographs/02 keeper's house.jpg",
            "    bytes 259,840, state intact, left 98 %",
            "  costs.csv",
        ];
        assert_eq!(lines[..3], expected);
    }

    #[test]
    fn what_is_no_terminal_gets_everything() {
        let lines = table(None);
        assert!(lines.len() == 3 && lines[0].ends_with("left") && lines[1].contains("light/photographs"), "{lines:#?}");
    }
}
