//! A heading with what belongs under it; nothing where there is nothing.

use super::paint::{Tone, paint};

/// An empty line, the heading, and these lines as they are.
pub fn headed(tone: Tone, heading: &str, body: Vec<String>) -> Vec<String> {
    if body.is_empty() {
        return body;
    }
    [String::new(), paint(tone, heading)].into_iter().chain(body).collect()
}

/// The same with items, each on a line of its own.
pub fn listed(tone: Tone, heading: &str, items: &[String]) -> Vec<String> {
    first_listed(tone, heading, items, items.len())
}

/// The same with no more items than these.
pub fn first_listed(tone: Tone, heading: &str, items: &[String], most: usize) -> Vec<String> {
    let mut body: Vec<String> = items.iter().take(most).map(|item| format!("  {item}")).collect();
    let more = items.len().saturating_sub(most);
    body.extend((more > 0).then(|| format!("  and {more} more (--json lists all)")));
    headed(tone, heading, body)
}
