//! What unlocks: from options, the variable and the terminal to the credentials of a new archive or an old one.

use crate::args::{
    NewPasswordArguments, PasswordArguments, SealArguments, UnlockArguments, WorkArguments, is_standard_stream,
};
use crate::failure::{BadValue, Failure};
use crate::secrecy::close_memory;
use crate::system::privacy;
use crate::ui::progress::ProgressLine;
use crate::ui::prompt::{self, Purpose};
use crate::{inflow, named_file, session, words};
use std::fs::{self, File};
use std::io::{self, IsTerminal as _, Write as _};
use std::path::{Path, PathBuf};
use under_seal_core::Error;
use under_seal_core::formats::abilities::Ability;
use under_seal_core::formats::archive::Archive;
use under_seal_core::formats::error::ArchiveError;
use under_seal_core::formats::sealed::volume::VolumeSet;
use under_seal_core::formats::sealed::{
    CostLimit, HeadError, KeyCost, SealedError, UnlockedSet, cost_of, unlock_given,
};
use under_seal_core::formats::zip::ZipError;
use under_seal_core::ground::context::Context;
use under_seal_core::ground::passwords::{self, Guessing, make_passphrase};
use under_seal_core::ground::secrets::{Credentials, KeyFile, Password};
use zeroize::Zeroizing;

/// The variable that holds a password for programs that run this one.
pub const PASSWORD_VARIABLE: &str = "UNDER_SEAL_PASSWORD";

/// No password file is longer than this; what is longer was named by mistake.
const MAX_PASSWORD_FILE_BYTES: u64 = 64 * 1024;

/// What a new archive is sealed with.
pub struct Sealing {
    /// A keyhole each.
    pub credentials: Vec<Credentials>,
    /// What an attempt costs.
    pub cost: KeyCost,
    /// Whether a password is needed at all.
    pub secret: bool,
    /// The file that a made passphrase was written to; removed when this is dropped, unless it is kept.
    pub passphrase_file: Option<PassphraseFile>,
}

/// Why several archives are not opened where no password was given.
pub const NO_PASSWORD: Failure = Failure::NobodyToAsk {
    what: "A password is needed",
    instead: "Give it with --password-from FILE, or in the variable UNDER_SEAL_PASSWORD.",
};

/// How often a password is asked for on a terminal before it is given up.
const TRIES: u32 = 3;

/// A file with a made passphrase in it.
pub struct PassphraseFile {
    path: PathBuf,
    kept: bool,
}

impl PassphraseFile {
    fn create(path: &Path, passphrase: &str) -> Result<Self, Failure> {
        let failed = |source| Failure::PassphraseFile { path: path.to_owned(), source };
        let mut file = privacy::create_file(path).map_err(failed)?;
        let made = Self { path: path.to_owned(), kept: false };
        file.write_all(passphrase.as_bytes()).and_then(|()| file.write_all(b"\n")).map_err(failed)?;
        file.sync_all().map_err(failed)?;
        Ok(made)
    }

    /// Lets it stay; where it is.
    pub fn keep(&mut self) -> &Path {
        self.kept = true;
        &self.path
    }
}

impl Drop for PassphraseFile {
    /// Nothing was sealed with it.
    fn drop(&mut self) {
        if !self.kept {
            let _ = fs::remove_file(&self.path);
        }
    }
}

/// Whether a password, or a key file that goes with one, is given by option or variable.
pub fn is_given(arguments: &UnlockArguments) -> bool {
    let PasswordArguments { password_from, password_fd, key_file } = &arguments.password;
    password_from.is_some()
        || password_fd.is_some()
        || key_file.is_some()
        || std::env::var_os(PASSWORD_VARIABLE).is_some()
}

/// Whether an archive without a password is to be refused: one was given, and it was not said that there may be none.
pub fn expects_password(arguments: &UnlockArguments) -> bool {
    is_given(arguments) && !arguments.accept_no_password
}

/// The password given by option or variable, if there is one.
fn given_password(arguments: &PasswordArguments) -> Result<Option<Password>, Failure> {
    close_memory();
    if let Some(path) = &arguments.password_from {
        return password_file(path).map(Some);
    }
    if let Some(number) = arguments.password_fd {
        let opened = inflow::descriptor(number)?;
        return password_from(opened, &inflow::descriptor_path(number)).map(Some);
    }
    match std::env::var_os(PASSWORD_VARIABLE) {
        Some(value) => {
            let value = Zeroizing::new(value.into_encoded_bytes());
            let text = std::str::from_utf8(&value).map_err(|_| Failure::PasswordVariable)?;
            Ok(Some(Password::new(text).map_err(Error::from)?))
        }
        None => Ok(None),
    }
}

