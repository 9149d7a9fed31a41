//! What spare volumes would cost, and how much may be lost then.

use crate::ui::paint::Tone;
use crate::ui::table::{self, Column};
use crate::ui::text::{count, size};
use crate::words::survives;
use serde::Serialize;
use std::collections::BTreeSet;
use under_seal_core::formats::sealed::volume::Groups;
use under_seal_core::ground::fit::Fit;
use under_seal_core::tasks::plan::Outline;

/// So many spare volumes are shown, beside the number that is wished.
const SHOWN: [u32; 3] = [1, 2, 3];

/// What spare volumes would cost.
#[derive(Serialize)]
pub struct Spares {
    wished: u32,
    each_bytes: u64,
    choices: Vec<Choice>,
    #[serde(skip)]
    travels_in: &'static str,
}

/// So many of them.
#[derive(Serialize)]
struct Choice {
    count: u32,
    bytes: u64,
    #[serde(rename = "volume_count")]
    volumes: u32,
    any_may_be_lost: u32,
    #[serde(skip)]
    in_all: u32,
    #[serde(skip)]
    survives: String,
}

impl Spares {
    /// `beside` goes along in as many messages of its own.
    pub fn of(outline: &Outline, wished: u32, (fit, beside): (Fit, u32)) -> Self {
        let groups = Groups::of(outline.volumes);
        let all: BTreeSet<u32> = SHOWN.into_iter().chain((wished > 0).then_some(wished)).collect();
        let choice = |number: u32| Choice {
            count: number,
            bytes: u64::from(number) * outline.spare_bytes,
            volumes: outline.volumes + number,
            in_all: outline.volumes + number + beside,
            any_may_be_lost: groups.survives_any(number),
            survives: survives(outline.volumes, number),
        };
        let travels_in = match fit {
            Fit::Message(_) => "message",
            Fit::Disc { .. } => "disc",
            _ => "file",
        };
        Self { wished, each_bytes: outline.spare_bytes, choices: all.into_iter().map(choice).collect(), travels_in }
    }

    /// What goes along where spare volumes are wished.
    pub fn answer(&self) -> Option<String> {
        let chosen = self.choices.iter().find(|choice| choice.count == self.wished)?;
        let spares = count(chosen.count.into(), "spare volume");
        Some(format!(
            "With them {} {spares}, {}: {}.",
            if chosen.count == 1 { "goes" } else { "go" },
            size(chosen.bytes),
            chosen.survives
        ))
    }

    pub fn lines(&self) -> Vec<String> {
        let row = |choice: &Choice| {
            let tone = if choice.count == self.wished { Tone::Strong } else { Tone::Plain };
            let in_all = count(choice.in_all.into(), self.travels_in);
            (tone, vec![choice.count.to_string(), size(choice.bytes), in_all, choice.survives.clone()])
        };
        let columns = [Column::Number("spares"), Column::Number("more"), Column::Text("in all"), Column::Text("then")];
        table::lines(&columns, &self.choices.iter().map(row).collect::<Vec<_>>())
    }
}
