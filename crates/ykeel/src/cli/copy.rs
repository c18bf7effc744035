//! What `copy` takes.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::SourceArgs;

#[derive(Debug, Args)]
pub(crate) struct CopyArgs {
    #[command(flatten)]
    pub(crate) source: SourceArgs,
    /// The image to write: a new file, or one that its log goes on with; or a block device (with --confirm).
    #[arg(value_name = "DEST")]
    pub(crate) dest: PathBuf,
    /// Where the log is kept; by default beside the image, as DEST.ykcopy.
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// Run only these passes.
    #[arg(long, value_enum, value_delimiter = ',', value_name = "PASS")]
    pub(crate) passes: Vec<PassArg>,
    /// First what it takes to list every file of every volume, then the ground they use, then the rest.
    #[arg(long)]
    pub(crate) volumes_first: bool,
    /// How often a sector that failed is asked for again; 3 times, where the settings say nothing else.
    #[arg(long, value_name = "TIMES")]
    pub(crate) again: Option<u32>,
    /// Stop after this many reads that failed.
    #[arg(long, value_name = "COUNT")]
    pub(crate) stop_errors: Option<u64>,
    /// Stop after this time.
    #[arg(long, value_name = "MINUTES")]
    pub(crate) stop_minutes: Option<u32>,
    /// How long a drive that is off the link is waited for.
    #[arg(long, value_name = "MINUTES", default_value_t = 10)]
    pub(crate) link_minutes: u32,
    /// Stop when the errors that the drive's health page counts grew by so many.
    #[arg(long, value_name = "COUNT")]
    pub(crate) stop_grown: Option<u64>,
    /// Stop when the drive says that it is so warm, in degrees Celsius.
    #[arg(long, value_name = "DEGREES")]
    pub(crate) stop_heat: Option<i64>,
    /// Leave the drive alone for so long before a sector that failed is asked for again.
    #[arg(long, value_name = "SECONDS")]
    pub(crate) rest: Option<u32>,
    /// Learn the even steps in which a dead head's bad bands come back, and go around those that are to come.
    #[arg(long)]
    pub(crate) heads: bool,
    /// How long a device may take to answer one request; then its place counts as failed, and the drive is waited for.
    #[arg(long, value_name = "SECONDS", default_value_t = 60, value_parser = clap::value_parser!(u32).range(1..))]
    pub(crate) deadline: u32,
    /// Seconds after which the system takes a request for lost, while it copies; put back afterwards.
    #[arg(long, value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=3600))]
    pub(crate) system_timeout: Option<u64>,
    /// Requests that the system has under way at once, while it copies; put back afterwards.
    #[arg(long, value_name = "COUNT", value_parser = clap::value_parser!(u64).range(1..=4096))]
    pub(crate) system_queue: Option<u64>,
    /// KiB that the system reads ahead for others, while it copies; put back afterwards.
    #[arg(long, value_name = "KIB", value_parser = clap::value_parser!(u64).range(..=65_536))]
    pub(crate) system_read_ahead: Option<u64>,
    /// Reset a device that does not answer in time: itself, then its port.
    #[arg(long)]
    pub(crate) reset: bool,
    /// Confirmation code of the destination, where that is a device: everything on it is lost.
    #[arg(long, value_name = "CODE")]
    pub(crate) confirm: Option<String>,
    /// Compare the copy with the hashes taken while it was read, and fetch again what rots.
    #[arg(long)]
    pub(crate) verify: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum PassArg {
    /// What it takes to list every file, then used ground (as with --volumes-first).
    Volumes,
    /// Large reads; trouble is passed over.
    Sound,
    /// From both sides into what was passed over.
    Edges,
    /// What lies between, down to single sectors.
    Inner,
    /// Failed sectors once more.
    Again,
}

impl From<PassArg> for keel_core::copy::Pass {
    fn from(pass: PassArg) -> Self {
        match pass {
            PassArg::Volumes => Self::Volumes,
            PassArg::Sound => Self::Sound,
            PassArg::Edges => Self::Edges,
            PassArg::Inner => Self::Inner,
            PassArg::Again => Self::Again,
        }
    }
}
