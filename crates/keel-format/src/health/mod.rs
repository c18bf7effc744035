//! Health pages: what a drive keeps of itself, read from the bytes that it hands out.
//!
//! Sources: ATA Command Set (SMART feature set: device SMART data structure; the attribute table as drive makers keep it in
//! its vendor-specific part; SCT status, log E0h); SCSI Primary Commands (log pages); NVM Express Base Specification, Get Log Page, SMART / Health Information (log identifier 02h).

mod error_log;
mod identify;
mod layout;
mod namespaces;
mod read;
mod scsi;
mod self_test;

pub use error_log::{LoggedError, LoggedErrors};
pub use identify::{Identify, Security};
pub use namespaces::Namespaces;
pub use read::{AtaAttribute, AtaHealth, HealthReading, NvmeHealth, attribute_word, read};
pub use scsi::{ErrorCounters, ScsiHealth};
pub use self_test::{SelfTest, SelfTests, TestOutcome};

#[cfg(test)]
mod tests;
