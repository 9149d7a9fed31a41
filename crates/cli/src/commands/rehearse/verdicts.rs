//! What a rehearsal says of each step, why it failed, and what to do next.

use super::{noun, through};
use crate::browsers::Browser;
use crate::commands::open::Report as OpenReport;
use crate::commands::since::BuildsUpon;
use crate::ui::suggestion;
use crate::ui::text::{self, bytes, contents, count, number_list, shown, size};
use crate::words;
use under_seal_core::formats::abilities::{Checks, TimesKept};
use under_seal_core::ground::fit::{Fit, NAMED};
use under_seal_core::ground::size::Size;
use under_seal_core::landing::Landed;
use under_seal_core::tasks::handover::Package;
use under_seal_core::tasks::page::PAGE_NAME;
use under_seal_core::tasks::rehearse::carriers::{Trip, Way};
use under_seal_core::tasks::rehearse::{Failed, Rehearsal, Step};

pub(super) fn verdict(
    step: Step,
    package: &Package,
    (rehearsal, all_but): (&Rehearsal, Option<&str>),
    (way, browser): (Way, Option<&Browser>),
) -> String {
    let mut volumes = count(package.count().into(), noun(package));
    if let spares @ 1.. = spares_of(package) {
        volumes.push_str(&format!(" and {}", count(spares.into(), "spare volume")));
    }
    let sealed = package.format().abilities.volumes;
    let keeps_names = package.needs_names();
    let (lost, damaged) = &rehearsal.done_to;
    let received = rehearsal.received.as_ref();
    let landed = received.map(|received| received.opened.landed.clone()).unwrap_or_default();
    let is_lone = matches!(landed, Landed { files: 1, folders: 0, links: 0, .. });
    match step {
        Step::Deliver if lost.is_empty() && damaged.is_empty() => {
            let delivered = delivered(&volumes, keeps_names, &rehearsal.trips, way);
            let losses = rehearsal.losses.filter(|_| way != Way::ByHand);
            losses
                .map_or(delivered.clone(), |losses| format!("{delivered}; {}", words::losses(losses, trip_nouns(way))))
        }
        Step::Deliver => {
            let trips = rehearsal.trips.iter().filter(|trip| trip.lost).count();
            let some = |numbers: &[u32], what: String| {
                (!numbers.is_empty()).then(|| format!("{what} {}", listed_volumes(numbers, package)))
            };
            let of_all = match way {
                Way::ByHand => "lost".to_owned(),
                _ => format!("lost {trips} of {}, with", text::count_of(rehearsal.trips.len() as u64, trip_nouns(way))),
            };
            let done = [some(lost, of_all), some(damaged, "damaged".to_owned())];
            format!("on request: {}", done.into_iter().flatten().collect::<Vec<_>>().join("; "))
        }
        Step::Gather if sealed => "found by their headers".to_owned(),
        Step::Gather if keeps_names => "found by their names, and known by what they hold".to_owned(),
        Step::Gather => "known by what it holds".to_owned(),
        Step::Check if !rehearsal.made_good.is_empty() => {
            let (made_good, one) = (number_list(&rehearsal.made_good), rehearsal.made_good.len() == 1);
            format!("volume{} {made_good} made good by spare volumes", if one { "" } else { "s" })
        }
        Step::Check if sealed => "all here, every check right".to_owned(),
        Step::Check if package.format().abilities.checks == Checks::Checksums => {
            "every entry read to its end, every checksum right".to_owned()
        }
        Step::Check => "every entry read to its end".to_owned(),
        Step::Unlock => "unlocked, with nothing of yours but what was given for it".to_owned(),
        Step::Browse => {
            let browser = browser.map(Browser::name).unwrap_or_default();
            let page = if package.is_in_page() { "the page" } else { PAGE_NAME };
            let saved = if is_lone { "saved the file" } else { "saved everything as one ZIP archive" };
            format!("{page} in {browser} unlocked it and {saved}")
        }
        Step::Open => {
            let all_but = all_but.map(|all_but| format!(", {all_but}")).unwrap_or_default();
            format!("{}, {}{all_but}", contents(landed.files, landed.folders, landed.links), size(landed.bytes))
        }
        Step::Compare => {
            let but = if all_but.is_some() { ", but for what is not extracted" } else { "" };
            format!("{}{but}", same_as(package, browser.is_some(), is_lone))
        }
    }
}

