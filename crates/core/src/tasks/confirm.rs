//! Confirming: the ledger of receipts that were right, beside the volumes. It is text, a JSON object a line, which anybody may read and
//! write; so each line that a run of this user's has written carries a proof of that.

use crate::disk::{FileError, Links, absolute, append, open_regular};
use crate::formats::sealed::volume::VolumeSet;
use crate::ground::ownership::OwnerKey;
use serde::{Deserialize, Serialize};
use std::io::Read as _;
use std::path::{Path, PathBuf};

/// What the ledger's name ends in.
const SUFFIX: &str = ".confirmed.jsonl";

/// No more of a ledger is read than this, in bytes.
const MAX_LEDGER_BYTES: u64 = 16 * 1024 * 1024;

/// A ledger, whether it is there yet or not.
pub struct Ledger {
    /// Where it is.
    pub path: PathBuf,
    key: OwnerKey,
}

/// A line of the ledger.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Line {
    /// When the receipt was found right (RFC 3339).
    pub when: String,
    /// Who told it, where that is known.
    pub who: Option<String>,
    /// What the archive is called.
    pub archive: String,
    /// Its set's id.
    pub set: String,
    /// The receipt.
    pub receipt: String,
    /// That a run of this user's has written the line, by a key that nobody else has.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proof: Option<String>,
}

/// A line of the ledger, and whether the user's own run has written it so.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Confirmation {
    /// The line, without its proof.
    #[serde(flatten)]
    pub line: Line,
    /// Whether the proof is right.
    pub own: bool,
}

impl Line {
    fn right_proof(&self, key: &OwnerKey) -> String {
        let Self { when, who, archive, set, receipt, .. } = self;
        // Nobody, and somebody without a name, are not the same.
        let who = who.as_ref().map_or(String::new(), |who| format!("by {who}"));
        let parts = [when, &who, archive, set, receipt].map(|part| part.as_bytes());
        key.proof("confirmation", &parts)
    }
}

impl Ledger {
    /// The ledger beside these volumes, named after the archive as it is shown. Whoever made the archive chose its name; it leads
    /// nowhere else.
    pub fn beside(set: &VolumeSet, shown_name: &str, key: OwnerKey) -> Self {
        let folder = set.any_file().and_then(|file| file.spot.path.parent()).unwrap_or(Path::new("."));
        let name = format!("{}{SUFFIX}", shown_name.replace('/', "_"));
        Self { path: absolute(&folder.join(name)), key }
    }

    /// Adds a line, with a proof.
    pub fn note(&self, line: Line) -> Result<(), FileError> {
        let line = Line { proof: Some(line.right_proof(&self.key)), ..line };
        let text = serde_json::to_string(&line).unwrap_or_default() + "\n";
        append(&self.path, text.as_bytes())
    }

    /// What the ledger holds; lines of somebody else's making that are none are passed over.
    pub fn confirmations(&self) -> Vec<Confirmation> {
        let Ok((file, _)) = open_regular(&self.path, Links::Refuse) else { return Vec::new() };
        let mut text = String::new();
        if file.take(MAX_LEDGER_BYTES).read_to_string(&mut text).is_err() {
            return Vec::new();
        }
        let confirmation = |mut line: Line| {
            let own = line.proof.take().is_some_and(|proof| proof == line.right_proof(&self.key));
            Confirmation { line, own }
        };
        text.lines().filter_map(|line| serde_json::from_str(line).ok().map(confirmation)).collect()
    }
}
