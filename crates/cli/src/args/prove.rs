//! What a sender types who wants proof.

use super::{ChoiceArguments, ConfigurationArguments, UnlockArguments, WorkArguments};
use clap::Args;
use std::path::PathBuf;

/// `compare`.
#[derive(Debug, Args)]
pub struct CompareArguments {
    /// A volume, or a folder with volumes in it
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// The files and folders that it was packed from
    #[arg(required = true, value_name = "SOURCE")]
    pub sources: Vec<PathBuf>,
    /// Say file by file which originals are proven to be inside, unchanged; everything inside is verified for that. Nothing
    /// is deleted
    #[arg(long)]
    pub originals: bool,
    #[command(flatten)]
    pub choice: ChoiceArguments,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub unlock: UnlockArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}
