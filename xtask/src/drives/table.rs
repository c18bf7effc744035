//! The drives of the demo yard: what lies on them, and what is broken.

use super::SECTOR;

/// A volume of a demo drive.
#[derive(Clone, Copy)]
pub(super) struct Volume {
    pub(super) kind: &'static str,
    pub(super) label: &'static str,
    pub(super) first: u64,
    pub(super) sectors: u64,
    pub(super) seed: u64,
    pub(super) place: Place,
    pub(super) fill: Fill,
}

/// Where the table keeps a volume.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Place {
    /// An entry of its own.
    Entry,
    /// A logical partition; its EBR stands one MiB before it.
    Logical,
    /// None: it is of an older time, and a newer volume was made over it.
    Older,
}

/// What goes into a volume.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Fill {
    /// 70-odd files, written by the kernel's driver.
    Whole,
    /// The same, and a disk image of another volume among them.
    WithImage,
    /// A few files, put in without a driver.
    Few,
}

impl Volume {
    pub(super) const fn new(kind: &'static str, label: &'static str, first: u64, sectors: u64, seed: u64) -> Self {
        Self { kind, label, first, sectors, seed, place: Place::Entry, fill: Fill::Whole }
    }

    const fn logical(self) -> Self {
        Self { place: Place::Logical, ..self }
    }

    const fn older(self) -> Self {
        Self { place: Place::Older, ..self }
    }

    const fn with_image(self) -> Self {
        Self { fill: Fill::WithImage, ..self }
    }

    pub(super) const fn few(self) -> Self {
        Self { fill: Fill::Few, ..self }
    }
}

/// A demo drive before it is broken.
pub(super) struct Drive {
    pub(super) name: &'static str,
    pub(super) bytes: u64,
    pub(super) gpt: bool,
    /// Sector size that the table was written in.
    pub(super) sector: u64,
    /// Attribute bits of its GPT entries.
    pub(super) attributes: u64,
    /// The drive that the finished one was cloned to.
    pub(super) grown_to: Option<u64>,
    pub(super) volumes: &'static [Volume],
    /// Ranges of sectors to be zeroed: first and count; counted from the end when negative.
    pub(super) lost: &'static [(i64, u64)],
    /// Ranges of sectors to be filled with noise: first and count.
    pub(super) noise: &'static [(u64, u64)],
    /// What is left of former uses: sectors, and what begins there.
    pub(super) left: &'static [(u64, Left)],
    /// The volume that gets a journal, and the journal's header is lost.
    pub(super) journal: Option<&'static str>,
}

/// A drive of 512-byte sectors with an MBR, nothing lost.
const PLAIN: Drive = Drive {
    name: "",
    bytes: 0,
    gpt: false,
    sector: SECTOR,
    attributes: 0,
    grown_to: None,
    volumes: &[],
    lost: &[],
    noise: &[],
    left: &[],
    journal: None,
};

pub(super) const MIB: u64 = 2048;

/// The first bytes of something that is gone.
#[derive(Clone, Copy)]
pub(super) enum Left {
    /// Linux swap space of 256 MiB.
    Swap,
    /// The header of an encrypted volume.
    Luks,
}

impl Left {
    /// Its first bytes, in whole sectors.
    pub(super) fn bytes(self) -> Vec<u8> {
        let mut bytes = vec![0; 4096];
        match self {
            Self::Swap => {
                bytes[1024..1028].copy_from_slice(&1u32.to_le_bytes());
                bytes[1028..1032].copy_from_slice(&65_535u32.to_le_bytes());
                bytes[4086..].copy_from_slice(b"SWAPSPACE2");
            }
            Self::Luks => {
                bytes[..6].copy_from_slice(b"LUKS\xBA\xBE");
                bytes[6..8].copy_from_slice(&1u16.to_be_bytes());
                bytes[8..11].copy_from_slice(b"aes");
                bytes[40..51].copy_from_slice(b"xts-plain64");
                bytes[72..78].copy_from_slice(b"sha256");
                bytes[104..108].copy_from_slice(&4096u32.to_be_bytes());
                bytes[108..112].copy_from_slice(&64u32.to_be_bytes());
                bytes[168..204].copy_from_slice(b"5ea1ed00-0000-4000-8000-00000000b0a7");
            }
        }
        bytes
    }
}

/// Twenty-four small volumes, by turns FAT and ext4.
const FLEET: [Volume; 24] = {
    const NAMES: [&str; 24] = [
        "HERON", "TERN", "CURLEW", "PIPER", "WREN", "GANNET", "PLOVER", "DUNLIN", "KNOT", "TEAL", "SCOTER", "EIDER", "SMEW",
        "RUFF", "AVOCET", "GREBE", "BITTERN", "CRAKE", "COOT", "SNIPE", "WIGEON", "PINTAIL", "GARGANEY", "SHELDUCK",
    ];
    let mut volumes = [Volume::new("vfat", "", 0, 96 * MIB, 0).few(); 24];
    let mut index = 0;
    while index < 24 {
        let kind = if index % 2 == 0 { "vfat" } else { "ext4" };
        volumes[index] = Volume::new(kind, NAMES[index], MIB + index as u64 * 100 * MIB, 96 * MIB, 100 + index as u64).few();
        index += 1;
    }
    volumes
};

