//! Classes of errors, each of which is an exit code of the program.

/// What kind of thing went wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ErrorClass {
    /// The request cannot be carried out as it stands.
    Usage,
    /// No keyhole opens with this password.
    WrongPassword,
    /// Volumes are missing.
    VolumesMissing,
    /// Bytes are damaged, or were changed on purpose.
    Damaged,
    /// Refused, because it could do harm.
    Unsafe,
    /// The system said no: a full disk, no permission.
    System,
    /// The user asked to stop.
    Cancelled,
}

/// An error that knows its class.
pub trait Classed {
    /// What kind of thing went wrong.
    fn class(&self) -> ErrorClass;
}
