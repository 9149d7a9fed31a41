//! A name that is no text, in a format that needs text: how `pack` and `plan` tell what the recipient gets instead.

use super::text::shown;
use serde::Serialize;
use under_seal_core::ground::entry::EntryPath;

/// Where it is, and the path that stands in the archive for it.
#[derive(Serialize)]
pub struct EscapedName {
    path: String,
    inside: String,
}

impl EscapedName {
    pub fn new((path, inside): &(EntryPath, EntryPath)) -> Self {
        Self { path: shown(path.as_bytes()), inside: shown(inside.as_bytes()) }
    }

    pub fn line(&self) -> String {
        format!("{} is called {} in the archive", self.path, self.inside)
    }
}
