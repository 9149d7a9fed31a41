//! Names, sizes and lists as they are written for people.

pub use under_seal_core::ground::codes::hexadecimal;
pub use under_seal_core::ground::size::grouped;

use std::ffi::OsStr;
use std::io::IsTerminal;
use std::path::Path;
use std::sync::atomic::{AtomicBool, Ordering};
use under_seal_core::formats::spot::Spot;
use under_seal_core::ground::entry::{EntryKind, Timestamp};

/// A name or path, with control characters (terminal escapes, line breaks), characters that nobody sees or that turn the direction, and
/// bytes that are not UTF-8 shown escaped, so that no name can write anything else on the screen, or pass for another.
pub fn shown(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(bytes.len());
    for chunk in bytes.utf8_chunks() {
        let mut before = ' ';
        for letter in chunk.valid().chars() {
            // In scripts and signs that need them these shape what stands before.
            let shapes = is_shaping(letter) && !before.is_ascii();
            if letter.is_control() || is_invisible(letter) && !shapes {
                text.extend(letter.escape_unicode());
            } else {
                text.push(letter);
                before = letter;
            }
        }
        for byte in chunk.invalid() {
            text.push_str(&format!("\\x{byte:02x}"));
        }
    }
    text
}

/// Characters that are not seen, or turn the direction of what follows, with which a name can feign another (Unicode 17.0: property
/// `Default_Ignorable_Code_Point`, separators of lines and paragraphs, interlinear annotations).
fn is_invisible(letter: char) -> bool {
    matches!(
        letter,
        '\u{AD}'
            | '\u{34F}'
            | '\u{61C}'
            | '\u{115F}'..='\u{1160}'
            | '\u{17B4}'..='\u{17B5}'
            | '\u{180B}'..='\u{180F}'
            | '\u{200B}'..='\u{200F}'
            | '\u{2028}'..='\u{202E}'
            | '\u{2060}'..='\u{206F}'
            | '\u{3164}'
            | '\u{FE00}'..='\u{FE0F}'
            | '\u{FEFF}'
            | '\u{FFA0}'
            | '\u{FFF0}'..='\u{FFFB}'
            | '\u{1BCA0}'..='\u{1BCA3}'
            | '\u{1D173}'..='\u{1D17A}'
            | '\u{E0000}'..='\u{E0FFF}'
    )
}

/// Joiners and variation selectors.
const fn is_shaping(letter: char) -> bool {
    matches!(letter, '\u{200C}' | '\u{200D}' | '\u{FE00}'..='\u{FE0F}')
}

/// A path, as [`shown`].
pub fn path(path: &Path) -> String {
    shown(path.as_os_str().as_encoded_bytes())
}

/// The name of a file, and of what is attached to a message in it, as [`shown`].
pub fn spot(spot: &Spot) -> String {
    let file = spot.path.file_name().map(name).unwrap_or_default();
    match &spot.attached {
        None => file,
        Some(attached) => match &attached.name {
            Some(name) => format!("{file}: {}", shown(name.as_bytes())),
            None => format!("{file}: in message {}", attached.message),
        },
    }
}

/// A name, as [`shown`].
pub fn name(name: &OsStr) -> String {
    shown(name.as_encoded_bytes())
}

/// A path in so many columns at most; of a longer one the middle is left out, since beginning and end tell the most.
pub fn middle_shortened(path: &str, most: usize) -> String {
    if columns(path) <= most {
        return path.to_owned();
    }
    let room = most.saturating_sub(1);
    let fitting = |letters: &mut dyn Iterator<Item = char>, room: usize| -> Vec<char> {
        let mut taken = 0;
        letters
            .take_while(|letter| {
                taken += columns(letter.encode_utf8(&mut [0; 4]));
                taken <= room
            })
            .collect()
    };
    let front: String = fitting(&mut path.chars(), room / 3).into_iter().collect();
    let back: String = fitting(&mut path.chars().rev(), room - columns(&front)).into_iter().rev().collect();
    format!("{front}…{back}")
}

