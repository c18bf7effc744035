//! Which format: a table of facts, and the answer that it gives to who is to read and write a volume.

use keel_format::VolumeKind;
use keel_source::size_decimal;
use serde::Serialize;

const GIB: u64 = 1 << 30;
const TIB: u64 = 1 << 40;

/// What reads or writes a volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Reader {
    /// A computer with Windows.
    Windows,
    /// A computer with macOS.
    Macos,
    /// A computer with Linux.
    Linux,
    /// A camera.
    Camera,
    /// A television.
    Television,
    /// A router that shares files.
    Router,
    /// A recorder of sound or pictures.
    Recorder,
}

impl Reader {
    /// All of them.
    pub const ALL: [Self; 7] =
        [Self::Windows, Self::Macos, Self::Linux, Self::Camera, Self::Television, Self::Router, Self::Recorder];

    /// The word by which it is typed.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Windows => "windows",
            Self::Macos => "macos",
            Self::Linux => "linux",
            Self::Camera => "camera",
            Self::Television => "television",
            Self::Router => "router",
            Self::Recorder => "recorder",
        }
    }
}

/// What a reader can do with a kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Can {
    /// Nothing.
    Nothing,
    /// Some devices read it, some do not.
    SomeRead,
    /// Some devices read and write it, some do not know it.
    Some,
    /// Reads it.
    Read,
    /// Some devices write it as well.
    SomeWrite,
    /// Reads and writes it.
    Write,
}

/// Whether something is so.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Sure {
    Yes,
    Perhaps,
    No,
}

impl Can {
    fn reads(self) -> Sure {
        match self {
            Self::Nothing => Sure::No,
            Self::SomeRead | Self::Some => Sure::Perhaps,
            Self::Read | Self::SomeWrite | Self::Write => Sure::Yes,
        }
    }

    fn writes(self) -> Sure {
        match self {
            Self::Nothing | Self::SomeRead | Self::Read => Sure::No,
            Self::Some | Self::SomeWrite => Sure::Perhaps,
            Self::Write => Sure::Yes,
        }
    }

    /// As it is shown in a table.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Nothing => "no",
            Self::SomeRead => "some read",
            Self::Some => "some",
            Self::Read => "reads",
            Self::SomeWrite => "reads, some write",
            Self::Write => "writes",
        }
    }
}

/// What is known of a kind by itself.
#[derive(Debug, Clone, Copy, Serialize)]
pub struct Limits {
    /// The kind.
    pub kind: VolumeKind,
    /// The largest file in bytes.
    pub file: u64,
    /// The largest volume in bytes that systems make and read.
    pub volume: u64,
    /// True where it keeps a journal: what is cut off is put right by itself.
    pub journal: bool,
    /// True where it writes little beside the files: sticks and cards wear less.
    pub spares_flash: bool,
}

/// The limits of each kind that is made here, those first that more devices know.
pub const LIMITS: &[Limits] = &[
    Limits { kind: VolumeKind::Fat32, file: 4 * GIB - 1, volume: 2 * TIB, journal: false, spares_flash: true },
    Limits { kind: VolumeKind::ExFat, file: 128 << 50, volume: 128 << 50, journal: false, spares_flash: true },
    Limits { kind: VolumeKind::Ntfs, file: 256 * TIB, volume: 256 * TIB, journal: true, spares_flash: false },
    Limits { kind: VolumeKind::Ext4, file: 16 * TIB, volume: 1 << 60, journal: true, spares_flash: false },
    Limits { kind: VolumeKind::HfsPlus, file: 8 << 60, volume: 8 << 60, journal: true, spares_flash: false },
    Limits { kind: VolumeKind::Fat16, file: 2 * GIB - 1, volume: 2 * GIB, journal: false, spares_flash: true },
    Limits { kind: VolumeKind::Ext3, file: 2 * TIB, volume: 16 * TIB, journal: true, spares_flash: false },
    Limits { kind: VolumeKind::Ext2, file: 2 * TIB, volume: 16 * TIB, journal: false, spares_flash: true },
    Limits { kind: VolumeKind::Fat12, file: 32 << 20, volume: 128 << 20, journal: false, spares_flash: true },
];

