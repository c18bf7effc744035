//! What is on disk: partition tables and file systems. No interface code, no search strategy: this crate parses
//! structures, says what they witness, reads trees and files through them, and makes new ones.
//!
//! Every format folder has the same rooms: `layout` (structures as stored, with the standard's field names),
//! `witness` (evidence for a volume), `read` (tree and files), `mend` (rebuild from copies), `make` (create new), `resize` (fit to
//! another length).
//!
//! Contract of every parser here: any bytes are accepted; no panic, no endless loop (every chain has a named bound),
//! and no allocation sized by an unchecked field.
#![forbid(unsafe_code)]
#![cfg_attr(not(test), deny(clippy::indexing_slicing))]

mod bounded;
mod bounds;
mod chain;
pub mod check;
pub mod clue;
pub mod content;
mod device;
mod error;
pub mod exfat;
pub mod ext;
pub mod fat;
mod file_map;
mod finding;
pub mod former;
mod geometry;
pub mod health;
pub mod hfsplus;
mod kind;
pub mod make;
pub mod ntfs;
pub mod pages;
pub mod recognised;
pub mod registry;
mod relocate;
mod remnant;
mod replay;
pub mod resize;
pub mod shape;
mod spelling;
pub mod stamp;
mod stream;
pub mod structure;
pub mod table;
mod tree;
mod up_case;
mod view;
mod volume;
mod witness;
pub mod xfs;

pub use chain::{Chain, Link, LinkTable};
pub use check::{Allocation, BitOrder, Checked, Mending};
pub use device::{read_bytes, read_lenient};
pub use error::{FormatError, Problem};
pub use finding::{Finding, Severity};
pub use geometry::Geometry;
pub use kind::{Driver, Holds, KeptOfDeleted, KindFacts, Maker, MbrTypes, Promise, VolumeKind};
pub use remnant::is_nameless;
pub use stamp::Stamp;
pub use stream::{Extent, ExtentStream, MemoryStream, StreamReader, read_whole};
pub use structure::{Compute, Computed, Field, Form, Repair, Row, Structure, Take, Version};
pub use view::View;
pub use volume::{Deleted, Entry, Existence, LeftOpen, NodeId, NodeKind, StreamInfo, Times, Volume, VolumeSummary, WalkEntry};
pub use witness::{FoundVolume, Witness, WitnessKind};