fn password_file(path: &Path) -> Result<Password, Failure> {
    let from = if is_standard_stream(path) { inflow::standard_input()? } else { File::open(path) };
    password_from(from, path)
}

/// The password that can be read from here, which is told as this path.
fn password_from(from: io::Result<File>, path: &Path) -> Result<Password, Failure> {
    let unreadable = |source| Failure::PasswordFile { path: path.to_owned(), source };
    match from.and_then(|from| named_file::up_to(from, MAX_PASSWORD_FILE_BYTES)) {
        Ok(mut bytes) => Ok(Password::from_file_bytes(std::mem::take(&mut *bytes)).map_err(Error::from)?),
        Err(error) if error.kind() == io::ErrorKind::FileTooLarge => Err(Failure::PasswordFileTooLong(path.to_owned())),
        Err(error) => Err(unreadable(error)),
    }
}

fn key_file(arguments: &PasswordArguments) -> Result<Option<KeyFile>, Failure> {
    close_memory();
    let Some(path) = &arguments.key_file else { return Ok(None) };
    let read = |path: &Path| {
        let file = File::open(path)?;
        match file.metadata()?.is_file() {
            true => KeyFile::read(file),
            // What a program hands over has an end; a device may have none.
            false => KeyFile::read(named_file::up_to(file, named_file::MAX_TEXT_BYTES)?.as_slice()),
        }
    };
    read(path).map(Some).map_err(|source| Failure::KeyFile { path: path.clone(), source })
}

/// Unlocks a set with what was given, or with what is asked for on the terminal, up to three times.
pub fn to_unlock(set: &VolumeSet, arguments: &UnlockArguments) -> Result<UnlockedSet, Failure> {
    Ok(unlocked_by(set, arguments)?.0)
}

/// The same, and what unlocked it: without a key file, where none was needed.
pub fn unlocked_by(set: &VolumeSet, arguments: &UnlockArguments) -> Result<(UnlockedSet, Credentials), Failure> {
    let (unlocked, given) = match tried_unasked(set, arguments, expects_password(arguments))? {
        (Some(unlocked), given) => (unlocked, given),
        (None, _) => tried_asked(set, arguments).map(|(unlocked, given)| (unlocked, Some(given)))?,
    };
    let needed = needed(given, &unlocked);
    Ok((unlocked, needed))
}

/// What of the given a set took to be unlocked: no password where it is not secret, no key file where it has none.
fn needed(given: Option<Credentials>, unlocked: &UnlockedSet) -> Credentials {
    let given = given.filter(|_| unlocked.secret);
    given.map_or_else(Credentials::none, |given| Credentials {
        key_file: given.key_file.filter(|_| unlocked.key_file),
        password: given.password,
    })
}

/// Unlocks a set as far as that can be done without asking; `None` where nothing was given. A set without a password is refused
/// where one is expected.
pub fn unasked(set: &VolumeSet, arguments: &UnlockArguments, expected: bool) -> Result<Option<UnlockedSet>, Failure> {
    Ok(tried_unasked(set, arguments, expected)?.0)
}

fn tried_unasked(
    set: &VolumeSet,
    arguments: &UnlockArguments,
    expected: bool,
) -> Result<(Option<UnlockedSet>, Option<Credentials>), Failure> {
    let key_file = key_file(&arguments.password)?;
    let given = given_password(&arguments.password)?.map(|password| Credentials { password, key_file });
    tell_cost(set, given.as_ref(), arguments)?;
    let unlocked = unlock_given(set, given.as_ref(), limit(arguments), expected);
    Ok((unlocked.map_err(|error| not_unlocked(set, error))?, given))
}

/// Unlocks a set with what is asked for on the terminal.
pub fn asked(set: &VolumeSet, arguments: &UnlockArguments) -> Result<UnlockedSet, Failure> {
    Ok(tried_asked(set, arguments)?.0)
}

fn tried_asked(set: &VolumeSet, arguments: &UnlockArguments) -> Result<(UnlockedSet, Credentials), Failure> {
    let key_file = key_file(&arguments.password)?;
    let mut left = TRIES;
    loop {
        let password = prompt::ask(Purpose::Unlock)?;
        left -= 1;
        let given = Credentials { password, key_file: key_file.clone() };
        tell_cost(set, Some(&given), arguments)?;
        match unlock_given(set, Some(&given), limit(arguments), true) {
            Ok(Some(unlocked)) => return Ok((unlocked, given)),
            Ok(None) => {}
            Err(SealedError::Head(HeadError::WrongPassword { .. })) if left > 0 => wrong_password(left)?,
            Err(error) => return Err(not_unlocked(set, error)),
        }
    }
}