/// In what a recipient's files are the same as the sources.
fn same_as(package: &Package, in_browser: bool, is_lone: bool) -> &'static str {
    match package.format().abilities {
        abilities if abilities.times == TimesKept::Neither => "the same as the source, in every byte",
        _ if in_browser && is_lone => {
            "the same as the source, in every byte; a browser saves a lone file without its mode and time"
        }
        abilities if !abilities.volumes || in_browser => {
            "the same as the sources, in every byte and mode, and in times to the second"
        }
        _ => "the same as the sources, in every byte, time and mode",
    }
}
/// How many spare volumes go with it.
fn spares_of(package: &Package) -> u32 {
    match package {
        Package::Volumes { set, .. } => u32::try_from(set.spares.len()).unwrap_or(u32::MAX),
        Package::Archive(_) => 0,
    }
}

/// Numbers of volumes; those of spare ones follow those of the data volumes.
fn listed_volumes(numbers: &[u32], package: &Package) -> String {
    let (data, spares): (Vec<u32>, Vec<u32>) = numbers.iter().partition(|number| **number <= package.count());
    let spares: Vec<u32> = spares.iter().map(|number| number - package.count()).collect();
    match (data.as_slice(), spares.as_slice()) {
        (data, []) => number_list(data),
        ([], spares) => format!("spare {}", number_list(spares)),
        (data, spares) => format!("{} and spare {}", number_list(data), number_list(spares)),
    }
}

/// What goes this way at once, one and several.
const fn trip_nouns(way: Way) -> (&'static str, &'static str) {
    match way {
        Way::ByHand => ("volume", "volumes"),
        Way::Mail { .. } => ("message", "messages"),
        Way::Media { .. } => ("medium", "media"),
        Way::Upload { .. } => ("upload", "uploads"),
    }
}

/// What came through, and how.
fn delivered(volumes: &str, keeps_names: bool, trips: &[Trip], way: Way) -> String {
    let named = |other: &'static str| if keeps_names { "the names that they need" } else { other };
    let many = trips.len() as u64;
    match way {
        Way::ByHand => format!("{volumes} under {}, the last first", named("other names")),
        Way::Mail { limit } => {
            let names = named("other names");
            format!("{volumes} in {} within {}; {names}, another order", count(many, "message"), bytes(limit))
        }
        Way::Media { capacity, .. } => {
            let media = if many == 1 { "1 medium".to_owned() } else { format!("{many} media") };
            format!("{volumes} on {media} of {}, one at a time; {}", bytes(capacity), named("short names"))
        }
        Way::Upload { limit } => {
            let broken: u32 = trips.iter().map(|trip| trip.broken_off).sum();
            let broken = count(broken.into(), "transfer");
            format!("{volumes} in requests within {}; {broken} broke off and went on", bytes(limit))
        }
    }
}

/// What was refused, where a volume, in what it travels, is longer than the way takes.
fn refused(trips: &[Trip], package: &Package, way: Way) -> String {
    let mut numbers: Vec<u32> = trips.iter().flat_map(|trip| trip.volumes.clone()).collect();
    numbers.sort_unstable();
    let longest = bytes(trips.iter().map(|trip| trip.bytes).max().unwrap_or(0));
    let limit = bytes(through(way).map_or(0, |(_, limit)| limit));
    let which = listed_volumes(&numbers, package);
    match way {
        Way::Mail { .. } => format!("the mailbox takes {limit}, and refused {which}: as messages up to {longest}"),
        Way::Upload { .. } => format!("the form takes {limit}, and refused {which}: as requests up to {longest}"),
        _ => format!("a medium takes no such file: {which}, up to {longest}"),
    }
}

