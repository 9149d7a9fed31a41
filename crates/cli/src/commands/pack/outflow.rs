//! `pack --to -`: the archive is written and verified in a folder for temporary files, and then goes to standard output. So nothing
//! goes out that does not open; and whoever reads a part only finds that something is missing, as of every archive.

use crate::args::{PackArguments, STANDARD_STREAM};
use crate::failure::{BadValue, Failure};
use crate::leftover::{self, Leftover};
use crate::signals;
use crate::system::outflow::StandardOutput;
use std::fs::File;
use std::io::{self, IsTerminal as _, Write as _};
use std::path::Path;
use under_seal_core::disk::{FileAction, FileError};
use under_seal_core::ground::context::Cancelled;
use under_seal_core::ground::fit::Fit;
use under_seal_core::tasks::pack::Packed;

/// Where an archive waits that is to go to standard output.
pub struct Outflow {
    folder: Leftover,
    output: StandardOutput,
}

impl Outflow {
    /// A place, where standard output is wanted.
    ///
    /// # Errors
    /// [`BadValue`] where it is a terminal, or several files would go there.
    pub fn wanted(arguments: &PackArguments, fit: Fit) -> Result<Option<Self>, Failure> {
        if !arguments.goes_to_output() {
            return Ok(None);
        }
        if io::stdout().is_terminal() {
            return Err(Failure::Value(BadValue::OutputIsTerminal));
        }
        if fit != Fit::OneVolume || arguments.delivery.shape.parcels {
            return Err(Failure::Value(BadValue::SeveralToOutput));
        }
        let output = StandardOutput::open().map_err(Failure::Output)?;
        Ok(Some(Self { folder: leftover::private_folder().map_err(Failure::Temporary)?, output }))
    }

    /// Where the archive is to be written.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }

    /// Sends it out.
    ///
    /// # Errors
    /// [`Failure::Output`] where not all of it is taken.
    pub fn send(self, packed: &mut Packed) -> Result<(), Failure> {
        let mut output = self.output;
        for volume in &mut packed.volumes {
            let opened = File::open(&volume.path).map_err(FileError::on(FileAction::Open, &volume.path));
            let mut file = opened.map_err(Failure::File)?;
            io::copy(&mut file, &mut output).map_err(not_taken)?;
            volume.path = STANDARD_STREAM.into();
        }
        output.flush().map_err(not_taken)
    }
}

/// Why standard output took no more: because whoever typed the command wants to stop, or for a reason of its own.
pub fn not_taken(error: io::Error) -> Failure {
    if signals::is_stopping() { Failure::Core(Cancelled.into()) } else { Failure::Output(error) }
}