/// What is given for several archives, or was typed for one of them: each is tried on all.
pub struct Keyring<'a> {
    arguments: &'a UnlockArguments,
    key_file: Option<KeyFile>,
    known: Vec<Credentials>,
    /// Whether somebody is asked where none of the passwords opens an archive.
    asks: bool,
    /// Whether an archive without a password is refused.
    expected: bool,
    /// How many attempts have failed.
    failed: u32,
}

/// After so many attempts that failed no more are made: anybody can put headers into a folder, and each attempt costs time.
const MOST_FAILED: u32 = 64;

/// Why a set was not unlocked. Where its headers contradict each other, that may be why.
fn not_unlocked(set: &VolumeSet, error: SealedError) -> Failure {
    match error {
        SealedError::Head(_) if !set.contradicting.is_empty() => Failure::ForgedBeside(set.contradicting.clone()),
        error => error.into(),
    }
}

impl<'a> Keyring<'a> {
    /// What was given by options or variable, read once.
    pub fn given(arguments: &'a UnlockArguments, asks: bool) -> Result<Self, Failure> {
        let key_file = key_file(&arguments.password)?;
        let given = given_password(&arguments.password)?;
        let known = given.map(|password| Credentials { password, key_file: key_file.clone() });
        let (expected, asks) = (expects_password(arguments), asks && known.is_none());
        Ok(Self { arguments, key_file, asks, expected, known: known.into_iter().collect(), failed: 0 })
    }

    /// The same, where an archive without a password is refused: somebody wants to give one.
    pub fn expecting(self, expected: bool) -> Self {
        Self { expected: self.expected || expected, ..self }
    }

    /// Unlocks a set with whatever of it does; `None` where a password is needed, and there is none.
    pub fn unlock(&mut self, set: &VolumeSet) -> Result<Option<UnlockedSet>, Failure> {
        let (limit, expected) = (limit(self.arguments), self.expected);
        let mut outcome = if self.known.is_empty() { unlock_given(set, None, limit, expected) } else { Ok(None) };
        for place in 0..self.known.len() {
            if self.failed >= MOST_FAILED {
                return Err(Failure::TooManyLocked);
            }
            tell_cost(set, self.known.get(place), self.arguments)?;
            outcome = unlock_given(set, self.known.get(place), limit, expected);
            if outcome.is_ok() {
                self.known.swap(0, place);
                break;
            }
            self.failed += 1 + u32::try_from(set.rivals.len()).unwrap_or(u32::MAX);
        }
        let is_locked = matches!(outcome, Ok(None) | Err(SealedError::Head(HeadError::WrongPassword { .. })));
        if self.asks && is_locked {
            let password = prompt::ask(Purpose::Unlock)?;
            self.known.insert(0, Credentials { password, key_file: self.key_file.clone() });
            outcome = unlock_given(set, self.known.first(), limit, expected);
        }
        outcome.map_err(|error| not_unlocked(set, error))
    }
}

impl Keyring<'_> {
    /// The same, and what unlocked it.
    pub fn tried(&mut self, set: &VolumeSet) -> Result<Option<Tried>, Failure> {
        let Some(unlocked) = self.unlock(set)? else { return Ok(None) };
        // What has just opened it stands first.
        let credentials = needed(self.known.first().cloned(), &unlocked);
        Ok(Some(Tried { set: unlocked.set, credentials, limit: limit(self.arguments) }))
    }
}

/// What content is wanted for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// Nothing inside need be seen.
    Outside,
    /// Nothing but the list of entries is read.
    List,
    /// Content is read too, so a password may be needed.
    Content,
    /// The same, of what is whole.
    WhatIsWhole,
}

