//! The formats beside each other: what each would come to, and what it hides.

use super::Planning;
use crate::ui::paint::Tone;
use crate::ui::table::{self, Column};
use crate::ui::text::{size, size_range};
use crate::words::as_name;
use serde::Serialize;
use under_seal_core::formats::abilities::{Ability, Hiding};
use under_seal_core::formats::registry::{Format, SEALED};
use under_seal_core::tasks::plan::{Likely, Outline};

/// One format.
#[derive(Serialize)]
pub(super) struct Formatted {
    #[serde(serialize_with = "as_name")]
    pub format: &'static Format,
    bytes: Option<u64>,
    pub at_least: Option<u64>,
    pub at_most: Option<u64>,
    pub files: Option<u64>,
    encrypted: bool,
    hides_names: bool,
}

impl Formatted {
    /// Every format at the chosen squeeze and fit; the sealed one first.
    pub fn all(planning: &Planning<'_>) -> Vec<Self> {
        let settings = planning.settings;
        let (fit, limit) = (settings.fit.value.fit, settings.fit.value.fit.volume_limit());
        // Of those that have volumes, the one that was chosen.
        let format = if planning.format.abilities.volumes { planning.format } else { &SEALED };
        let outline = |bytes| Outline::new(bytes, fit, format);
        let sealed = planning.plan.estimate(settings.squeeze.value.into()).map(|estimate| estimate.stream_bytes);
        let sealed = sealed.map(|Likely { low, likely, high }| Self {
            format,
            bytes: outline(likely).map(|outline| outline.bytes),
            at_least: outline(low).map(|outline| outline.bytes),
            at_most: outline(high).map(|outline| outline.bytes),
            files: outline(likely).map(|outline| outline.volumes.into()),
            encrypted: true,
            hides_names: true,
        });
        let open = planning.formats.iter().map(|one| Self {
            format: one.format,
            bytes: Some(one.bytes.likely),
            at_least: Some(one.bytes.low),
            at_most: Some(one.bytes.high),
            files: match (limit, one.format.abilities.parts) {
                (Some(limit), true) => Some(one.bytes.likely.div_ceil(limit.max(1))),
                (Some(limit), false) => (one.bytes.likely <= limit).then_some(1),
                (None, _) => Some(1),
            },
            encrypted: one.format.can(Ability::Password),
            hides_names: one.format.can(Ability::HiddenNames) && settings.hide_names.value,
        });
        sealed.into_iter().chain(open).collect()
    }
}

/// The table; the format that was chosen stands out.
pub(super) fn format_lines(formats: &[Formatted], chosen: &Format, in_volumes: bool) -> Vec<String> {
    let number = |number: Option<u64>| number.map_or("-".to_owned(), size);
    let row = |one: &Formatted| {
        let likely = match (one.at_least, one.at_most) {
            (low, high) if low == high => "exactly that".to_owned(),
            (low, high) => size_range(low, high),
        };
        let hides = match (one.encrypted, one.hides_names) {
            (true, true) if one.format.abilities.hides_names == Hiding::OnRequest => "all that, with a password",
            (true, true) => "contents, names, sizes and dates",
            (true, false) => "contents, with a password",
            (false, _) => "nothing",
        };
        let mut cells = vec![one.format.name.to_owned(), number(one.bytes), likely];
        if in_volumes {
            cells.push(one.files.map_or("too long".to_owned(), |files| files.to_string()));
        }
        cells.push(hides.to_owned());
        (if *one.format == *chosen { Tone::Strong } else { Tone::Plain }, cells)
    };
    let mut columns = vec![Column::Text("format"), Column::Number("size"), Column::Number("likely")];
    if in_volumes {
        columns.push(Column::Number("files"));
    }
    columns.push(Column::Text("hides"));
    table::lines(&columns, &formats.iter().map(row).collect::<Vec<_>>())
}
