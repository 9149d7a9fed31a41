//! For senders: what, how it goes, what the recipient has, how it is protected, where; then a plan, the last yes, and packing,
//! rehearsing and handing over.

use super::lines::{Line, Script};
use super::{Turn, ask_all, choose, read, read_paths, say, step, typed_path};
use crate::failure::{BadValue, DONE, Failure, LOOK};
use crate::settings::Configuration;
use crate::ui::prompt;
use crate::words;
use std::path::{Path, PathBuf};
use under_seal_core::ground::fit::Fit;
use under_seal_core::tasks::pack::target::name_of;

/// What has been answered.
#[derive(Default)]
struct Sender {
    configuration: Configuration,
    sources: Vec<PathBuf>,
    /// The profile or the fit, as it was typed.
    profile: Option<String>,
    fit: Option<(String, Fit)>,
    zip: bool,
    lock: Lock,
    /// The folder for the archive, and for what goes to the recipient.
    work: PathBuf,
    handover: PathBuf,
}

/// How it is protected.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
enum Lock {
    #[default]
    Password,
    MadePassphrase,
    None,
}

/// Asks everything, and then does it.
pub fn run() -> Result<u8, Failure> {
    let mut sender = Sender { configuration: Configuration::load(None)?, ..Sender::default() };
    ask_all(&mut sender, &[what, how_it_goes, what_they_have, how_protected, whereto, last_yes])?;
    let mut script = Script::default();
    let packed = script.run(sender.pack())?;
    // What is only worth a look may be sent; what is incomplete may be what somebody meant to send. Nobody else can tell.
    let may_go_on = match packed {
        DONE => true,
        LOOK => prompt::confirm("Something is to be looked at above. Go on with it all the same?")?,
        _ => false,
    };
    if !may_go_on {
        say("Nothing was rehearsed, and nothing was put together for the recipient.");
        return Ok(packed);
    }
    let rehearsed = script.run(sender.rehearse())?;
    if rehearsed != DONE {
        say("The rehearsal failed. Nothing was put together for the recipient.");
        return Ok(rehearsed);
    }
    match script.run(sender.handover())? {
        DONE => script.show().map(|()| DONE),
        code => Ok(code),
    }
}

fn what(sender: &mut Sender) -> Result<Turn, Failure> {
    step("1. What do you want to send?");
    let Some(sources) = read_paths("Files and folders, each in quotes if its name has spaces", None)? else {
        return Ok(Turn::Back);
    };
    sender.sources = sources;
    sender.pack().show();
    Ok(Turn::Next)
}

/// The ways that are offered, and the fit of each.
const WAYS: [(&str, Option<&str>); 6] = [
    ("[m]ail with 10 MB a message", Some("mail-10")),
    ("[l]arge mail with 25 MB", Some("mail-25")),
    ("[f]orm with 100 MB", Some("form-100")),
    ("[d]isc", Some("disc-700")),
    ("[s]tick", Some("stick")),
    ("[w]hole, in one file", None),
];

fn how_it_goes(sender: &mut Sender) -> Result<Turn, Failure> {
    step("2. How does it go, or to whom?");
    let profiles: Vec<&String> = sender.configuration.profiles.keys().collect();
    let known = if profiles.is_empty() {
        String::new()
    } else {
        format!(
            ", or a recipient of yours ({})",
            crate::ui::text::listed(&profiles.into_iter().cloned().collect::<Vec<_>>())
        )
    };
    let choices: Vec<&str> = WAYS.iter().map(|(written, _)| *written).chain(["[b]ack"]).collect();
    let question = format!("Type a size such as 20MB{known}, or choose.");
    (sender.profile, sender.fit) = match prompt::choose_or_read(&question, &choices, Some(0))? {
        Ok(place) => match WAYS.get(place) {
            Some((_, name)) => (None, name.and_then(|name| Some((name.to_owned(), Fit::named(name)?)))),
            None => return Ok(Turn::Back),
        },
        Err(typed) if sender.configuration.profiles.contains_key(&typed) => {
            let fit = sender.configuration.profiles.get(&typed).and_then(|profile| profile.fit.clone());
            (Some(typed), fit.map(|fit| (fit.text, fit.fit)))
        }
        Err(typed) => match sender.configuration.fit(&typed) {
            Ok(fit) => (None, Some((fit.text, fit.fit))),
            Err(failure @ Failure::Value(BadValue::Fit { .. })) => {
                say(&words::explain(&failure));
                return how_it_goes(sender);
            }
            Err(failure) => return Err(failure),
        },
    };
    sender.pack().show();
    Ok(Turn::Next)
}

fn what_they_have(sender: &mut Sender) -> Result<Turn, Failure> {
    step("3. What does the recipient have?");
    let choices = ["[n]othing but a browser", "[z]ip program, and names and sizes may be seen by anyone"];
    let Some(chosen) = choose("A browser is enough, since a page that opens the archive goes with it.", &choices, 0)?
    else {
        return Ok(Turn::Back);
    };
    sender.zip = chosen == 1;
    sender.pack().show();
    Ok(Turn::Next)
}

