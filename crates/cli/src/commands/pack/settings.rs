//! `pack --show-settings`: what a run would use, and where each value comes from.

use crate::args::WorkArguments;
use crate::commands::show as show_report;
use crate::failure::{DONE, Failure};
use crate::settings::{Chosen, Settings};
use crate::ui::paint::{Tone, paint};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, grouped};
use serde::Serialize;

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    configuration: Option<String>,
    settings: Vec<Setting>,
}

#[derive(Serialize)]
struct Setting {
    name: &'static str,
    value: Option<String>,
    from: String,
}

impl Setting {
    fn new<T>(name: &'static str, chosen: &Chosen<T>, value: impl FnOnce(&T) -> String) -> Self {
        Self { name, value: Some(value(&chosen.value)), from: chosen.from.to_string() }
    }

    fn optional<T>(name: &'static str, chosen: Option<&Chosen<T>>, value: impl FnOnce(&T) -> String) -> Self {
        let unset = Self { name, value: None, from: "built in".to_owned() };
        chosen.map_or(unset, |chosen| Self::new(name, chosen, value))
    }
}

/// Prints the settings; the exit code.
pub fn show(settings: &Settings, work: &WorkArguments) -> Result<u8, Failure> {
    let mut all = vec![
        Setting::new("fit", &settings.fit, |fit| match fit.fit.volume_limit() {
            Some(limit) => format!("{}, at most {} bytes a volume", fit.text, grouped(limit)),
            None => fit.text.clone(),
        }),
        Setting::new("spare volumes", &settings.spares, ToString::to_string),
        Setting::new("squeeze", &settings.squeeze, ToString::to_string),
        Setting::optional("format", settings.format.as_ref(), ToString::to_string),
        Setting::new("hide names", &settings.hide_names, yes_or_no),
        Setting::optional("name", settings.name.as_ref(), |name| name.as_str().to_owned()),
        Setting::optional("threads", settings.threads.as_ref(), ToString::to_string),
        Setting::optional("note template", settings.note_template.as_ref(), |path| text::path(path)),
        Setting::new("no litter", &settings.no_litter, yes_or_no),
    ];
    all.extend(settings.leave_out.iter().map(|pattern| Setting::new("leave out", pattern, String::clone)));
    let report = Report {
        command: "pack",
        exit_code: DONE,
        configuration: settings.configuration.as_deref().map(text::path),
        settings: all,
    };
    show_report(&report, work, || lines(&report))?;
    Ok(DONE)
}

fn lines(report: &Report) -> Vec<String> {
    let row = |setting: &Setting| {
        let value = setting.value.clone().unwrap_or_else(|| unset(setting.name).to_owned());
        (Tone::Plain, vec![setting.name.to_owned(), text::shown(value.as_bytes()), setting.from.clone()])
    };
    let rows: Vec<_> = report.settings.iter().map(row).collect();
    let file = report.configuration.as_ref().map_or("no configuration file".to_owned(), |file| format!("from {file}"));
    let mut lines = vec![paint(Tone::Strong, format!("What this run would use, {file}")), String::new()];
    lines.extend(table::lines(&[Column::Text("setting"), Column::Text("value"), Column::Text("from")], &rows));
    lines
}

fn yes_or_no(value: &bool) -> String {
    if *value { "yes" } else { "no" }.to_owned()
}

/// What an unset value means.
fn unset(name: &str) -> &'static str {
    match name {
        "format" => "by the extension of --to, else sealed",
        "name" => "the source's own",
        "threads" => "one for each core",
        _ => "none",
    }
}
