//! `demo`: the whole story on the Wrenfall Light dossier, in a temporary folder, each command as it is typed.

mod comparison;
mod dossier;

use crate::args::DemoArguments;
use crate::failure::{DONE, Failure, MISSING};
use crate::system::{privacy, programs};
use crate::ui::paint::{Tone, paint};
use crate::ui::suggestion::as_typed;
use crate::ui::text;
use crate::words;
use comparison::differences;
use std::fs;
use std::io;
use std::path::Path;
use std::process::{Command, Stdio};
use under_seal_core::disk::{FileAction, FileError};

use super::print_lines;

const PASSPHRASE: &str = "twelve panes of salted glass turn slowly\n";
const WRONG_PASSPHRASE: &str = "twelve panes of salted glass turn quickly\n";

/// Runs the command; the exit code.
pub fn run(arguments: &DemoArguments) -> Result<u8, Failure> {
    if let Some(place) = &arguments.data_to {
        dossier::lay_out(place).map_err(Failure::File)?;
        let at = std::path::absolute(place).unwrap_or_else(|_| place.clone()).join(dossier::NAME);
        print_lines(&[format!("The dossier is in {}", text::path(&at))])?;
        return Ok(DONE);
    }
    let place = privacy::temporary_folder()
        .map_err(|error| file_failure(FileAction::Create, Path::new("a temporary folder"), error))?;
    Story { place: place.path() }.tell()?;
    Ok(DONE)
}

fn cannot_start(error: io::Error) -> Failure {
    Failure::Demonstration(format!("this program cannot be started once more: {}", words::system(&error)))
}

fn file_failure(action: FileAction, path: &Path, error: io::Error) -> Failure {
    Failure::File(FileError::on(action, path)(error))
}

/// The story, told in one folder.
struct Story<'a> {
    place: &'a Path,
}