/// Unlocks an archive of an open format with what was given, or, where content is wanted, with what is asked for.
pub fn to_unlock_file(
    locked: Archive,
    arguments: &UnlockArguments,
    wanted: Wanted,
    work: &WorkArguments,
) -> Result<Archive, Failure> {
    if arguments.password.key_file.is_some() && !locked.format.can(Ability::KeyFile) {
        return Err(ArchiveError::NoKeyFile.into());
    }
    let (key_file, given) = (key_file(&arguments.password)?, given_password(&arguments.password)?);
    let needed = match wanted {
        Wanted::Outside => false,
        Wanted::List => locked.facts().is_covered,
        Wanted::Content | Wanted::WhatIsWhole => true,
    };
    if given.is_none() && !needed {
        return Ok(locked);
    }
    let mut left = TRIES;
    loop {
        let progress = ProgressLine::for_reading(None, work);
        let context = session::context(&progress, work.threads);
        let password = given.clone().map_or_else(|| prompt::ask(Purpose::Unlock), Ok)?;
        left -= 1;
        let unlocked = locked.unlock(&Credentials { password, key_file: key_file.clone() }, &context);
        drop(progress);
        match unlocked {
            Err(ArchiveError::Zip(ZipError::WrongPassword)) if left > 0 && given.is_none() => wrong_password(left)?,
            outcome => return Ok(outcome?),
        }
    }
}

fn wrong_password(left: u32) -> Result<(), Failure> {
    let tries = if left == 1 { "One more try." } else { "Try again." };
    writeln!(anstream::stderr(), "Wrong password. {tries}").map_err(Failure::Prompt)
}

/// Says what unlocking takes, where that is much and was allowed.
fn tell_cost(set: &VolumeSet, given: Option<&Credentials>, arguments: &UnlockArguments) -> Result<(), Failure> {
    if let (Some(_), CostLimit::AsTheHeadSays, Ok(cost)) = (given, limit(arguments), cost_of(&set.head))
        && !cost.is_bearable()
    {
        writeln!(anstream::stderr(), "Unlocking takes {}.", words::costly(cost)).map_err(Failure::Prompt)?;
    }
    Ok(())
}

/// What unlocked a set, given or asked for.
pub struct Tried {
    /// As those of its headers describe it that are genuine.
    pub set: VolumeSet,
    /// What unlocks it.
    pub credentials: Credentials,
    /// How costly that may be.
    pub limit: CostLimit,
}

/// What unlocks a set, given or asked for, once it has; and how costly that may be.
pub fn tried(set: &VolumeSet, arguments: &UnlockArguments) -> Result<Tried, Failure> {
    let (unlocked, credentials) = unlocked_by(set, arguments)?;
    Ok(Tried { set: unlocked.set, credentials, limit: limit(arguments) })
}

fn limit(arguments: &UnlockArguments) -> CostLimit {
    if arguments.allow_costly_key { CostLimit::AsTheHeadSays } else { CostLimit::Bearable }
}

/// Writes a message with the password into a new file that only the user may read.
pub fn write_password_note(
    path: &Path,
    password: &Password,
    archive: &str,
    key_file: Option<&str>,
) -> Result<(), Failure> {
    let failed = |source| Failure::PassphraseFile { path: path.to_owned(), source };
    let mut file = privacy::create_file(path).map_err(failed)?;
    let key_file = key_file
        .map(|name| format!(" The key file {name} comes to you in yet another way: the password alone opens nothing."));
    let before = format!(
        "This is the password for {archive}. The archive itself comes to you another way.{}\n\n",
        key_file.unwrap_or_default()
    );
    file.write_all(before.as_bytes()).map_err(failed)?;
    file.write_all(password.as_bytes()).and_then(|()| file.write_all(b"\n")).map_err(failed)?;
    file.sync_all().map_err(failed)
}

/// What a new archive is sealed with. A weak password needs a yes; `guessable` are words that are no secret.
pub fn to_seal(
    arguments: &SealArguments,
    guessing: Guessing,
    guessable: impl FnOnce() -> Vec<String>,
    context: &Context<'_>,
) -> Result<Sealing, Failure> {
    let given = || given_password(&arguments.password)?.map_or_else(|| prompt::ask(Purpose::Seal), Ok);
    seal_with(given, arguments, guessing, guessable, context)
}

/// What an archive is locked with anew. The variable holds the password until now.
pub fn to_relock(
    arguments: &NewPasswordArguments,
    guessing: Guessing,
    guessable: impl FnOnce() -> Vec<String>,
    context: &Context<'_>,
) -> Result<Sealing, Failure> {
    let NewPasswordArguments { new_password_from, new_key_file, also_password_from, .. } = arguments;
    let password = PasswordArguments {
        password_from: new_password_from.clone(),
        key_file: new_key_file.clone(),
        ..PasswordArguments::default()
    };
    let given = || new_password_from.as_deref().map_or_else(|| prompt::ask(Purpose::Renew), password_file);
    let arguments = SealArguments {
        password,
        also_password_from: also_password_from.clone(),
        making: arguments.making.clone(),
        no_password: arguments.no_password,
    };
    seal_with(given, &arguments, guessing, guessable, context)
}

