//! Tables without lines, each row in its tone; and the two-column summaries that end a command. A table fits the terminal: columns that
//! say the least are left out first, then paths are shortened in the middle and sentences wrapped; on a narrow terminal each row is a
//! few lines of a list.

use super::paint::{Tone, paint};
use super::text::{self, columns as columns_of, wrapped_behind};

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

/// A row's tone, and what is in its cells.
pub type Row = (Tone, Vec<String>);

/// The lines of a table, indented, headings first.
pub fn lines(columns: &[Column], rows: &[Row]) -> Vec<String> {
    lines_within(columns, rows, text::terminal_width())
}

fn lines_within(columns: &[Column], rows: &[Row], width: Option<usize>) -> Vec<String> {
    let mut widest = Widest::new(columns);
    rows.iter().for_each(|row| widest.see(row));
    let fitted = widest.fit_within(width);
    std::iter::once(fitted.heading()).flatten().chain(rows.iter().flat_map(|row| fitted.row(row))).collect()
}

/// How wide the columns of a table have to be for the rows that were seen.
pub struct Widest {
    columns: Vec<Column>,
    widths: Vec<usize>,
}

impl Widest {
    /// As wide as the headings.
    pub fn new(columns: &[Column]) -> Self {
        Self { columns: columns.to_vec(), widths: columns.iter().map(|column| columns_of(column.heading())).collect() }
    }

    /// Makes room for a row.
    pub fn see(&mut self, (_, row): &Row) {
        for (width, cell) in self.widths.iter_mut().zip(row) {
            *width = cell.lines().map(columns_of).fold(*width, usize::max);
        }
    }

    /// The table as it fits the terminal.
    pub fn fit(self) -> Fitted {
        self.fit_within(text::terminal_width())
    }

    fn fit_within(self, width: Option<usize>) -> Fitted {
        let Self { columns, widths } = self;
        let mut fitted = Fitted { kept: (0..columns.len()).collect(), columns, widths, as_list: false };
        let Some(width) = width else { return fitted };
        fitted.as_list = width < NARROWEST_TABLE;
        while !fitted.as_list && fitted.width() > width {
            fitted.as_list = !(fitted.leave_out() || fitted.narrow(width));
        }
        fitted
    }
}

/// A table whose rows are drawn one after another, since all of them together may be more than there is memory for.
pub struct Fitted {
    columns: Vec<Column>,
    /// As wide as each of them is made.
    widths: Vec<usize>,
    /// Those that are not left out.
    kept: Vec<usize>,
    as_list: bool,
}

impl Fitted {
    fn width(&self) -> usize {
        self.kept.iter().map(|place| self.widths[*place] + GAP).sum()
    }

    /// Leaves out the column that says the least; whether there was one.
    fn leave_out(&mut self) -> bool {
        let is_bar = |place: &usize| self.columns[*place] == Column::Bar;
        let is_aside = |place: &usize| matches!(self.columns[*place], Column::Aside(_) | Column::AsideNumber(_));
        let least = self.kept.iter().position(is_bar).or_else(|| self.kept.iter().rposition(is_aside));
        least.map(|least| self.kept.remove(least)).is_some()
    }

    /// Makes the widest column that may be made narrower as narrow as it has to be; whether that was any help.
    fn narrow(&mut self, width: usize) -> bool {
        let can = |place: &usize| {
            let may = matches!(self.columns[*place], Column::Text(_) | Column::Path(_));
            may && self.widths[*place] > NARROWEST_CELL.max(columns_of(self.columns[*place].heading()))
        };
        let widest = self.kept.iter().copied().filter(can).max_by_key(|place| self.widths[*place]);
        let Some(widest) = widest else { return false };
        let least = NARROWEST_CELL.max(columns_of(self.columns[widest].heading()));
        self.widths[widest] = self.widths[widest].saturating_sub(self.width() - width).max(least);
        true
    }

    /// The line of headings; none above a list.
    pub fn heading(&self) -> Vec<String> {
        let headings = self.columns.iter().map(|column| column.heading().to_owned()).collect();
        if self.as_list { Vec::new() } else { self.drawn(&(Tone::Faint, headings)) }
    }

    /// The lines of a row.
    pub fn row(&self, row: &Row) -> Vec<String> {
        if self.as_list { self.listed(row) } else { self.drawn(row) }
    }

    /// One line, or several where words were wrapped.
    fn drawn(&self, (tone, row): &Row) -> Vec<String> {
        let cells = self.kept.iter().filter_map(|place| Some((*place, row.get(*place)?)));
        let cells: Vec<(usize, String)> = cells.map(|(place, cell)| (place, self.narrowed(place, cell))).collect();
        let height = cells.iter().map(|(_, cell)| cell.lines().count()).max().unwrap_or(1).max(1);
        let line = |number: usize| {
            let parts = cells.iter().map(|(place, cell)| {
                let part = cell.lines().nth(number).unwrap_or_default();
                let space = " ".repeat(self.widths[*place].saturating_sub(columns_of(part)));
                if self.columns[*place].is_right() { space + part } else { part.to_owned() + &space }
            });
            let line = parts.collect::<Vec<_>>().join(&" ".repeat(GAP));
            format!("  {}", paint(*tone, line.trim_end()))
        };
        (0..height).map(line).collect()
    }

    fn narrowed(&self, place: usize, cell: &str) -> String {
        let width = self.widths[place];
        match self.columns[place] {
            _ if cell.lines().all(|line| columns_of(line) <= width) => cell.to_owned(),
            Column::Path(_) => text::middle_shortened(cell, width),
            _ => text::filled(cell, width),
        }
    }

    /// Its first words, and below them what else there is, each behind its heading. Whoever prints it breaks long lines.
    fn listed(&self, (tone, row): &Row) -> Vec<String> {
        let is_title = |place: &usize| matches!(self.columns[*place], Column::Path(_) | Column::Text(_));
        let named = self.kept.iter().copied().find(is_title).unwrap_or(0);
        let Some(title) = row.get(named) else { return Vec::new() };
        let says = |place: &usize| *place != named && self.columns[*place] != Column::Bar;
        let rest = self.kept.iter().filter(|place| says(place)).filter_map(|place| {
            let cell = row.get(*place).filter(|cell| !cell.is_empty())?;
            Some(format!("{} {cell}", self.columns[*place].heading()))
        });
        let rest: Vec<String> = rest.collect();
        let below = (!rest.is_empty()).then(|| format!("    {}", rest.join(", ")));
        [format!("  {}", paint(*tone, title))].into_iter().chain(below).collect()
    }
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