/// What a reader does with a kind, and since when. Where a pair is not named it can do nothing.
pub const FACTS: &[(VolumeKind, Reader, Can, &str)] = &[
    (VolumeKind::Fat12, Reader::Windows, Can::Write, "every version"),
    (VolumeKind::Fat12, Reader::Macos, Can::Write, "every version"),
    (VolumeKind::Fat12, Reader::Linux, Can::Write, "every kernel"),
    (VolumeKind::Fat16, Reader::Windows, Can::Write, "every version"),
    (VolumeKind::Fat16, Reader::Macos, Can::Write, "every version"),
    (VolumeKind::Fat16, Reader::Linux, Can::Write, "every kernel"),
    (VolumeKind::Fat16, Reader::Camera, Can::Write, "cards up to 2 GB"),
    (VolumeKind::Fat16, Reader::Television, Can::SomeRead, "older ones"),
    (VolumeKind::Fat16, Reader::Recorder, Can::Write, "cards up to 2 GB"),
    (VolumeKind::Fat32, Reader::Windows, Can::Write, "since 1996"),
    (VolumeKind::Fat32, Reader::Macos, Can::Write, "every version"),
    (VolumeKind::Fat32, Reader::Linux, Can::Write, "since kernel 2.0"),
    (VolumeKind::Fat32, Reader::Camera, Can::Write, "cards of 4 to 32 GB, by their standard"),
    (VolumeKind::Fat32, Reader::Television, Can::Write, "nearly all"),
    (VolumeKind::Fat32, Reader::Router, Can::Write, "nearly all"),
    (VolumeKind::Fat32, Reader::Recorder, Can::Write, "nearly all"),
    (VolumeKind::ExFat, Reader::Windows, Can::Write, "since Vista with its first service pack"),
    (VolumeKind::ExFat, Reader::Macos, Can::Write, "since 10.6.5"),
    (VolumeKind::ExFat, Reader::Linux, Can::Write, "since kernel 5.7; before that by a driver of its own"),
    (VolumeKind::ExFat, Reader::Camera, Can::Write, "cards above 32 GB, by their standard"),
    (VolumeKind::ExFat, Reader::Television, Can::Some, "most since about 2015"),
    (VolumeKind::ExFat, Reader::Router, Can::Some, "newer ones"),
    (VolumeKind::ExFat, Reader::Recorder, Can::Some, "those that take cards above 32 GB"),
    (VolumeKind::Ntfs, Reader::Windows, Can::Write, "since Windows XP in this version"),
    (VolumeKind::Ntfs, Reader::Macos, Can::Read, "since 10.3; it does not write"),
    (VolumeKind::Ntfs, Reader::Linux, Can::Write, "since kernel 5.15; before that by a driver of its own"),
    (VolumeKind::Ntfs, Reader::Television, Can::Read, "most"),
    (VolumeKind::Ntfs, Reader::Router, Can::SomeWrite, "most"),
    (VolumeKind::Ntfs, Reader::Recorder, Can::SomeRead, "a few"),
    (VolumeKind::Ext2, Reader::Linux, Can::Write, "every kernel"),
    (VolumeKind::Ext2, Reader::Router, Can::SomeWrite, "those that run Linux"),
    (VolumeKind::Ext3, Reader::Linux, Can::Write, "since kernel 2.4.15"),
    (VolumeKind::Ext3, Reader::Router, Can::SomeWrite, "those that run Linux"),
    (VolumeKind::Ext3, Reader::Television, Can::SomeRead, "a few that record"),
    (VolumeKind::Ext4, Reader::Linux, Can::Write, "since kernel 2.6.28"),
    (VolumeKind::Ext4, Reader::Router, Can::SomeWrite, "those that run Linux"),
    (VolumeKind::HfsPlus, Reader::Macos, Can::Write, "since 8.1"),
    (VolumeKind::HfsPlus, Reader::Linux, Can::Read, "it writes where there is no journal"),
    (VolumeKind::HfsPlus, Reader::Router, Can::SomeRead, "a few"),
];