/// Whether it is said what is to open an archive from now on.
pub const fn is_new_given(arguments: &NewPasswordArguments) -> bool {
    let NewPasswordArguments { new_password_from, new_key_file, making, no_password, .. } = arguments;
    new_password_from.is_some() || new_key_file.is_some() || making.make_passphrase || *no_password
}

/// The same, with a password that is `given` or asked for, where none is made.
fn seal_with(
    given: impl FnOnce() -> Result<Password, Failure>,
    arguments: &SealArguments,
    guessing: Guessing,
    guessable: impl FnOnce() -> Vec<String>,
    context: &Context<'_>,
) -> Result<Sealing, Failure> {
    if arguments.no_password {
        let credentials = vec![Credentials::none()];
        return Ok(Sealing { credentials, cost: KeyCost::CHEAPEST, secret: false, passphrase_file: None });
    }
    let key_file = key_file(&arguments.password)?;
    let (mut typed, mut made) = (Vec::new(), None);
    let mut passphrase_file = None;
    if arguments.making.make_passphrase {
        let passphrase = make_passphrase(context)?;
        passphrase_file = hand_out(arguments, &passphrase)?;
        made = Some(Password::new(&passphrase).map_err(Error::from)?);
    } else {
        typed.push(given()?);
    }
    for path in &arguments.also_password_from {
        typed.push(password_file(path)?);
    }
    judge(&typed, guessing, guessable, arguments.making.weak_ok)?;
    let credentials = made.into_iter().chain(typed);
    let credentials: Vec<_> =
        credentials.map(|password| Credentials { password, key_file: key_file.clone() }).collect();
    all_differ(&credentials)?;
    Ok(Sealing { credentials, cost: session::key_cost(), secret: true, passphrase_file })
}

/// Shows a made passphrase on the terminal, or writes it to its file: before anything is sealed with it.
fn hand_out(arguments: &SealArguments, passphrase: &str) -> Result<Option<PassphraseFile>, Failure> {
    if let Some(path) = &arguments.making.passphrase_to {
        return PassphraseFile::create(path, passphrase).map(Some);
    }
    if !io::stderr().is_terminal() {
        return Err(Failure::NowhereToShow);
    }
    let mut error = anstream::stderr();
    writeln!(error, "This is the passphrase. It is shown only once: write it down.\n\n  {passphrase}\n")
        .map_err(Failure::Prompt)?;
    Ok(None)
}

/// What an archive opens with that was opened with one of these: that, and others beside it, with the same key file.
pub fn to_revise(
    opened_by: Credentials,
    also_password_from: &[PathBuf],
    guessing: Guessing,
    guessable: impl FnOnce() -> Vec<String>,
    weak_ok: bool,
) -> Result<(Vec<Credentials>, KeyCost), Failure> {
    let also = also_password_from.iter().map(|path| password_file(path)).collect::<Result<Vec<_>, _>>()?;
    judge(&also, guessing, guessable, weak_ok)?;
    let secret = opened_by != Credentials::none();
    let cost = if secret { session::key_cost() } else { KeyCost::CHEAPEST };
    let key_file = opened_by.key_file.clone();
    let also = also.into_iter().map(|password| Credentials { password, key_file: key_file.clone() });
    let credentials = std::iter::once(opened_by).chain(also).collect::<Vec<_>>();
    all_differ(&credentials)?;
    Ok((credentials, cost))
}

/// One password given twice would take two of an archive's few keyholes, and somebody may believe that it opens with two.
fn all_differ(credentials: &[Credentials]) -> Result<(), Failure> {
    match credentials.iter().enumerate().any(|(at, one)| credentials[..at].contains(one)) {
        true => Err(Failure::Value(BadValue::SamePasswordTwice)),
        false => Ok(()),
    }
}

fn judge(
    typed: &[Password],
    guessing: Guessing,
    guessable: impl FnOnce() -> Vec<String>,
    weak_ok: bool,
) -> Result<(), Failure> {
    if weak_ok || typed.is_empty() {
        return Ok(());
    }
    let guessable = guessable();
    for password in typed {
        let strength = passwords::judge(password, &guessable, guessing);
        if !strength.is_weak() {
            continue;
        }
        if !prompt::can_ask() {
            return Err(Failure::WeakPassword(strength));
        }
        let question = format!("{} Use it all the same?", words::weak_password(&strength));
        if !prompt::confirm(&question)? {
            return Err(Failure::GivenUp);
        }
    }
    Ok(())
}