impl Story<'_> {
    fn tell(&self) -> Result<(), Failure> {
        self.the_sender_packs()?;
        self.the_sender_rehearses()?;
        self.the_note_is_played()?;
        self.the_parts_arrive_in_a_mess()?;
        self.the_recipient_opens()?;
        self.the_files_are_compared()?;
        self.the_board_confirms()
    }

    fn the_sender_packs(&self) -> Result<(), Failure> {
        dossier::lay_out(self.place).map_err(Failure::File)?;
        self.write("passphrase.txt", PASSPHRASE)?;
        self.say("The keeper's office of Wrenfall Light sends a dossier to the heritage board, whose mailbox takes small messages only.")?;
        self.run(&["plan", dossier::NAME, "--fit", "260KB"], DONE)?;
        self.say("Seven volumes it will be. So it is packed.")?;
        self.run(&["pack", dossier::NAME, "--to", "out/", "--fit", "260KB", "--password-from", "passphrase.txt"], DONE)
    }

    fn the_sender_rehearses(&self) -> Result<(), Failure> {
        self.say("Will it open over there? The office plays the board first, with messages that are really composed and read again.")?;
        let rehearse = ["rehearse", "out/", "--against", dossier::NAME, "--through", "mail", "--limit", "500KB"];
        self.run(&[&rehearse[..], &["--password-from", "passphrase.txt"]].concat(), DONE)
    }

    fn the_note_is_played(&self) -> Result<(), Failure> {
        self.say("With the volumes goes a note that says how to open them, and drafts of the messages. What the note says is done as it stands.")?;
        self.run(&["handover", "out/", "--to", "to-send/", "--fit", "mail-1"], DONE)?;
        let rehearse = ["rehearse", "to-send/", "--against", dossier::NAME, "--password-from", "passphrase.txt"];
        self.run(&rehearse, DONE)
    }

    fn the_parts_arrive_in_a_mess(&self) -> Result<(), Failure> {
        self.say("The volumes travel in several messages. They arrive under other names, and one does not arrive.")?;
        let inbox = self.place.join("inbox");
        fs::create_dir(&inbox).map_err(|error| file_failure(FileAction::Create, &inbox, error))?;
        for (sent, arrived) in [
            ("wrenfall-light-01of07.useal", "part (1).useal"),
            ("wrenfall-light-02of07.useal", "ATT00007.bin"),
            ("wrenfall-light-03of07.useal", "dossier.useal"),
            ("wrenfall-light-04of07.useal", "ATT00002.bin"),
            ("wrenfall-light-06of07.useal", "scan.useal.download"),
            ("wrenfall-light-07of07.useal", "wrenfall-light-01of07.useal"),
        ] {
            self.carry(&self.place.join("out").join(sent), arrived)?;
        }
        self.run(&["check", "inbox/"], MISSING)?;
        self.say("The board tells the office that code. The office makes exactly what is missing again, and needs no password for it.")?;
        let slip = self.value_at(&["check", "inbox/", "--json"], "/slip")?;
        self.run(&["resend", "out/", &slip, "--to", "again/"], DONE)?;
        let again = self.place.join("again");
        for file in fs::read_dir(&again).map_err(|error| file_failure(FileAction::Read, &again, error))? {
            let file = file.map_err(|error| file_failure(FileAction::Read, &again, error))?;
            self.carry(&file.path(), "what was missing.useal")?;
        }
        self.say("It comes. The check needs no password either.")?;
        self.run(&["check", "inbox/"], DONE)
    }

    fn the_recipient_opens(&self) -> Result<(), Failure> {
        self.say("The passphrase was told by telephone, and heard wrong.")?;
        self.write("heard.txt", WRONG_PASSPHRASE)?;
        self.run(&["open", "inbox/dossier.useal", "--into", "board/", "--password-from", "heard.txt"], 3)?;
        self.say("Heard right:")?;
        self.write("heard.txt", PASSPHRASE)?;
        self.run(&["open", "inbox/dossier.useal", "--into", "board/", "--password-from", "heard.txt"], DONE)
    }

    fn the_files_are_compared(&self) -> Result<(), Failure> {
        let (sent, opened) = (self.place.join(dossier::NAME), self.place.join("board").join(dossier::NAME));
        let compared = differences(&sent, &opened).map_err(Failure::File)?;
        if let Some(first) = compared.differences.first() {
            return Err(Failure::Demonstration(format!("{first} came back changed")));
        }
        let proof = format!(
            "Compared with the originals, byte for byte: {} entries, with modes, links and times to the nanosecond. All equal.",
            compared.entries
        );
        print_lines(&[paint(Tone::Good, proof)])
    }

    fn the_board_confirms(&self) -> Result<(), Failure> {
        print_lines(&[String::new()])?;
        self.say("The board makes a receipt and reads it out on the telephone. The office types it, and knows.")?;
        let receipt = ["receipt", "inbox/", "--password-from", "heard.txt"];
        self.run(&receipt, DONE)?;
        let code = self.value_at(&[&receipt[..], &["--json"]].concat(), "/receipt")?;
        let by = "the heritage board";
        self.run(&["confirm", "out/", &code, "--by", by, "--password-from", "passphrase.txt"], DONE)
    }

    fn say(&self, sentence: &str) -> Result<(), Failure> {
        print_lines(&[paint(Tone::Strong, sentence), String::new()])
    }

    /// This program, as it would be started by the user.
    fn program(&self, arguments: &[&str]) -> Result<Command, Failure> {
        let mut command = programs::command(std::env::current_exe().map_err(cannot_start)?);
        command.args(arguments).current_dir(self.place).stdin(Stdio::null());
        Ok(command)
    }

    /// Runs this program as the user would, with this exit code expected.
    fn run(&self, arguments: &[&str], expected: u8) -> Result<(), Failure> {
        let typed: Vec<String> = arguments.iter().map(|argument| as_typed(argument.as_ref())).collect();
        print_lines(&[paint(Tone::Look, format!("$ under-seal {}", typed.join(" "))), String::new()])?;
        // Standard error joins standard output, so that the story stays in order.
        let status = self.program(arguments)?.stderr(io::stdout()).status().map_err(cannot_start)?;
        print_lines(&[String::new()])?;
        if status.code() == Some(expected.into()) {
            return Ok(());
        }
        Err(Failure::Demonstration(format!(
            "'under-seal {}' ended with {status} instead of exit code {expected}",
            typed.join(" ")
        )))
    }

    fn write(&self, name: &str, content: &str) -> Result<(), Failure> {
        let path = self.place.join(name);
        fs::write(&path, content).map_err(|error| file_failure(FileAction::Write, &path, error))
    }

    /// What this program's JSON says at a place.
    fn value_at(&self, arguments: &[&str], pointer: &str) -> Result<String, Failure> {
        let output = self.program(arguments)?.output().map_err(cannot_start)?;
        let told = serde_json::from_slice::<serde_json::Value>(&output.stdout).ok();
        let value = told.and_then(|told| Some(told.pointer(pointer)?.as_str()?.to_owned()));
        value.ok_or_else(|| Failure::Demonstration(format!("'under-seal {}' told no {pointer}", arguments.join(" "))))
    }

    fn carry(&self, from: &Path, arrived: &str) -> Result<(), Failure> {
        fs::copy(from, self.place.join("inbox").join(arrived))
            .map(drop)
            .map_err(|error| file_failure(FileAction::Read, from, error))
    }
}
