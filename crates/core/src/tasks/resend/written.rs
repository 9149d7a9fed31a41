//! Slips that stand in a text: in the messages of a file (a recipient's answer, quoted and broken into lines by mail programs), or in
//! the file itself where it holds no messages. Every group of a code checks itself, so words between them are told apart.

use super::Slip;
use crate::disk::{FileAction, FileError, Interruption, Links, open_regular};
use crate::formats::messages::attached::texts;
use crate::formats::sealed::volume::VolumeSet;
use crate::formats::sealed::volume::supplement::Run;
use crate::ground::codes::MAX_GROUPS;
use crate::ground::context::Context;
use std::collections::BTreeSet;
use std::io::Read as _;
use std::path::Path;

/// So much of each text is looked at, in bytes.
const MAX_TEXT_BYTES: usize = 1024 * 1024;

/// Letters and digits of a group.
const GROUP: usize = 5;

/// Everything that the slips of this set ask for which stand in a file's text, in one; `None` where there is none.
///
/// # Errors
/// [`Interruption`].
pub fn asked_in(path: &Path, set: &VolumeSet, context: &Context<'_>) -> Result<Option<Slip>, Interruption> {
    let mut found: Vec<Slip> = Vec::new();
    let mut take = |text: &[u8]| {
        for slip in slips_in(&String::from_utf8_lossy(text)) {
            if slip.is_of(&set.ids, &set.geometry) && !found.contains(&slip) {
                found.push(slip);
            }
        }
    };
    if !texts(path, MAX_TEXT_BYTES, &mut take, context)? {
        let (file, _) = open_regular(path, Links::Follow)?;
        let mut text = Vec::new();
        let read = file.take(MAX_TEXT_BYTES as u64).read_to_end(&mut text);
        read.map_err(FileError::on(FileAction::Read, path))?;
        take(&text);
    }
    let runs = joined(found.iter().flat_map(|slip| slip.runs.iter().copied()).collect());
    let mut slip = found.into_iter().next();
    slip.iter_mut().for_each(|slip| slip.runs.clone_from(&runs));
    Ok(slip)
}

/// Runs that overlap or touch become one.
fn joined(runs: BTreeSet<Run>) -> Vec<Run> {
    let mut joined: Vec<Run> = Vec::new();
    for run in runs {
        match joined.last_mut() {
            Some(last) if run.first <= last.end() => {
                let end = last.end().max(run.end());
                last.count = u32::try_from(end - last.first).unwrap_or(u32::MAX);
            }
            _ => joined.push(run),
        }
    }
    joined
}

/// Every slip in a text. Between its groups there may be what a mail program puts at a line's beginning.
fn slips_in(text: &str) -> Vec<Slip> {
    let is_between = |letter: char| letter == '-' || letter == '>' || letter.is_whitespace();
    let mut slips = Vec::new();
    // A word that is no group ends what could be a code.
    let words: Vec<&str> = text.split(|letter: char| !letter.is_ascii_alphanumeric() && !is_between(letter)).collect();
    for part in words {
        let groups: Vec<&str> = part.split(is_between).filter(|word| !word.is_empty()).collect();
        let mut at = 0;
        while at < groups.len() {
            let most = groups[at..].iter().take(MAX_GROUPS).take_while(|word| word.len() == GROUP).count();
            let read = |length: &usize| Slip::read(&groups[at..at + length].join("-")).ok();
            match (1..=most).rev().find_map(|length| Some((length, read(&length)?))) {
                Some((length, slip)) => {
                    slips.push(slip);
                    at += length;
                }
                None => at += 1,
            }
        }
    }
    slips
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::alone("AC0G9-20G2P-0400D-0000C", 1)]
    #[case::in_a_sentence("Dear keeper, please send AC0G9-20G2P-0400D-0000C again, thank you.", 1)]
    #[case::quoted_and_broken("> It said\n> AC0G9-20G2P-\n> 0400D-0000C\n> and ended", 1)]
    #[case::small_letters("ac0g9-20g2p-0400d-0000c", 1)]
    #[case::twice("AC0G9-20G2P-0400D-0000C or AC0G9-20G2P-0400D-0000C", 2)]
    #[case::among_words_of_five("these words AC0G9-20G2P-0400D-0000C their lamps", 1)]
    #[case::mistyped("AC0G9-20G2P-0400D-0000D", 0)]
    #[case::a_receipt("A80GX-29XMG-PJS46-FYJ1P", 0)]
    fn a_slip_is_found_in_whatever_is_written_around_it(#[case] text: &str, #[case] count: usize) {
        assert_eq!(slips_in(text).len(), count);
    }

    #[test]
    fn what_several_ask_for_is_asked_for_once() {
        let run = |first, count| Run { first, count };
        let runs = BTreeSet::from([run(3, 2), run(4, 3), run(7, 1), run(20, 1)]);
        assert_eq!(joined(runs), [run(3, 5), run(20, 1)]);
    }
}
