//! What is typed for plain pieces of a file.

use super::question::{SIZE, WHERE};
use super::{ConfigurationArguments, WatchArguments, WorkArguments};
use clap::Args;
use std::path::PathBuf;

/// `portion`.
#[derive(Debug, Args)]
pub struct PortionArguments {
    /// The file to cut; it stays as it is
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// The size of a piece: 20MB, 5MiB, mail-10 (see "fits")
    ///
    /// Without this the profile's fit counts.
    #[arg(long, value_name = "SIZE|NAME", value_parser = super::fit_text(), help_heading = SIZE)]
    pub fit: Option<String>,
    /// The folder for the pieces; it is made if it does not exist
    ///
    /// Without this they go into the current folder.
    #[arg(long, value_name = "FOLDER", help_heading = WHERE)]
    pub to: Option<PathBuf>,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `reunite`.
#[derive(Debug, Args)]
pub struct ReuniteArguments {
    /// A piece, their list, their folder, or messages with them
    ///
    /// The others are found beside it, and where messages are named, attached to those. Where they are in several folders, one of each.
    #[arg(required_unless_present = "watch", value_name = "PIECE|FOLDER")]
    pub pieces: Vec<PathBuf>,
    /// The file to make, or with a slash behind it a folder
    ///
    /// The file must not be there yet. Without this the whole gets its own name, beside the first piece.
    #[arg(long, value_name = "FILE|FOLDER/", help_heading = WHERE)]
    pub to: Option<PathBuf>,
    #[command(flatten)]
    pub watch: WatchArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}