fn how_protected(sender: &mut Sender) -> Result<Turn, Failure> {
    step("4. How is it protected?");
    let choices = ["[p]assword that you type", "[m]ade passphrase, shown once", "[n]othing"];
    sender.lock = match choose("Everything is encrypted with it.", &choices, 0)? {
        Some(0) => Lock::Password,
        Some(1) => Lock::MadePassphrase,
        Some(_) => Lock::None,
        None => return Ok(Turn::Back),
    };
    sender.pack().show();
    Ok(Turn::Next)
}

fn whereto(sender: &mut Sender) -> Result<Turn, Failure> {
    step("5. Where does it go?");
    let name = sender.name();
    let usual = format!("{name}-packed");
    let Some(work) = read("A new folder for the archive", Some(&usual))? else { return Ok(Turn::Back) };
    let usual = format!("{name}-to-send");
    let Some(handover) = read("A new folder for everything that the recipient gets", Some(&usual))? else {
        return whereto(sender);
    };
    (sender.work, sender.handover) = (typed_path(&work), typed_path(&handover));
    let taken = [&sender.work, &sender.handover].into_iter().find(|folder| folder.exists());
    if let Some(taken) = taken.map(|folder| crate::ui::text::path(folder)) {
        say(&format!("{taken} is there already. Name another folder."));
        return whereto(sender);
    }
    if sender.work == sender.handover {
        say("These are two folders: the second one holds a copy, with a note and a page. Name another folder.");
        return whereto(sender);
    }
    sender.pack().show();
    Ok(Turn::Next)
}

/// The plan, and the last question before something is written.
fn last_yes(sender: &mut Sender) -> Result<Turn, Failure> {
    step("6. What would come of it?");
    let plan = sender.plan();
    let code = Script::default().run(plan)?;
    if code > LOOK {
        return Ok(Turn::Back);
    }
    step("7. Shall this be done?");
    for line in [sender.pack(), sender.rehearse(), sender.handover()] {
        line.show();
    }
    match choose(
        "It packs, plays the recipient to prove that everything opens, and puts all to send into one folder.",
        &["[y]es", "[q]uit"],
        0,
    )? {
        Some(0) => Ok(Turn::Next),
        Some(_) => Err(Failure::GivenUp),
        None => Ok(Turn::Back),
    }
}

impl Sender {
    /// What the archive is called: like the only source, or the first.
    fn name(&self) -> String {
        self.sources
            .first()
            .and_then(|source| name_of(source))
            .map_or_else(|| "archive".to_owned(), |name| name.to_string_lossy().into_owned())
    }

    /// The archive, as later commands name it.
    fn archive(&self) -> PathBuf {
        if self.zip { self.work.join(format!("{}.zip", self.name())) } else { self.work.clone() }
    }

    fn pack(&self) -> Line {
        let line = self.shaped(Line::of(&["pack"]));
        if self.work == Path::new("") {
            return line;
        }
        let named = if self.zip { self.archive() } else { self.work.join(self.name()) };
        line.with([Path::new("--to"), &named])
    }

    fn plan(&self) -> Line {
        self.shaped(Line::of(&["plan"]))
    }

    /// Sources, and everything that shapes the archive but its place.
    fn shaped(&self, line: Line) -> Line {
        let mut line = line.with(&self.sources);
        if let Some(profile) = &self.profile {
            line = line.with(["--for", profile]);
        } else if let Some((fit, _)) = &self.fit {
            line = line.with(["--fit", fit]);
        }
        // What was answered counts more than what a profile says.
        if self.zip || self.profile.is_some() {
            line = line.with(["--as", if self.zip { "zip" } else { "sealed" }]);
        }
        match self.lock {
            Lock::Password => line,
            Lock::MadePassphrase => line.with(["--make-passphrase"]),
            Lock::None => line.with(["--no-password"]),
        }
    }

    fn rehearse(&self) -> Line {
        let line = Line::of(&["rehearse"]).with([self.archive()]).with(["--against"]);
        let line = line.with(&self.sources);
        let way = self.fit.as_ref().and_then(|(text, fit)| match fit {
            Fit::Message(_) => Some(("mail", text)),
            Fit::Form(_) => Some(("upload", text)),
            _ => None,
        });
        match way {
            Some((way, limit)) if !self.zip => line.with(["--through", way, "--limit", limit]),
            _ => line,
        }
    }

    fn handover(&self) -> Line {
        let line = Line::of(&["handover"]).with([self.archive()]).with([Path::new("--to"), &self.handover]);
        match (&self.profile, &self.fit) {
            (Some(profile), _) => line.with(["--for", profile]),
            (None, Some((fit, Fit::Message(_) | Fit::Disc { .. }))) => line.with(["--fit", fit]),
            _ => line,
        }
    }
}