/// An exact number of bytes.
pub fn bytes(number: u64) -> String {
    format!("{} {}", grouped(number), if number == 1 { "byte" } else { "bytes" })
}

/// The units of sizes, each a thousand times the one before.
const UNITS: [&str; 5] = ["bytes", "KB", "MB", "GB", "TB"];

/// Whether every size is written in exact bytes.
static EXACT: AtomicBool = AtomicBool::new(false);

/// Settles how sizes are written from here on.
pub fn write_exact_sizes(exact: bool) {
    EXACT.store(exact, Ordering::Relaxed);
}

/// A size for people, in decimal units: `1.8 MB`; in exact bytes where that is wanted.
pub fn size(number: u64) -> String {
    if EXACT.load(Ordering::Relaxed) { bytes(number) } else { rounded(number) }
}

fn rounded(number: u64) -> String {
    let mut value = number as f64;
    let mut unit = 0;
    while value >= 999.5 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    if unit == 0 {
        return bytes(number);
    }
    let digits = usize::from(value < 99.95);
    format!("{value:.digits$} {}", UNITS[unit])
}

/// A range of sizes; one where both ends are written alike.
pub fn size_range(least: Option<u64>, most: Option<u64>) -> String {
    match (least.map(size), most.map(size)) {
        (Some(least), Some(most)) if least == most => format!("about {least}"),
        (Some(least), Some(most)) => format!("{least} to {most}"),
        _ => "-".to_owned(),
    }
}

/// A count with its noun: `1 file`, `3 files`.
pub fn count(number: u64, noun: &str) -> String {
    format!("{} {noun}{}", grouped(number), if number == 1 { "" } else { "s" })
}

/// `1 entry`, `2 entries`.
pub fn entries(number: u64) -> String {
    if number == 1 { "1 entry".to_owned() } else { format!("{} entries", grouped(number)) }
}

/// `20 files, 7 folders, 1 link`, leaving out what there is none of.
pub fn contents(files: u64, folders: u64, links: u64) -> String {
    let all = [(files, "file"), (folders, "folder"), (links, "link")];
    let some: Vec<String> = all.iter().filter(|(n, _)| *n > 0).map(|(n, noun)| count(*n, noun)).collect();
    if some.is_empty() { "no files".to_owned() } else { some.join(", ") }
}

/// What kind of thing an entry is, in a word.
pub fn kind(kind: EntryKind) -> &'static str {
    match kind {
        EntryKind::File => "file",
        EntryKind::Folder => "folder",
        EntryKind::Link => "link",
    }
}

/// A text of somebody else's, line by line, as [`shown`].
pub fn shown_lines(text: &str) -> Vec<String> {
    text.lines().map(|line| shown(line.as_bytes())).collect()
}

