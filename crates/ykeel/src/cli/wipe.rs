//! What `wipe` takes.

use std::path::PathBuf;

use clap::{Args, ValueEnum};

use super::SourceArgs;

#[derive(Debug, Args)]
#[command(group = clap::ArgGroup::new("what").args(["range", "volume", "free"]))]
pub(crate) struct WipeArgs {
    #[command(flatten)]
    pub(crate) source: SourceArgs,
    /// Only these bytes: the first, and the one behind the last (sizes may be written out: 0..1GiB). By default the whole drive.
    #[arg(long, value_name = "FROM..TO")]
    pub(crate) range: Option<String>,
    /// Only the ground of this volume: id of the find (n1, n2, …), or @LBA of its first sector.
    #[arg(long, value_name = "ID")]
    pub(crate) volume: Option<String>,
    /// Only what nothing holds: ground outside of the table's entries, and what whole and closed volumes count as free.
    #[arg(long)]
    pub(crate) free: bool,
    /// What is written: zeros, random, or bytes in hexadecimal (55aa).
    #[arg(long, value_name = "zeros|random|HEX", default_value = "zeros")]
    pub(crate) pattern: String,
    /// Ask the drive itself for zeros, where it promises to read zeros then: quicker, and no overwriting; the certificate says so.
    #[arg(long)]
    pub(crate) by_device: bool,
    /// How much is read back and compared.
    #[arg(long, value_enum, default_value = "all")]
    pub(crate) verify: VerifyArg,
    /// Confirmation code of the drive.
    #[arg(long, value_name = "CODE")]
    pub(crate) confirm: Option<String>,
    /// Go on without the code: image files and simulated drives only.
    #[arg(long, conflicts_with = "confirm")]
    pub(crate) yes: bool,
    /// The words "overwrite it": there is no way back.
    #[arg(long, value_name = "TEXT", default_value = "")]
    pub(crate) words: String,
    /// Write down here how far it is; what was stopped goes on from there. By default with what is kept of the drive.
    #[arg(long, value_name = "FILE")]
    pub(crate) log: Option<PathBuf>,
    /// When all of it is written over and read back, renew the drive in this way, so that it can be handed back: stick, disk-windows, …, or
    /// one of the settings.
    #[arg(long, value_name = "RECIPE[=LABEL]", conflicts_with_all = ["range", "volume", "free", "json"])]
    pub(crate) then: Option<String>,
    /// Write the certificate to this file, as PDF.
    #[arg(long, value_name = "FILE.pdf")]
    pub(crate) certificate: Option<PathBuf>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum VerifyArg {
    /// Every sector.
    All,
    /// Both ends, and a thousand places spread evenly.
    Sample,
    /// Nothing: then nothing is proven.
    None,
}
