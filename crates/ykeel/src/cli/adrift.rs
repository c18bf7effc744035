//! What `adrift` takes, and which files adrift `extract` takes out.

use std::path::PathBuf;

use clap::{Args, ValueEnum};
use keel_core::adrift::AdriftState;

/// Which files adrift are meant.
#[derive(Debug, Args)]
pub(crate) struct AdriftArgs {
    /// Only these: pictures, films, sound, documents, archives, data, or suffixes (jpg, docx).
    #[arg(long, value_name = "LIST", value_delimiter = ',')]
    pub(crate) kinds: Vec<String>,
    /// Only files of at least this many bytes (sizes may be written out: 100kB).
    #[arg(long, value_name = "SIZE")]
    pub(crate) least: Option<String>,
    /// Only files that are proven as far as this.
    #[arg(long, value_enum, value_name = "LIST", value_delimiter = ',')]
    pub(crate) state: Vec<StateArg>,
    /// Also on ground that sound volumes hold.
    #[arg(long)]
    pub(crate) everywhere: bool,
    /// Look for what cut files go on in: only what proves itself as a whole is joined. It may take minutes for each.
    #[arg(long)]
    pub(crate) join: bool,
    /// Also files with the content of another one.
    #[arg(long)]
    pub(crate) same: bool,
    /// Only files whose content none of these manifests of earlier extractions names (of files adrift, or of a volume).
    #[arg(long, value_name = "MANIFEST")]
    pub(crate) new_since: Vec<PathBuf>,
}

impl AdriftArgs {
    /// True where anything is asked for.
    pub(crate) fn is_asked(&self) -> bool {
        let chosen = !self.kinds.is_empty() || self.least.is_some() || !self.state.is_empty();
        chosen || self.everywhere || self.join || self.same || !self.new_since.is_empty()
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum StateArg {
    /// Proven to its last byte.
    Whole,
    /// Its structure reaches to its last byte.
    Plausible,
    /// Its structure breaks before its end.
    Cut,
}

impl From<StateArg> for AdriftState {
    fn from(state: StateArg) -> Self {
        match state {
            StateArg::Whole => Self::Whole,
            StateArg::Plausible => Self::Plausible,
            StateArg::Cut => Self::Cut,
        }
    }
}
