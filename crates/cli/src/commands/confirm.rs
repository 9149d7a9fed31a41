//! `confirm`: whether a receipt is right, and a ledger of those that were.

use super::receipt::{Made, make};
use super::show;
use crate::args::ConfirmArguments;
use crate::failure::{BadValue, DONE, Failure, LOOK};
use crate::owner;
use crate::places::gather_each;
use crate::ui::paint::{Tone, paint};
use crate::ui::section::listed;
use crate::ui::text::{self, shown};
use serde::Serialize;
use std::slice;
use under_seal_core::ground::entry::Timestamp;
use under_seal_core::tasks::confirm::{Confirmation, Ledger, Line};
use under_seal_core::tasks::receipt::Receipt;

/// Runs the command; the exit code.
pub fn run(arguments: &ConfirmArguments) -> Result<u8, Failure> {
    // Told in groups, it may be typed in groups.
    let told = Receipt::read(&arguments.receipt.join("-")).map_err(|error| Failure::Value(BadValue::Code(error)))?;
    // Of several archives, such as the parcels of a delivery, the receipt says which it is of.
    let sets = gather_each(slice::from_ref(&arguments.archive), &arguments.work)?;
    let of_it = sets.into_iter().find(|set| told.is_of(&set.ids.set));
    let set = of_it.ok_or(Failure::Value(BadValue::OtherReceipt))?.complete()?;
    let Made { archive, receipt: right, .. } = make(set, &arguments.unlock, &arguments.work)?;
    let name = shown(&archive.about().name);
    let ledger = Ledger::beside(archive.set(), &name, owner::key());
    let confirmed = right.confirms(&told);
    let is_it = |one: &Confirmation| one.own && one.line.who == arguments.by && one.line.receipt == told.code();
    let noted = confirmed && !ledger.confirmations().iter().any(is_it);
    if noted {
        ledger.note(Line {
            when: jiff::Timestamp::now().to_string(),
            who: arguments.by.clone(),
            archive: name.clone(),
            set: archive.set().ids.set_text(),
            receipt: told.code(),
            proof: None,
        })?;
    }
    let report = Report {
        command: "confirm",
        exit_code: if confirmed { DONE } else { LOOK },
        archive: name,
        set: archive.set().ids.set_text(),
        confirmed,
        noted,
        ledger: text::path(&ledger.path),
        confirmations: ledger.confirmations(),
    };
    show(&report, &arguments.work, || lines(&report))?;
    Ok(report.exit_code)
}

/// A ledger's point in time, here and to the minute; as it stands, where it is none.
fn here(when: &str) -> String {
    match when.parse::<jiff::Timestamp>() {
        Ok(when) => text::time(Timestamp { seconds: when.as_second(), nanoseconds: 0 }),
        Err(_) => shown(when.as_bytes()),
    }
}

/// The JSON object (docs/json.md).
#[derive(Serialize)]
struct Report {
    command: &'static str,
    exit_code: u8,
    archive: String,
    set: String,
    confirmed: bool,
    noted: bool,
    ledger: String,
    confirmations: Vec<Confirmation>,
}

fn lines(report: &Report) -> Vec<String> {
    let mut lines = match report.confirmed {
        true => vec![paint(
            Tone::Good,
            format!("Yes. Whoever made this receipt had the password and every byte of {}.", report.archive),
        )],
        false => vec![
            paint(Tone::Bad, format!("No. This is not the receipt of {}, although it is well typed.", report.archive)),
            "Next: ask the recipient to check the volumes, and to make the receipt again.".to_owned(),
        ],
    };
    if report.confirmed && !report.noted {
        lines.push("It was noted already, from the same person; nothing was added.".to_owned());
    }
    let of_this = report.confirmations.iter().filter(|confirmation| confirmation.line.set == report.set);
    let told = of_this.map(|Confirmation { line, own }| {
        let who = line.who.as_deref().map_or("somebody".to_owned(), |who| shown(who.as_bytes()));
        let whose = if *own { "" } else { " (not noted by you, or changed since)" };
        format!("{}  {who}{whose}", here(&line.when))
    });
    let told: Vec<String> = told.collect();
    lines.extend(listed(Tone::Strong, "Confirmed so far:", &told));
    lines.extend((!told.is_empty()).then(|| format!("Kept in {}", report.ledger)));
    lines
}