pub(super) const DRIVES: &[Drive] = &[
    Drive {
        name: "purser-stick",
        bytes: 15_931_539_456,
        volumes: &[Volume::new("vfat", "TICKETS", MIB, 3000 * MIB, 1), Volume::new("ntfs", "PURSER", 3001 * MIB, 9000 * MIB, 2)],
        lost: &[(0, 1)],
        ..PLAIN
    },
    Drive {
        name: "ticket-office",
        bytes: 120_034_123_776,
        gpt: true,
        volumes: &[
            Volume::new("ntfs", "OFFICE", MIB, 40_000 * MIB, 3),
            Volume::new("ntfs", "ARCHIVE", 40_001 * MIB, 60_000 * MIB, 4),
        ],
        lost: &[(1, 33)],
        ..PLAIN
    },
    Drive {
        name: "engine-log",
        bytes: 24_000_000_000,
        gpt: true,
        volumes: &[
            Volume::new("ntfs", "ENGINE", MIB, 6000 * MIB, 5),
            Volume::new("ntfs", "LOGBOOK", 6001 * MIB, 9000 * MIB, 6),
            Volume::new("vfat", "SPARES", 15_001 * MIB, 4000 * MIB, 7),
        ],
        // Both copies of the GPT, and both boot sectors of LOGBOOK.
        lost: &[(1, 33), (-33, 33), (6001 * MIB as i64, 1), ((15_001 * MIB - 1) as i64, 1)],
        ..PLAIN
    },
    Drive {
        name: "harbour-camera",
        bytes: 7_948_206_080,
        volumes: &[Volume::new("vfat", "CAMERA", 4 * MIB, 7500 * MIB, 8)],
        lost: &[(4 * MIB as i64, 1)],
        ..PLAIN
    },
    Drive {
        name: "winch-room",
        bytes: 4_009_754_624,
        volumes: &[Volume::new("ntfs", "WINCH", MIB, 3000 * MIB, 9)],
        lost: &[],
        ..PLAIN
    },
    Drive {
        name: "galley",
        bytes: 8_004_304_896,
        volumes: &[Volume::new("ntfs", "GALLEY", MIB, 5000 * MIB, 10), Volume::new("vfat", "MENUS", 5001 * MIB, 2000 * MIB, 11)],
        lost: &[],
        ..PLAIN
    },
    Drive {
        name: "timetable-desk",
        bytes: 16_013_942_784,
        volumes: &[
            Volume::new("ntfs", "COUNTER", MIB, 3000 * MIB, 12),
            Volume::new("vfat", "WINTER", 3002 * MIB, 3000 * MIB, 13).logical(),
            Volume::new("exfat", "SUMMER", 6003 * MIB, 4000 * MIB, 14).logical(),
            Volume::new("ext4", "DRAFTS", 10_004 * MIB, 2000 * MIB, 15).logical(),
        ],
        // The second EBR: the chain is cut behind WINTER.
        lost: &[(6002 * MIB as i64, 1)],
        ..PLAIN
    },
    Drive {
        name: "chart-table",
        bytes: 32_010_928_128,
        gpt: true,
        sector: 4096,
        volumes: &[
            Volume::new("vfat", "CHARTS", 2 * MIB, 8000 * MIB, 16),
            Volume::new("ntfs", "SOUNDINGS", 8002 * MIB, 16_000 * MIB, 17),
        ],
        ..PLAIN
    },
    Drive {
        name: "deckhand-laptop",
        bytes: 12_000_000_000,
        gpt: true,
        volumes: &[
            Volume::new("ntfs", "OLDLOG", 2001 * MIB, 6000 * MIB, 18).older(),
            Volume::new("exfat", "DECK", MIB, 4000 * MIB, 19),
        ],
        ..PLAIN
    },
    Drive {
        name: "backup-shelf",
        bytes: 20_000_000_000,
        volumes: &[Volume::new("ntfs", "SHELF", MIB, 18_000 * MIB, 20).with_image()],
        lost: &[(0, 1)],
        ..PLAIN
    },
    Drive {
        name: "skipper-archive",
        bytes: 10_000_000_512,
        gpt: true,
        volumes: &[Volume::new("hfsplus", "SKIPPER", 40, 9000 * MIB, 21)],
        lost: &[(1, 33), (-33, 33)],
        ..PLAIN
    },
    Drive {
        name: "stores-box",
        bytes: 8_000_000_000,
        volumes: &[Volume::new("ext4", "STORES", MIB, 7000 * MIB, 22)],
        lost: &[(MIB as i64, 8)],
        ..PLAIN
    },
    Drive { name: "fleet-register", bytes: 3_000_000_512, gpt: true, volumes: &FLEET, lost: &[(1, 33), (-33, 33)], ..PLAIN },
    Drive {
        name: "harbour-office",
        bytes: 9_000_000_000,
        gpt: true,
        attributes: 1 << 62 | 1 << 63,
        volumes: &[Volume::new("ntfs", "HARBOUR", MIB, 4000 * MIB, 23), Volume::new("vfat", "TIDES", 4001 * MIB, 3000 * MIB, 24)],
        ..PLAIN
    },
    Drive {
        name: "engine-spare",
        bytes: 8_000_000_000,
        gpt: true,
        grown_to: Some(16_000_000_000),
        volumes: &[Volume::new("ext4", "PISTON", MIB, 3000 * MIB, 25), Volume::new("ntfs", "VALVE", 3001 * MIB, 4000 * MIB, 26)],
        ..PLAIN
    },
    Drive {
        name: "lookout-camera",
        bytes: 6_000_000_000,
        volumes: &[Volume::new("vfat", "LOOKOUT", MIB, 5000 * MIB, 30)],
        // Boot sector and its backup.
        lost: &[(MIB as i64, 1), ((MIB + 6) as i64, 1)],
        ..PLAIN
    },
    Drive {
        name: "dry-dock",
        bytes: 7_000_000_000,
        volumes: &[Volume::new("ntfs", "DRYDOCK", MIB, 6000 * MIB, 31)],
        // Both boot sectors, and the first two records of the MFT, 16 KiB into the volume.
        lost: &[(MIB as i64, 1), ((6001 * MIB - 1) as i64, 1), ((MIB + 32) as i64, 4)],
        ..PLAIN
    },
    Drive {
        name: "wheelhouse",
        bytes: 5_000_000_000,
        volumes: &[Volume::new("vfat", "WHEEL", MIB, 4000 * MIB, 32)],
        // The front of the first copy of the FAT, which begins 32 sectors into the volume.
        noise: &[(MIB + 33, 3)],
        ..PLAIN
    },
    Drive {
        name: "deck-camera",
        bytes: 9_000_000_000,
        volumes: &[Volume::new("exfat", "DECKCAM", MIB, 8000 * MIB, 33)],
        lost: &[(MIB as i64, 12)],
        ..PLAIN
    },
    Drive {
        name: "linen-store",
        bytes: 5_500_000_000,
        volumes: &[Volume::new("ext4", "LINEN", MIB, 5000 * MIB, 34)],
        // Superblock and group descriptors.
        lost: &[(MIB as i64, 16)],
        ..PLAIN
    },
    Drive {
        name: "skipper-mirror",
        bytes: 6_500_000_000,
        gpt: true,
        volumes: &[Volume::new("hfsplus", "MIRROR", 40, 6000 * MIB, 35)],
        // Both headers.
        lost: &[(42, 1), ((40 + 6000 * MIB - 2) as i64, 1)],
        ..PLAIN
    },
    Drive {
        name: "deck-recorder",
        bytes: 4_500_000_000,
        gpt: true,
        volumes: &[Volume::new("hfsplus", "RECORDER", 40, 4000 * MIB, 36)],
        journal: Some("RECORDER"),
        ..PLAIN
    },
    // A stick that wraps: the volume was made for what it claims; the surface ends where the drive does.
    Drive {
        name: "tide-stick",
        bytes: 64_000_000_000,
        volumes: &[Volume::new("vfat", "TIDES", MIB, 61_000 * MIB, 60).few()],
        grown_to: Some(4_009_754_624),
        ..PLAIN
    },
    // One that drops what is written behind its end.
    Drive {
        name: "bargain-stick",
        bytes: 32_010_928_128,
        volumes: &[
            Volume::new("vfat", "BARGAIN", MIB, 8000 * MIB, 61).few(),
            Volume::new("ext4", "SLIPWAY", 8001 * MIB, 16_000 * MIB, 62).few(),
        ],
        grown_to: Some(2_004_877_312),
        ..PLAIN
    },
    // Three for Renew: one without anything on it, one full of what others left, one that is to have another table.
    Drive { name: "new-berth", bytes: 16_013_942_784, lost: &[(0, 1)], ..PLAIN },
    Drive {
        name: "lost-property",
        bytes: 8_004_304_896,
        gpt: true,
        volumes: &[
            Volume::new("vfat", "UMBRELLA", MIB, 2000 * MIB, 70).few(),
            Volume::new("ext4", "GLOVES", 3000 * MIB, 1000 * MIB, 71).few(),
        ],
        // The first GPT, the boot sectors of the first volume but its backup, and the front of the second one.
        lost: &[(0, 34), (MIB as i64, 6), (3000 * MIB as i64, 4096)],
        noise: &[(MIB + 32, 256)],
        left: &[(2100 * MIB, Left::Swap), (5000 * MIB, Left::Luks)],
        ..PLAIN
    },
    Drive {
        name: "pilot-cutter",
        bytes: 8_004_304_896,
        volumes: &[
            Volume::new("vfat", "PILOT", MIB, 2000 * MIB, 72).few(),
            Volume::new("ext4", "SOUNDER", 2002 * MIB, 1500 * MIB, 73).few().logical(),
            Volume::new("vfat", "TIDEBOOK", 3503 * MIB, 1000 * MIB, 74).few().logical(),
            Volume::new("ext4", "LEAD", 4504 * MIB, 3000 * MIB, 75).few().logical(),
        ],
        ..PLAIN
    },
];
