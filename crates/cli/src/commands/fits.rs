//! `fits`: the fits that have a name, how many bytes each gives a volume, and how that is computed.

use super::show;
use crate::args::FitsArguments;
use crate::failure::{DONE, Failure};
use crate::settings::{self, Configuration, Profile};
use crate::ui::paint::{Tone, paint};
use crate::ui::table::{self, Column};
use crate::ui::text::{self, grouped};
use serde::Serialize;
use under_seal_core::ground::fit::{
    DISC_OVERHEAD_BYTES, FORM_OVERHEAD_BYTES, Fit, MESSAGE_OVERHEAD_BYTES, NAMED, SECTOR_BYTES,
};

/// Runs the command; the exit code.
pub fn run(arguments: &FitsArguments) -> Result<u8, Failure> {
    let configuration = Configuration::load(arguments.config.as_deref())?;
    let report = Report::new(&configuration);
    show(&report, &arguments.output, || if arguments.profiles { profile_lines(&report) } else { lines(&report) })?;
    Ok(DONE)
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    configuration: Option<String>,
    fits: Vec<NamedFit>,
    profiles: Vec<StoredProfile>,
}

#[derive(Serialize)]
struct NamedFit {
    name: String,
    volume_bytes: Option<u64>,
    purpose: String,
    computed: String,
    own: bool,
}

#[derive(Serialize)]
struct StoredProfile {
    name: String,
    fit: Option<String>,
    spares: Option<String>,
    squeeze: Option<String>,
    format: Option<String>,
    hide_names: Option<bool>,
    archive_name: Option<String>,
    threads: Option<usize>,
    note_template: Option<String>,
    leave_out: Vec<String>,
    no_litter: Option<bool>,
}

impl Report {
    fn new(configuration: &Configuration) -> Self {
        let built_in = NAMED.iter().map(|(name, fit)| NamedFit::new(name, *fit, purpose(name), false));
        let own = configuration.fits.iter().map(|(name, own)| NamedFit::new(name, own.fit, &own.purpose, true));
        Self {
            command: "fits",
            exit_code: DONE,
            configuration: configuration.path.as_deref().map(text::path),
            fits: built_in.chain(own).collect(),
            profiles: configuration.profiles.iter().map(StoredProfile::new).collect(),
        }
    }
}

impl Report {
    /// The configuration file: the one that was read, or where it would be.
    fn file(&self) -> String {
        let usual = || settings::usual_place().as_deref().map(text::path);
        self.configuration.clone().or_else(usual).unwrap_or_else(|| "the configuration file".to_owned())
    }
}

impl NamedFit {
    fn new(name: &str, fit: Fit, purpose: &str, own: bool) -> Self {
        Self {
            name: text::shown(name.as_bytes()),
            volume_bytes: fit.volume_limit(),
            purpose: text::shown(purpose.as_bytes()),
            computed: computed(fit),
            own,
        }
    }
}

impl StoredProfile {
    fn new((name, profile): (&String, &Profile)) -> Self {
        Self {
            name: text::shown(name.as_bytes()),
            fit: profile.fit.as_ref().map(|fit| fit.text.clone()),
            spares: profile.spares.map(|spares| spares.to_string()),
            squeeze: profile.squeeze.map(|squeeze| squeeze.to_string()),
            format: profile.format.map(|format| format.to_string()),
            hide_names: profile.hide_names,
            archive_name: profile.name.as_ref().map(|name| text::shown(name.as_str().as_bytes())),
            threads: profile.threads.map(|threads| threads.get()),
            note_template: profile.note_template.as_deref().map(text::path),
            leave_out: profile.leave_out.iter().map(|pattern| text::shown(pattern.as_bytes())).collect(),
            no_litter: profile.no_litter,
        }
    }
}

fn purpose(name: &str) -> &'static str {
    match name {
        "mail-10" => "a message where the limit is 10 MB",
        "mail-25" => "a message where the limit is 25 MB",
        "form-100" => "an upload form that takes 100 MB",
        "disc-700" => "a recordable CD of 80 minutes",
        "stick" => "the largest file on a FAT stick",
        "disc-4700" => "a single-layer DVD",
        "disc-25000" => "a single-layer disc of 25 GB",
        _ => "",
    }
}

