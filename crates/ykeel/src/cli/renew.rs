//! What `renew` takes.

use clap::{Args, ValueEnum};

use super::mend::SchemeArg;
use super::{ApplyArgs, SourceArgs};

#[derive(Debug, Args)]
pub(crate) struct RenewArgs {
    #[command(flatten)]
    pub(crate) source: SourceArgs,
    /// Make the table anew: gpt, mbr, none (one volume takes the whole drive), or mark (signature and identifier of sector 0 alone).
    #[arg(long, value_enum)]
    pub(crate) table: Option<TableArg>,
    /// Make the table one of the other scheme; no volume moves.
    #[arg(long, value_enum, conflicts_with = "table")]
    pub(crate) convert: Option<SchemeArg>,
    /// Delete an entry, by the number that the table shows; what stands on its ground stays findable.
    #[arg(long, value_name = "N")]
    pub(crate) delete: Vec<u32>,
    /// Add a volume in free ground: its kind (fat12 fat16 fat32 exfat ntfs ext2 ext3 ext4 hfsplus), and behind it, with commas,
    /// size=SIZE (500 MB, 20 GiB, 2048s, 25%, rest), at=LBA, cluster=BYTES, journal=no, label=TEXT.
    #[arg(long, value_name = "KIND[,size=SIZE][,at=LBA][,label=TEXT][,cluster=BYTES]")]
    pub(crate) add: Vec<String>,
    /// Make a new volume in an entry: its number, `=`, and the kind with what else is wanted.
    #[arg(long, value_name = "N=KIND[,label=TEXT][,cluster=BYTES]")]
    pub(crate) format: Vec<String>,
    /// Make an entry and the volume in it longer, up to SIZE or into the rest of what is free behind it; nothing is lost.
    #[arg(long, value_name = "N=SIZE|rest")]
    pub(crate) grow: Vec<String>,
    /// Make an entry and the volume in it shorter, down to SIZE or to the least that its content allows; nothing is lost.
    #[arg(long, value_name = "N=SIZE|least")]
    pub(crate) shrink: Vec<String>,
    /// Give an entry just these marks: active, hidden, read-only, no-automatic-mount, required, or none.
    #[arg(long, value_name = "N=FLAG[,FLAG]")]
    pub(crate) flag: Vec<String>,
    /// Give an entry another type: an MBR type (0x07) or a GPT type GUID.
    #[arg(long = "type", value_name = "N=TYPE")]
    pub(crate) types: Vec<String>,
    /// Give an entry of a GPT another name.
    #[arg(long, value_name = "N=TEXT")]
    pub(crate) name: Vec<String>,
    /// Number the entries in this order.
    #[arg(long, value_name = "N,N,..", value_delimiter = ',')]
    pub(crate) order: Vec<u32>,
    /// Which kind serves these: windows, macos, linux, camera, television, router, recorder. Without `--table` or `--format` the answer
    /// alone is printed; with `--table` and no `--add` it is followed.
    #[arg(long = "for", value_name = "SYSTEM,..", value_delimiter = ',')]
    pub(crate) readers: Vec<String>,
    /// Of those, only these write.
    #[arg(long, value_name = "SYSTEM,..", value_delimiter = ',', requires = "readers")]
    pub(crate) written_by: Vec<String>,
    /// The largest file that it is to hold.
    #[arg(long, value_name = "SIZE", requires = "readers")]
    pub(crate) largest_file: Option<String>,
    /// How many files it is to hold.
    #[arg(long, value_name = "COUNT", requires = "readers")]
    pub(crate) files: Option<u64>,
    /// One of the usual ways: stick, disk-windows, disk-linux, disk-macos, archive, camera, anew; NAME=LABEL labels the volume.
    #[arg(long, value_name = "NAME[=LABEL]", conflicts_with_all = ["table", "convert", "add", "format", "delete"])]
    pub(crate) recipe: Option<String>,
    /// Clear the signatures of former volumes, tables and containers, and both ends of the drive, where nothing that stays holds them.
    #[arg(long)]
    pub(crate) clear_leftovers: bool,
    #[command(flatten)]
    pub(crate) apply: ApplyArgs,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TableArg {
    /// The GUID partition table.
    Gpt,
    /// The table in sector 0.
    Mbr,
    /// None: one volume takes the whole drive.
    None,
    /// Signature and identifier of sector 0 alone; its entries stay.
    Mark,
}
