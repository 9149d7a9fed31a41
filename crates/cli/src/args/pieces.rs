//! What is typed for plain pieces of a file.

use super::{ConfigurationArguments, WorkArguments};
use clap::Args;
use std::path::PathBuf;

/// `portion`.
#[derive(Debug, Args)]
pub struct PortionArguments {
    /// The file to cut; it stays as it is
    #[arg(value_name = "FILE")]
    pub file: PathBuf,
    /// What each piece must fit: a size such as 20MB or 5MiB, or a name (see "fits"); without it the profile's fit
    #[arg(long, value_name = "SIZE|NAME")]
    pub fit: Option<String>,
    /// The folder for the pieces; it is made if it does not exist. Without it they go where you are
    #[arg(long, value_name = "FOLDER")]
    pub to: Option<PathBuf>,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}

/// `reunite`.
#[derive(Debug, Args)]
pub struct ReuniteArguments {
    /// Any one of the pieces, or the list beside them; the others are found beside it. Where they lie in several folders, one of
    /// each
    #[arg(required = true, value_name = "PIECE")]
    pub pieces: Vec<PathBuf>,
    /// The file to make, or with a slash at its end the folder to make it in; it must not be there yet. Without it the whole
    /// gets its own name, beside the first piece
    #[arg(long, value_name = "FILE|FOLDER/")]
    pub to: Option<PathBuf>,
    #[command(flatten)]
    pub work: WorkArguments,
}
