//! What looks after an archive that there is.

use super::WorkArguments;
use super::send::ConfigurationArguments;
use clap::{ArgGroup, Args};
use std::path::PathBuf;

/// `recast`.
#[derive(Debug, Args)]
#[command(group = ArgGroup::new("cut").args(["fit", "one_volume"]).required(true))]
pub struct RecastArguments {
    /// A volume, or a folder with volumes in it
    #[arg(value_name = "VOLUME|FOLDER")]
    pub archive: PathBuf,
    /// What a volume must fit then: a size such as 300KB, 10MB or 5MiB, or a name such as mail-10 (see "fits")
    #[arg(long, value_name = "SIZE|NAME")]
    pub fit: Option<String>,
    /// Make one volume of it
    #[arg(long)]
    pub one_volume: bool,
    /// Where the new volumes go: a folder, or the archive's own name. The old ones stay then; without this they are replaced
    #[arg(long, value_name = "PATH")]
    pub to: Option<PathBuf>,
    /// Say what would come of it, and write nothing
    #[arg(long)]
    pub dry_run: bool,
    #[command(flatten)]
    pub configuration: ConfigurationArguments,
    #[command(flatten)]
    pub work: WorkArguments,
}