/// What a volume is for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Purpose {
    /// Who is to read it.
    pub readers: Vec<Reader>,
    /// Who is to write it; whoever reads it where nobody is named.
    pub writers: Vec<Reader>,
    /// The largest file in bytes, where it is known.
    pub largest_file: Option<u64>,
    /// Its length in bytes.
    pub bytes: u64,
    /// How many files, where it is known.
    pub files: Option<u64>,
}

/// What the table says of one kind for a purpose.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Answer {
    /// The kind.
    pub kind: VolumeKind,
    /// True where it serves everyone.
    pub serves: bool,
    /// True where it serves everyone only as far as devices of that sort do.
    pub doubtful: bool,
    /// What speaks against it, as sentences.
    pub against: Vec<String>,
    /// What speaks for it.
    pub because: Vec<String>,
}

/// What a reader can do with a kind, and since when.
#[must_use]
pub fn fact(kind: VolumeKind, reader: Reader) -> (Can, &'static str) {
    let found = FACTS.iter().find(|(own, who, ..)| *own == kind && *who == reader);
    found.map_or((Can::Nothing, ""), |(.., can, since)| (*can, *since))
}

/// From so many files on folders are wanted that are searched and not gone through.
const MANY_FILES: u64 = 200_000;

fn answer(limits: &Limits, purpose: &Purpose) -> Answer {
    let (mut against, mut because, mut doubtful, mut unserved) = (Vec::new(), Vec::new(), false, false);
    let writers = if purpose.writers.is_empty() { &purpose.readers } else { &purpose.writers };
    let mut all = purpose.readers.clone();
    all.extend(writers.iter().filter(|writer| !purpose.readers.contains(writer)));
    for reader in &all {
        let (can, since) = fact(limits.kind, *reader);
        let writes = writers.contains(reader);
        let word = reader.word();
        match if writes { can.writes() } else { can.reads() } {
            Sure::Yes => because.push(format!("{word}: {} ({since})", can.word())),
            Sure::Perhaps => {
                doubtful = true;
                against.push(format!("{word}: {} ({since}): not every one does", can.word()));
            }
            Sure::No => {
                unserved = true;
                against.push(match can {
                    Can::Nothing => format!("{word} does not know it"),
                    can => format!("{word} {} it and does not write it ({since})", can.word()),
                });
            }
        }
    }
    let too_large = purpose.largest_file.filter(|bytes| *bytes > limits.file);
    if too_large.is_some() {
        against.push(format!("files end at {}", size_decimal(limits.file)));
    }
    if purpose.bytes > limits.volume {
        against.push(format!("volumes end at {}", size_decimal(limits.volume)));
    }
    // Cards have a standard of their own: FAT32 up to 32 GB, exFAT above.
    let card = all.iter().any(|reader| matches!(reader, Reader::Camera | Reader::Recorder));
    let is_small = purpose.bytes <= 32 * GIB;
    let wrong_card = card
        && match limits.kind {
            VolumeKind::Fat32 => !is_small,
            VolumeKind::ExFat => is_small,
            _ => false,
        };
    if wrong_card {
        against.push("cards up to 32 GB have FAT32 and larger ones exFAT, by their standard: devices may refuse another".into());
        doubtful = true;
    }
    let many = purpose.files.is_some_and(|files| files > MANY_FILES) && !limits.journal;
    if many {
        against.push("folders of many files are slow on it".into());
    }
    if limits.journal {
        because.push("it keeps a journal: pulled while it writes, it puts itself right".into());
    } else if limits.spares_flash {
        because.push("it writes little beside the files: sticks and cards wear less".into());
    }
    let serves = !unserved && too_large.is_none() && purpose.bytes <= limits.volume;
    Answer { kind: limits.kind, serves, doubtful, against, because }
}

