//! The user's own key: by it, unfinished work that lies on disk is known as that of this user's runs. It is made with the
//! first run that needs it, and kept in the user's state folder.

use crate::system::privacy;
use etcetera::BaseStrategy as _;
use std::io::{self, Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::sync::LazyLock;
use under_seal_core::disk::{Folder, Links, open_regular};
use under_seal_core::ground::ownership::{OWNER_KEY_BYTES, OwnerKey};
use zeroize::Zeroizing;

/// What it is called, in a folder of the program's own.
const FOLDER: &str = "under-seal";
const FILE: &str = "owner-key";

type Secret = Zeroizing<[u8; OWNER_KEY_BYTES]>;

static KEY: LazyLock<OwnerKey> = LazyLock::new(|| OwnerKey::new(&kept().unwrap_or_else(fresh)));

/// The user's key. Where it cannot be kept, one for this run only: what the run leaves if it is killed is then known to
/// nobody, and has to be looked at by hand.
pub fn key() -> OwnerKey {
    KEY.clone()
}

fn fresh() -> Secret {
    let mut secret = Secret::default();
    // Without random bytes nothing is packed or opened, so there is nothing to prove either.
    let _ = getrandom::fill(secret.as_mut_slice());
    secret
}

/// The key that is kept; a new one where there is none yet, or what is there is no good.
fn kept() -> Option<Secret> {
    let base = etcetera::choose_base_strategy().ok()?;
    // Windows has one folder for all that stays on a machine.
    let folder = base.state_dir().unwrap_or_else(|| base.cache_dir()).join(FOLDER);
    let file = folder.join(FILE);
    if let Some(secret) = read(&file) {
        return Some(secret);
    }
    // Whether this run has made it, or another was quicker: what counts is what is there then.
    let _ = make(&folder, &file, &fresh());
    read(&file)
}

/// What is in the file, if it is the user's own and nobody else can have read or written it.
fn read(file: &Path) -> Option<Secret> {
    let (mut file, metadata) = open_regular(file, Links::Refuse).ok()?;
    let mut secret = Secret::default();
    let fits = privacy::is_own(&metadata) && metadata.len() == OWNER_KEY_BYTES as u64;
    (fits && file.read_exact(secret.as_mut_slice()).is_ok()).then_some(secret)
}

/// Puts a key in the place of what is no good, so that it is there whole or not at all.
fn make(folder: &Path, file: &PathBuf, secret: &Secret) -> io::Result<()> {
    privacy::create_folders(folder)?;
    let mut new = tempfile::Builder::new().prefix(".owner-key-").tempfile_in(folder)?;
    new.write_all(secret.as_slice())?;
    new.as_file().sync_all()?;
    match file.exists() {
        true => new.persist(file).map(drop)?,
        false => match new.persist_noclobber(file) {
            Err(error) if error.error.kind() != io::ErrorKind::AlreadyExists => return Err(error.error),
            _ => {}
        },
    }
    Folder::open(folder).and_then(|folder| folder.sync()).map_err(|error| error.source)
}
