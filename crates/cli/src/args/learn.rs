//! What is typed to learn the program, or to set it up.

use super::OutputArguments;
use super::question::WHERE;
use clap::Args;
use clap_complete::Shell;
use std::path::PathBuf;

/// `guide`.
#[derive(Debug, Args)]
pub struct GuideArguments {
    #[command(flatten)]
    pub output: OutputArguments,
}

/// `help`.
#[derive(Debug, Args)]
pub struct HelpArguments {
    /// A command, or a topic
    ///
    /// The topics are sizes, passwords, patterns, exit-codes, configuration, json, formats and receiving.
    #[arg(value_name = "COMMAND|TOPIC")]
    pub about: Option<String>,
    #[command(flatten)]
    pub output: OutputArguments,
}

/// `completions`.
#[derive(Debug, Args)]
pub struct CompletionsArguments {
    /// The shell
    #[arg(value_enum)]
    pub shell: Shell,
    #[command(flatten)]
    pub output: OutputArguments,
}

/// `manual`.
#[derive(Debug, Args)]
pub struct ManualArguments {
    /// The folder for the pages; it is made if it does not exist
    #[arg(long, value_name = "FOLDER", help_heading = WHERE)]
    pub to: PathBuf,
    #[command(flatten)]
    pub output: OutputArguments,
}

/// `demo`.
#[derive(Debug, Args)]
pub struct DemoArguments {
    /// Only make its example folder here, to try commands on
    #[arg(long, value_name = "FOLDER", help_heading = WHERE)]
    pub data_to: Option<PathBuf>,
    #[command(flatten)]
    pub output: OutputArguments,
}