/// What the table says of every kind for a purpose: the best first. Without readers the order is that of the table.
#[must_use]
pub fn answers(purpose: &Purpose) -> Vec<Answer> {
    let journal = |kind: VolumeKind| LIMITS.iter().any(|limits| limits.kind == kind && limits.journal);
    let computers = [Reader::Windows, Reader::Macos, Reader::Linux];
    let alone = purpose.readers.len() == 1 && purpose.readers.iter().all(|reader| computers.contains(reader));
    let mut all: Vec<Answer> = LIMITS.iter().map(|limits| answer(limits, purpose)).collect();
    // One computer alone is served best by a journal and by what it was made for.
    let native = |kind: VolumeKind| match purpose.readers.first() {
        Some(Reader::Windows) => kind == VolumeKind::Ntfs,
        Some(Reader::Macos) => kind == VolumeKind::HfsPlus,
        Some(Reader::Linux) => kind == VolumeKind::Ext4,
        _ => false,
    };
    let small = |kind: VolumeKind| matches!(kind, VolumeKind::Fat12 | VolumeKind::Fat16);
    all.sort_by_key(|answer| {
        let fit = alone && native(answer.kind);
        // A larger limit is the better one where both serve: files grow.
        (
            !answer.serves,
            answer.doubtful,
            !fit,
            alone && !journal(answer.kind),
            small(answer.kind),
            answer.kind != VolumeKind::ExFat,
        )
    });
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn best(readers: &[Reader], writers: &[Reader], largest_file: u64, bytes: u64) -> (VolumeKind, bool) {
        let purpose = Purpose {
            readers: readers.to_vec(),
            writers: writers.to_vec(),
            largest_file: Some(largest_file),
            bytes,
            files: None,
        };
        let first = answers(&purpose).swap_remove(0);
        (first.kind, first.serves && !first.doubtful)
    }

    #[test]
    fn the_usual_questions_have_the_usual_answers() {
        use Reader::{Camera, Linux, Macos, Recorder, Router, Television, Windows};
        use VolumeKind::{ExFat, Ext4, Fat32, HfsPlus, Ntfs};
        for (readers, writers, file, bytes, kind) in [
            (&[Windows][..], &[][..], GIB, 500 * GIB, Ntfs),
            (&[Macos], &[], GIB, 500 * GIB, HfsPlus),
            (&[Linux], &[], GIB, 500 * GIB, Ext4),
            (&[Windows, Macos, Linux], &[], 20 * GIB, 64 * GIB, ExFat),
            (&[Windows, Macos], &[], 20 * GIB, 4 * TIB, ExFat),
            (&[Camera, Windows], &[], GIB, 16 * GIB, Fat32),
            (&[Camera, Windows], &[], 20 * GIB, 128 * GIB, ExFat),
            (&[Television, Windows], &[Windows], 3 * GIB, 64 * GIB, Fat32),
            (&[Television, Windows], &[Windows], 20 * GIB, 64 * GIB, Ntfs),
            (&[Router, Windows, Macos], &[], GIB, 64 * GIB, Fat32),
            (&[Recorder], &[], GIB, 32 * GIB, Fat32),
        ] {
            assert_eq!(best(readers, writers, file, bytes), (kind, true), "{readers:?} {writers:?} {file} {bytes}");
        }
    }

    #[test]
    fn what_nothing_serves_is_said_with_the_reasons() {
        let purpose = Purpose {
            readers: vec![Reader::Camera, Reader::Television],
            largest_file: Some(20 * GIB),
            bytes: 16 * GIB,
            ..Purpose::default()
        };
        let all = answers(&purpose);
        assert!(all.iter().all(|answer| !answer.serves || answer.doubtful));
        let ext = all.iter().find(|answer| answer.kind == VolumeKind::Ext4).unwrap();
        assert!(ext.against.iter().any(|why| why == "camera does not know it"), "{:?}", ext.against);
        let fat = all.iter().find(|answer| answer.kind == VolumeKind::Fat32).unwrap();
        assert!(fat.against.iter().any(|why| why.contains("files end at 4.2 GB")), "{:?}", fat.against);
    }

    #[test]
    fn every_kind_that_is_made_has_its_limits_and_a_reader_that_writes_it() {
        for kind in super::super::makeable() {
            assert_eq!(LIMITS.iter().filter(|limits| limits.kind == kind).count(), 1, "{kind:?}");
            assert!(Reader::ALL.iter().any(|reader| fact(kind, *reader).0 == Can::Write), "{kind:?}");
        }
        for (index, (kind, reader, ..)) in FACTS.iter().enumerate() {
            let again = FACTS.iter().skip(index + 1).any(|(other, who, ..)| (other, who) == (kind, reader));
            assert!(!again, "{kind:?} and {reader:?} are told once");
        }
    }
}
