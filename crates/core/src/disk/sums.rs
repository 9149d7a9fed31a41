//! SHA-256 of whole files, by which pieces and copies are known anywhere (FIPS 180-4).

use super::{FileError, read_through};
use crate::ground::context::{Cancelled, Context};
use sha2::{Digest as _, Sha256};
use std::path::Path;

/// A SHA-256.
pub type Sha256Sum = [u8; 32];

/// A file's SHA-256, read from its beginning to its end.
pub(crate) fn sum_of<E: From<FileError> + From<Cancelled>>(path: &Path, context: &Context<'_>) -> Result<Sha256Sum, E> {
    let mut sum = Sha256::new();
    read_through(path, context, |bytes| {
        sum.update(bytes);
        Ok::<_, E>(())
    })?;
    Ok(sum.finalize().into())
}