/// How a fit comes to its bytes.
fn computed(fit: Fit) -> String {
    match fit {
        Fit::OneVolume => "no limit".to_owned(),
        Fit::AtMost(size) => format!("{} bytes, as it stands", grouped(size.bytes())),
        Fit::Message(size) => {
            format!("{} less {}, in base64", grouped(size.bytes()), grouped(MESSAGE_OVERHEAD_BYTES))
        }
        Fit::Form(size) => format!("{} less {}", grouped(size.bytes()), grouped(FORM_OVERHEAD_BYTES)),
        Fit::Disc { sectors } => {
            format!("{} x {} less {}", grouped(sectors), grouped(SECTOR_BYTES), grouped(DISC_OVERHEAD_BYTES))
        }
        Fit::FatFile => "2^32 - 1".to_owned(),
    }
}

fn lines(report: &Report) -> Vec<String> {
    let row = |fit: &NamedFit| {
        let bytes = fit.volume_bytes.map_or("any".to_owned(), grouped);
        (Tone::Plain, vec![fit.name.clone(), bytes, fit.purpose.clone(), fit.computed.clone()])
    };
    let (own, built_in): (Vec<&NamedFit>, Vec<_>) = report.fits.iter().partition(|fit| fit.own);
    let columns =
        [Column::Text("fit"), Column::Number("bytes a volume"), Column::Text("for"), Column::Aside("computed as")];
    let mut lines = vec![paint(Tone::Strong, "Sizes that have a name"), String::new()];
    lines.extend(table::lines(&columns, &built_in.into_iter().map(row).collect::<Vec<_>>()));
    if !own.is_empty() {
        lines.extend([String::new(), paint(Tone::Strong, "Your own"), String::new()]);
        lines.extend(table::lines(&columns, &own.into_iter().map(row).collect::<Vec<_>>()));
    }
    lines.push(String::new());
    let explained = format!(
        "mail-N and form-N are there for any limit of N MB, and a size such as 5MB or 5MiB does as well. A mail program writes an \
         attachment as text, which makes it a third larger; that is counted. \"under-seal help sizes\" says more. Names of your own \
         stand in {}, each under [fits.NAME].",
        report.file()
    );
    lines.extend(text::wrapped(&explained, &std::io::stdout()).lines().map(str::to_owned));
    lines
}

fn profile_lines(report: &Report) -> Vec<String> {
    if report.profiles.is_empty() {
        return vec![format!(
            "There are no recipient profiles. Each stands in {}, under [profiles.NAME].",
            report.file()
        )];
    }
    let or_dash = |value: &Option<String>| value.clone().unwrap_or_else(|| "-".to_owned());
    let row = |profile: &StoredProfile| {
        let mut left_out = profile.leave_out.clone();
        left_out.extend((profile.no_litter == Some(true)).then(|| "litter".to_owned()));
        let left_out = if left_out.is_empty() { "-".to_owned() } else { left_out.join(", ") };
        let cells = vec![
            profile.name.clone(),
            or_dash(&profile.fit),
            or_dash(&profile.spares),
            or_dash(&profile.squeeze),
            or_dash(&profile.format),
            or_dash(&profile.archive_name),
            left_out,
        ];
        (Tone::Plain, cells)
    };
    let columns = [
        Column::Text("profile"),
        Column::Text("fit"),
        Column::Text("spares"),
        Column::Text("squeeze"),
        Column::Text("format"),
        Column::Path("name"),
        Column::Text("left out"),
    ];
    let mut lines = vec![paint(Tone::Strong, "Recipient profiles"), String::new()];
    lines.extend(table::lines(&columns, &report.profiles.iter().map(row).collect::<Vec<_>>()));
    lines.push(String::new());
    lines.push("Use one with --for PROFILE. What is typed counts more.".to_owned());
    lines
}
