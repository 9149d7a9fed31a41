//! Browsers that are installed, and how each kind is started without a window, with a profile of its own.

use crate::attending;
use crate::system::{program_at, programs};
use std::env;
use std::ffi::OsString;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::Child;

/// Names under which browsers are installed, the first that is found is taken.
const NAMES: [&str; 9] = [
    "chromium",
    "chromium-browser",
    "google-chrome",
    "google-chrome-stable",
    "microsoft-edge",
    "microsoft-edge-stable",
    "firefox",
    "firefox-esr",
    "chrome",
];

/// What a profile of Firefox's says, so that it shows nothing but what it is given.
const FIREFOX_SETTINGS: &str = "user_pref(\"browser.aboutwelcome.enabled\", false);\n\
     user_pref(\"datareporting.policy.dataSubmissionEnabled\", false);\n\
     user_pref(\"browser.shell.checkDefaultBrowser\", false);\n";

/// A browser that can be started.
#[derive(Debug, Clone)]
pub struct Browser {
    path: PathBuf,
    is_firefox: bool,
}

impl Browser {
    /// The one at this path, or the first of those that are known by name.
    pub fn find(path: Option<&Path>) -> Option<Self> {
        let path = match path {
            Some(path) => path.to_owned(),
            None => {
                NAMES.iter().find_map(|name| program_at(Path::new(&format!("{name}{}", env::consts::EXE_SUFFIX))))?
            }
        };
        let is_firefox = path.file_name()?.to_string_lossy().to_lowercase().contains("firefox");
        Some(Self { path, is_firefox })
    }

    /// What it is called.
    pub fn name(&self) -> String {
        self.path.file_name().unwrap_or_default().to_string_lossy().into_owned()
    }

    /// Starts it without a window; it opens this file, and keeps everything in this folder.
    pub fn start(&self, open: &Path, profile: &Path) -> io::Result<Child> {
        let mut command = attending::attended(&self.path)?;
        if self.is_firefox {
            fs::write(profile.join("user.js"), FIREFOX_SETTINGS)?;
            command.args(["--headless", "--no-remote", "--profile"]).arg(profile);
        } else {
            let mut folder = OsString::from("--user-data-dir=");
            folder.push(profile);
            command
                .args(["--headless=new", "--no-first-run", "--no-default-browser-check", "--disable-sync"])
                .arg(folder);
            // Its own sandbox is not there for root, and it does not start then.
            if programs::is_root() {
                command.arg("--no-sandbox");
            }
            command.arg("--disable-background-networking");
        }
        command.arg(open).spawn()
    }
}
