//! The health pages that a drive keeps of itself, as the drive gives them. What they say is read in `keel-format`.

use serde::{Deserialize, Serialize};

use crate::FurtherEnd;

/// Bytes of each page.
pub const HEALTH_PAGE_BYTES: usize = 512;

/// A health page as bytes in its standard's layout.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HealthPage {
    /// ATA: what SMART READ DATA and SMART READ THRESHOLDS give.
    Ata {
        /// Device SMART data structure.
        data: Box<[u8; HEALTH_PAGE_BYTES]>,
        /// Device attribute thresholds; zeros where the drive does not tell them.
        thresholds: Box<[u8; HEALTH_PAGE_BYTES]>,
        /// SCT status (log E0h), where the drive keeps it.
        sct: Option<Box<[u8; HEALTH_PAGE_BYTES]>>,
    },
    /// SCSI: log pages, each with its head of four bytes.
    Scsi {
        /// The pages.
        pages: Vec<Vec<u8>>,
    },
    /// NVMe: log page 02h, SMART / Health Information.
    Nvme {
        /// The log page.
        log: Box<[u8; HEALTH_PAGE_BYTES]>,
    },
}

/// A test that a drive makes of itself.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SelfTestOrder {
    /// A few minutes: electronics, heads, a part of the surface.
    Short,
    /// The whole surface: hours.
    Extended,
    /// Stop the one that runs.
    Stop,
}

/// What a drive remembers of its tests, as it hands it out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SelfTestLog {
    /// ATA.
    Ata {
        /// Self-test execution status byte of the SMART data (byte 363).
        status: u8,
        /// Log 06h, 512 bytes.
        log: Vec<u8>,
    },
    /// NVMe: log page 06h, 564 bytes.
    Nvme {
        /// The log page.
        log: Vec<u8>,
    },
    /// SCSI: log page 10h.
    Scsi {
        /// The log page, with its head.
        page: Vec<u8>,
        /// `PROGRESS INDICATION` of the test that runs, of 65536.
        progress: Option<u16>,
    },
}

/// The errors that a drive remembers, as it hands them out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ErrorLog {
    /// ATA: SMART log 01h, 512 bytes.
    Ata {
        /// The log.
        log: Vec<u8>,
    },
    /// NVMe: log page 01h, entries of 64 bytes.
    Nvme {
        /// The log page.
        log: Vec<u8>,
    },
}

/// What a drive itself says of its size, whatever stands between.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OwnSize {
    /// `IDENTIFY DEVICE` data, 512 bytes, of an ATA drive.
    pub identify: Option<Vec<u8>>,
    /// What an NVMe drive says of its namespaces.
    pub namespaces: Option<NvmeIdentify>,
    /// Where its addresses could end beyond where they do, nearest first, as far as it tells.
    pub further: Vec<FurtherEnd>,
}

/// Identify data of an NVMe drive, as it hands them out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NvmeIdentify {
    /// The namespace that the device shows.
    pub own: u32,
    /// Identify Controller, 4096 bytes.
    pub controller: Vec<u8>,
    /// Active Namespace ID list, 4096 bytes.
    pub active: Vec<u8>,
}

/// Why a drive that answers does not deliver.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum NotReady {
    /// `LOGICAL UNIT IS IN PROCESS OF BECOMING READY` (2h/04h/01h).
    Becoming,
    /// `LOGICAL UNIT NOT READY, INITIALIZING COMMAND REQUIRED` (2h/04h/02h): it stands by.
    StandsBy,
    /// `… MANUAL INTERVENTION REQUIRED` (2h/04h/03h).
    ByHand,
    /// Another reason.
    Other,
}

/// Why there is no health page.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoHealth {
    /// A source of a kind that keeps none: an image, a view.
    #[error("an image keeps no attributes")]
    NotKept,
    /// The drive, or the bridge before it, does not hand them out.
    #[error("the drive does not hand out its attributes: {reason}")]
    Refused {
        /// The system's or the drive's words.
        reason: String,
    },
}
