//! A desk at which the real program is run: a temporary folder, and what came back from a run.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    dead_code,
    unused_imports,
    reason = "each test file uses its part of this"
)]

pub mod system;

use assert_cmd::cargo::cargo_bin;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

pub const PASSWORD: &str = "twelve panes of salted glass";

pub struct Desk {
    place: tempfile::TempDir,
    has_password: bool,
}

/// What a run of the program gave back.
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl Ran {
    pub fn new(output: Output) -> Self {
        Self {
            code: output.status.code().unwrap_or(-1),
            out: String::from_utf8(output.stdout).unwrap(),
            err: String::from_utf8(output.stderr).unwrap(),
        }
    }

    /// Holds the run to its exit code, and gives it on.
    pub fn expect(self, code: i32) -> Self {
        assert_eq!(self.code, code, "\n{}{}", self.out, self.err);
        assert!(!self.err.contains("panicked"), "{}", self.err);
        self
    }

    /// The value at a JSON pointer (RFC 6901) of the one object on standard output.
    pub fn json(&self, pointer: &str) -> serde_json::Value {
        let object: serde_json::Value = serde_json::from_str(&self.out).unwrap();
        object.pointer(pointer).unwrap_or_else(|| panic!("no {pointer} in {object:#}")).clone()
    }
}

impl Desk {
    pub fn new() -> Self {
        Self { place: tempfile::tempdir().unwrap(), has_password: true }
    }

    /// A desk with the dossier on it, and its seven volumes in `out`.
    pub fn with_volumes() -> Self {
        let desk = Self::new();
        desk.run(&["demo", "--data-to", "."]).expect(0);
        desk.run(&["pack", "wrenfall-light", "--to", "out/", "--fit", "260KB"]).expect(0);
        desk
    }

    /// Whether runs have the password in their environment; they have, unless they are told otherwise here.
    pub fn with_password(self, has_password: bool) -> Self {
        Self { has_password, ..self }
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.place.path().join(name)
    }

    pub fn file(&self, name: &str, content: &[u8]) -> &Self {
        fs::create_dir_all(self.path(name).parent().unwrap()).unwrap();
        fs::write(self.path(name), content).unwrap();
        self
    }

    /// Volume `number` of the dossier.
    pub fn volume(&self, number: u32) -> PathBuf {
        self.path(&format!("out/wrenfall-light-{number:02}of07.useal"))
    }

    /// Changes one byte.
    pub fn flip(&self, path: &Path, at: usize) -> &Self {
        let mut bytes = fs::read(path).unwrap();
        bytes[at] ^= 0x20;
        fs::write(path, bytes).unwrap();
        self
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(cargo_bin("under-seal"));
        command.args(arguments).current_dir(self.place.path()).stdin(Stdio::null());
        command.env_remove("UNDER_SEAL_PASSWORD").env("UNDER_SEAL_DEBUG_CHEAP_KEYS", "1");
        if self.has_password {
            command.env("UNDER_SEAL_PASSWORD", PASSWORD);
        }
        // Whoever runs the tests may have settings of their own.
        command.env("XDG_CONFIG_HOME", self.path(".settings")).env("XDG_STATE_HOME", self.path(".state"));
        command.env("APPDATA", self.path(".settings")).env("LOCALAPPDATA", self.path(".state"));
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Ran {
        Ran::new(self.command(arguments).output().unwrap())
    }

    /// A run without the password.
    pub fn run_bare(&self, arguments: &[&str]) -> Ran {
        Ran::new(self.command(arguments).env_remove("UNDER_SEAL_PASSWORD").output().unwrap())
    }

    /// The names in a folder, sorted.
    pub fn names(&self, folder: &str) -> Vec<String> {
        let Ok(entries) = fs::read_dir(self.path(folder)) else { return Vec::new() };
        let mut names: Vec<_> = entries.map(|e| e.unwrap().file_name().to_string_lossy().into_owned()).collect();
        names.sort();
        names
    }
}

/// Runs a shell's line in which PROGRAM stands for the program.
pub fn in_a_shell(desk: &Desk, line: &str) -> Ran {
    let program = desk.command(&[]);
    let name = program.get_program().to_str().unwrap();
    let mut shell = Command::new("sh");
    shell.args(["-c", &line.replace("PROGRAM", &format!("'{name}'"))]).current_dir(desk.path("."));
    shell.envs(program.get_envs().filter_map(|(name, value)| Some((name, value?))));
    Ran::new(shell.output().unwrap())
}