/// A point in time, here: `2026-11-25 09:30`.
pub fn time(time: Timestamp) -> String {
    let nanoseconds = i32::try_from(time.nanoseconds).unwrap_or(0);
    match jiff::Timestamp::new(time.seconds, nanoseconds) {
        Ok(time) => time.to_zoned_datetime(jiff::tz::TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string(),
        // So far away that no calendar has it.
        Err(_) => format!("{} s", time.seconds),
    }
}

/// A stretch of time to glance at.
pub fn duration(seconds: f64) -> String {
    const STEPS: [(f64, &str); 5] =
        [(365.0 * 86_400.0, "year"), (86_400.0, "day"), (3_600.0, "hour"), (60.0, "minute"), (1.0, "second")];
    match STEPS.iter().find(|(length, _)| seconds >= *length) {
        Some((length, unit)) => count((seconds / length).round() as u64, unit),
        None => "less than a second".to_owned(),
    }
}

/// A share as a bar of so many columns at most, in eighths of a column.
pub fn bar(share: f64, columns: usize) -> String {
    const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    let eighths = (share.clamp(0.0, 1.0) * columns as f64 * 8.0).round() as usize;
    let eighths = if share > 0.0 { eighths.max(1) } else { 0 };
    format!("{}{}", "█".repeat(eighths / 8), EIGHTHS[eighths % 8])
}

/// Numbers in order as a list with runs drawn together: `2, 5 to 7 and 9`.
pub fn number_list(numbers: &[u32]) -> String {
    let mut runs: Vec<(u32, u32)> = Vec::new();
    for &number in numbers {
        match runs.last_mut() {
            Some((_, end)) if end.checked_add(1) == Some(number) => *end = number,
            _ => runs.push((number, number)),
        }
    }
    let parts = runs.iter().flat_map(|&(start, end)| match end - start {
        0 => vec![start.to_string()],
        1 => vec![start.to_string(), end.to_string()],
        _ => vec![format!("{start} to {end}")],
    });
    listed(&parts.collect::<Vec<_>>())
}

/// `1 medium`, `2 media`: a number with the word for one or for several.
pub fn count_of(number: u64, (one, several): (&str, &str)) -> String {
    format!("{} {}", grouped(number), if number == 1 { one } else { several })
}

/// `volume 3 is missing, and volumes 4 and 5 are damaged`, of whatever this noun names; nothing where nothing is wrong.
pub fn missing_and_damaged(noun: &str, missing: &[u32], damaged: &[u32]) -> String {
    numbers_with_words(noun, &[(missing, "is missing", "are missing"), (damaged, "is damaged", "are damaged")])
}

/// The same with any words, for one and for several.
pub fn numbers_with_words(noun: &str, all: &[(&[u32], &str, &str)]) -> String {
    let some = |(numbers, one_is, several_are): &(&[u32], &str, &str)| match *numbers {
        [] => None,
        [one] => Some(format!("{noun} {one} {one_is}")),
        several => Some(format!("{noun}s {} {several_are}", number_list(several))),
    };
    all.iter().filter_map(some).collect::<Vec<_>>().join(", and ")
}

/// A sentence that begins with these words.
pub fn capitalized(words: &str) -> String {
    let mut letters = words.chars();
    letters.next().map(|first| first.to_uppercase().chain(letters).collect()).unwrap_or_default()
}

/// A code of many groups, in lines of so many columns at most.
pub fn in_lines(code: &str, columns: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for group in code.split('-') {
        match lines.last_mut().filter(|line| line.len() + 1 + group.len() <= columns) {
            Some(line) => {
                line.push('-');
                line.push_str(group);
            }
            None => lines.push(group.to_owned()),
        }
    }
    lines
}

/// `a, b and c`.
pub fn listed(parts: &[String]) -> String {
    match parts {
        [] => String::new(),
        [only] => only.clone(),
        [front @ .., last] => format!("{} and {last}", front.join(", ")),
    }
}

/// The first few of many, and how many more there are.
pub fn first_few(parts: &[String]) -> String {
    const FEW: usize = 3;
    if parts.len() <= FEW + 1 {
        return listed(parts);
    }
    format!("{} and {} more", parts[..FEW].join(", "), parts.len() - FEW)
}

/// How many columns a terminal on standard output has; `None` for anything else.
pub fn terminal_width() -> Option<usize> {
    std::io::stdout().is_terminal().then(textwrap::termwidth)
}

/// How many columns a text takes, whatever letters are in it.
pub fn columns(text: &str) -> usize {
    textwrap::core::display_width(text)
}

/// A text in lines of so many columns at most.
pub fn filled(text: &str, width: usize) -> String {
    lines_within(text, width).join("\n")
}

/// A line that is wider than a terminal, broken between words, and what is below it indented as it is.
pub fn within_terminal(line: &str) -> String {
    let Some(width) = terminal_width().filter(|width| columns(line) > *width) else { return line.to_owned() };
    let indent: String = line.chars().take_while(|letter| *letter == ' ').collect();
    broken(line, textwrap::Options::new(width).subsequent_indent(&indent)).join("\n")
}

/// Sentences broken between words to suit a terminal; as they are for anything else.
pub fn wrapped(sentences: &str, output: &impl IsTerminal) -> String {
    const WIDEST: usize = 100;
    if !output.is_terminal() {
        return sentences.to_owned();
    }
    filled(sentences, textwrap::termwidth().min(WIDEST))
}

/// The same for what stands on standard output behind so many columns of something else, line by line.
pub fn wrapped_behind(columns: usize, sentences: &str) -> Vec<String> {
    if !std::io::stdout().is_terminal() {
        return vec![sentences.to_owned()];
    }
    lines_within(sentences, textwrap::termwidth().saturating_sub(columns + 1).max(20))
}

fn lines_within(sentences: &str, width: usize) -> Vec<String> {
    broken(sentences, textwrap::Options::new(width))
}

/// A text broken between words, never between a number and its unit.
fn broken(text: &str, options: textwrap::Options<'_>) -> Vec<String> {
    let options = options
        .break_words(false)
        .word_separator(textwrap::WordSeparator::Custom(words_with_units))
        .word_splitter(textwrap::WordSplitter::NoHyphenation);
    textwrap::wrap(text, options).into_iter().map(String::from).collect()
}

/// The words of a line, each with the blanks behind it; a unit belongs to the number in front of it.
fn words_with_units(line: &str) -> Box<dyn Iterator<Item = textwrap::core::Word<'_>> + '_> {
    let begins_word = |at: &usize| {
        let (before, behind) = line.split_at(*at);
        before.ends_with(' ') && !behind.starts_with(' ') && !UNITS.iter().any(|unit| behind.starts_with(unit))
    };
    let inner = line.char_indices().map(|(at, _)| at).filter(|at| *at > 0).filter(begins_word);
    let mut begins: Vec<usize> = std::iter::once(0).chain(inner).collect();
    begins.push(line.len());
    let words: Vec<_> =
        begins.windows(2).map(|bounds| textwrap::core::Word::from(&line[bounds[0]..bounds[1]])).collect();
    Box::new(words.into_iter())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Überblick".as_bytes(), "Überblick")]
    #[case(b"a\x1b[2Jb\n", "a\\u{1b}[2Jb\\u{a}")]
    #[case(b"caf\xe9", "caf\\xe9")]
    #[case("bill\u{202E}gpj.exe".as_bytes(), "bill\\u{202e}gpj.exe")]
    #[case("bill\u{61C}\u{200B}.pdf\u{AD}".as_bytes(), "bill\\u{61c}\\u{200b}.pdf\\u{ad}")]
    #[case("bill\u{200D}\u{FE0F}".as_bytes(), "bill\\u{200d}\\u{fe0f}")]
    #[case("می\u{200C}خواهم ❤\u{FE0F}".as_bytes(), "می\u{200C}خواهم ❤\u{FE0F}")]
    #[case("lamp \u{e0a0}".as_bytes(), "lamp \u{e0a0}")]
    fn no_name_can_write_anything_else(#[case] name: &[u8], #[case] expected: &str) {
        assert_eq!(shown(name), expected);
    }

    #[rstest]
    #[case(&[2], "2")]
    #[case(&[2, 3], "2 and 3")]
    #[case(&[2, 5, 6, 7, 9], "2, 5 to 7 and 9")]
    fn runs_of_numbers_are_drawn_together(#[case] numbers: &[u32], #[case] expected: &str) {
        assert_eq!(number_list(numbers), expected);
    }

    #[rstest]
    #[case(0, "0", "0 bytes")]
    #[case(1, "1", "1 byte")]
    #[case(999, "999", "999 bytes")]
    #[case(1_793_352, "1,793,352", "1.8 MB")]
    #[case(123_456, "123,456", "123 KB")]
    #[case(999_950, "999,950", "1.0 MB")]
    fn sizes_are_exact_or_to_glance_at(#[case] number: u64, #[case] exact: &str, #[case] glance: &str) {
        assert_eq!((grouped(number).as_str(), rounded(number).as_str()), (exact, glance));
    }
}
