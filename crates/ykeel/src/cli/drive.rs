//! What the commands take that ask or measure the drive itself: `fathom`, `health`, `widen`.

use clap::{Args, ValueEnum};

use super::SourceArgs;

#[derive(Debug, Args)]
pub(crate) struct FathomArgs {
    #[command(flatten)]
    pub(crate) source: SourceArgs,
    /// Write and verify every sector: everything on the drive is lost.
    #[arg(long, conflicts_with_all = ["estimate", "restore"])]
    pub(crate) fill: bool,
    /// Only read: content that repeats is weak evidence.
    #[arg(long, conflicts_with = "restore")]
    pub(crate) estimate: bool,
    /// Put back what an interrupted probe touched.
    #[arg(long)]
    pub(crate) restore: bool,
    /// Confirmation code of the drive: it is written to.
    #[arg(long, value_name = "CODE")]
    pub(crate) confirm: Option<String>,
    /// Go on without the code: image files and simulated drives only, and never for a fill.
    #[arg(long, conflicts_with_all = ["confirm", "fill"])]
    pub(crate) yes: bool,
    /// The largest cache that the drive may hide its lie in, in MiB.
    #[arg(long, value_name = "MIB", default_value_t = 1024)]
    pub(crate) largest_cache: u64,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
pub(crate) enum SelfTestArg {
    /// A few minutes.
    Short,
    /// The whole surface: hours.
    Extended,
    /// Stop the one that runs.
    Stop,
}

#[derive(Debug, Args)]
pub(crate) struct WidenArgs {
    #[command(flatten)]
    pub(crate) source: SourceArgs,
    /// For good, instead of until the drive's power is cut: on a code of its own.
    #[arg(long, conflicts_with = "back")]
    pub(crate) lasting: bool,
    /// Tell the drive the end again that it had before.
    #[arg(long)]
    pub(crate) back: bool,
    /// Tell the drive; without it, only what is hidden is said.
    #[arg(long)]
    pub(crate) apply: bool,
    /// The code that is shown for it.
    #[arg(long, value_name = "CODE", requires = "apply")]
    pub(crate) confirm: Option<String>,
    /// Without the code: simulated drives only.
    #[arg(long, requires = "apply", conflicts_with = "confirm")]
    pub(crate) yes: bool,
}