pub(super) fn why(failed: &Failed, package: &Package, way: Way) -> String {
    match failed {
        Failed::Refused(trips) => refused(trips, package, way),
        Failed::Gather(error) => words::gather(error),
        Failed::NotWhole { missing, damaged, spares } => {
            let wrong = text::missing_and_damaged(noun(package), missing, damaged);
            match spares {
                0 => wrong,
                1 => format!("{wrong}; the spare volume that arrived does not make all of that good"),
                spares => format!("{wrong}; the {spares} spare volumes that arrived do not make all of that good"),
            }
        }
        Failed::Archive(error) => words::archive(error),
        Failed::Unknown => "what arrived is of no known format".to_owned(),
        Failed::Unlock(error) => words::sealed(error),
        Failed::Page(said) => format!("the page said: {}", shown(said.as_bytes())),
        Failed::Open(error) => words::opening(error),
        Failed::Differs => "what was extracted is not what is inside".to_owned(),
        Failed::NoBase(base) => {
            let BuildsUpon { archive, made, .. } = base.into();
            format!(
                "it holds only what has changed since {archive} of {made}, and the recipient who is played has not opened that"
            )
        }
        Failed::SourcesChanged => "the archive is good, and the sources have changed since it was packed".to_owned(),
    }
}

pub(super) fn next(
    rehearsal: &Rehearsal,
    (as_requested, opened): (bool, Option<&OpenReport>),
    package: &Package,
    way: Way,
) -> String {
    let failed = rehearsal.failed.as_ref();
    if let Some(Failed::Refused(_)) = failed {
        return smaller(package, way);
    }
    let sealed = package.format().abilities.volumes;
    let (lost, damaged) = &rehearsal.done_to;
    let next = match failed {
        None if opened.is_some_and(|opened| opened.all_but().is_some()) => {
            "Next: leave out or replace what the recipient will not get, and pack again. Or send it as it is, and tell the recipient."
        }
        None if sealed && package.count() > 1 && package.is_secret() => {
            "Next: send all volumes, and share the password another way, for example by phone."
        }
        None if package.is_secret() => "Next: send it, and share the password another way, for example by phone.",
        None => "Next: send it.",
        Some(_) if as_requested => {
            "The losses and damage that you asked for were named exactly. Rehearse without them to see the rest."
        }
        Some(_) if !(sealed || lost.is_empty() && damaged.is_empty()) => {
            "The losses and damage that you asked for were noticed. Rehearse without them to see the rest."
        }
        Some(Failed::Gather(_) | Failed::NotWhole { .. }) if !lost.is_empty() => {
            "What you asked to be lost is more than the recipient can do without. Rehearse with less to see what is."
        }
        Some(Failed::NoBase(_)) => "Next: add --after with what the recipient has opened before, the oldest first.",
        Some(Failed::SourcesChanged) => {
            "Next: see what changed with compare, and pack again if the recipient needs it."
        }
        Some(Failed::Page(_)) => {
            "Next: follow what the page said. This program checked and unlocked what arrived, and it is whole."
        }
        Some(Failed::Unlock(_)) => "Next: give the password that the recipient will have.",
        Some(_) => "Next: do not send this. Pack again, and rehearse that.",
    };
    next.to_owned()
}

/// What goes this way instead.
fn smaller(package: &Package, way: Way) -> String {
    let limit = way.volume_limit().unwrap_or(0);
    let fit = fit_for(way).unwrap_or_else(|| limit.to_string());
    let path = match package {
        Package::Volumes { set, .. } => set.any_file().map(|file| file.spot.path.clone()),
        Package::Archive(_) => None,
    };
    let Some(path) = path else {
        return format!("Next: pack again with --fit {fit} (volumes of at most {}), and rehearse that.", bytes(limit));
    };
    let cut = suggestion::cut(&path, &fit);
    format!("Next: cut it into volumes of at most {}, and rehearse those:\n{cut}", bytes(limit))
}

/// The name of the fit for a way, where it has one.
fn fit_for(way: Way) -> Option<String> {
    match way {
        Way::Mail { limit } => Fit::Message(Size::of(limit)).name(),
        Way::Upload { limit } => Fit::Form(Size::of(limit)).name(),
        Way::ByHand | Way::Media { .. } => {
            let named = NAMED.iter().find(|(_, fit)| fit.volume_limit() == way.volume_limit());
            named.map(|(name, _)| (*name).to_owned())
        }
    }
}
