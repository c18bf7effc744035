//! Partition tables: what they say, what is wrong with them, and how new ones are made.

pub mod apm;
pub mod gpt;
pub mod mbr;
pub mod mend;
mod shape;

#[cfg(test)]
mod tests;

pub(crate) use shape::SHAPES;

use keel_source::{ByteOffset, ByteRange, Lba, Resectored, SectorCount, SectorSize, SharedSource, Source};
use serde::Serialize;
use uuid::Uuid;

use crate::{Finding, Severity, VolumeKind};

/// The two schemes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Scheme {
    /// The table in sector 0, with logical partitions in a chain.
    Mbr,
    /// The GUID partition table with its two copies.
    Gpt,
    /// The Apple partition map: read, not written.
    Apm,
}

impl Scheme {
    /// `MBR` or `GPT`.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Mbr => "MBR",
            Self::Gpt => "GPT",
            Self::Apm => "Apple partition map",
        }
    }
}

/// The place a partition has in its table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// One of the four entries of an MBR.
    Primary,
    /// The container of the logical partitions.
    Extended,
    /// Inside the extended partition, pointed at by an EBR.
    Logical,
    /// An entry of a GPT.
    Gpt,
    /// An entry of an Apple partition map.
    Apm,
}

impl Role {
    /// The scheme whose tables have such entries.
    #[must_use]
    pub fn scheme(self) -> Scheme {
        match self {
            Self::Primary | Self::Extended | Self::Logical => Scheme::Mbr,
            Self::Gpt => Scheme::Gpt,
            Self::Apm => Scheme::Apm,
        }
    }
}

impl Role {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Primary => "primary",
            Self::Extended => "extended",
            Self::Logical => "logical",
            Self::Gpt => "GPT entry",
            Self::Apm => "map entry",
        }
    }
}

/// The type a table entry gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(untagged)]
pub enum TypeCode {
    /// `OSType` of an MBR or EBR entry.
    Mbr(u8),
    /// `PartitionTypeGUID` of a GPT entry.
    Gpt(Uuid),
    /// `pmParType` of an Apple partition map.
    Apm(&'static str),
}

impl std::fmt::Display for TypeCode {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Mbr(code) => write!(f, "0x{code:02X}"),
            Self::Gpt(guid) => write!(f, "{}", guid.hyphenated().to_string().to_uppercase()),
            Self::Apm(name) => f.write_str(name),
        }
    }
}

impl TypeCode {
    /// The type that `text` names: `0x07` for an MBR, a GUID for a GPT.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        match text.strip_prefix("0x") {
            Some(hex) => u8::from_str_radix(hex, 16).ok().filter(|code| *code != 0).map(Self::Mbr),
            None => text.parse().ok().map(Self::Gpt),
        }
    }

    /// The type an operating system expects for a volume of `kind` and `bytes` bytes.
    #[must_use]
    pub fn for_volume(scheme: Scheme, kind: VolumeKind, bytes: u64) -> Self {
        match scheme {
            Scheme::Gpt => Self::Gpt(kind.facts().gpt.0),
            Scheme::Apm => Self::Apm(apm::type_for(kind)),
            Scheme::Mbr => Self::Mbr(kind.facts().mbr.for_length(bytes)),
        }
    }

    /// The types of the same table behind which systems look for a volume of `kind`, the customary one first.
    #[must_use]
    pub fn alike(self, kind: VolumeKind) -> Vec<Self> {
        match self {
            Self::Mbr(_) => {
                let types = kind.facts().mbr;
                std::iter::once(types.usual).chain(types.also.iter().copied()).map(Self::Mbr).collect()
            }
            Self::Gpt(_) => {
                let (first, others) = kind.facts().gpt;
                std::iter::once(first).chain(others.iter().copied()).map(Self::Gpt).collect()
            }
            Self::Apm(_) => vec![Self::Apm(apm::type_for(kind))],
        }
    }

    /// The scheme whose tables have such types.
    #[must_use]
    pub fn scheme(self) -> Scheme {
        match self {
            Self::Mbr(_) => Scheme::Mbr,
            Self::Gpt(_) => Scheme::Gpt,
            Self::Apm(_) => Scheme::Apm,
        }
    }

    /// What it stands for, in words.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Mbr(code) => mbr::word_for(code),
            Self::Gpt(guid) => gpt::word_for(guid),
            Self::Apm(name) => name,
        }
    }

    /// True for types whose ground is used without a file system: by a loader, or by the system itself.
    #[must_use]
    pub fn holds_no_volume(self) -> bool {
        match self {
            Self::Mbr(code) => mbr::holds_no_volume(code),
            Self::Gpt(guid) => gpt::holds_no_volume(guid),
            Self::Apm(_) => false,
        }
    }

    /// True when an operating system looks for a volume of `kind` behind this type.
    #[must_use]
    pub fn fits(self, kind: VolumeKind) -> bool {
        match self {
            Self::Mbr(code) => {
                let types = kind.facts().mbr;
                code == types.usual || types.also.contains(&code)
            }
            Self::Gpt(guid) => {
                let (first, others) = kind.facts().gpt;
                guid == first || others.contains(&guid)
            }
            Self::Apm(name) => apm::fits(name, kind),
        }
    }
}

/// One partition as a table states it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Partition {
    /// Number in the table, from 1; logicals count from 5.
    pub slot: u32,
    /// Role.
    pub role: Role,
    /// First sector.
    pub first: Lba,
    /// Length in sectors.
    pub sectors: SectorCount,
    /// Type.
    pub type_code: TypeCode,
    /// Name (GPT only).
    pub name: Option<String>,
    /// `UniquePartitionGUID` (GPT only).
    pub unique: Option<Uuid>,
    /// Attribute bits (GPT) or the boot indicator (MBR).
    pub attributes: u64,
    /// Where the entry itself stands.
    pub entry_at: ByteOffset,
}

impl Partition {
    /// The ground it claims.
    #[must_use]
    pub fn range(&self, sector: SectorSize) -> ByteRange {
        ByteRange::sized(self.first.offset(sector), self.sectors.bytes(sector))
    }

    /// True when a volume on `ground` mounts through this entry: the same start, and room for all of it. Formatters
    /// leave a tail of the entry unused (a part of a track or cluster).
    #[must_use]
    pub fn holds(&self, ground: ByteRange, sector: SectorSize) -> bool {
        let own = self.range(sector);
        own.start == ground.start && own.end >= ground.end
    }
}

/// Everything the table places of a drive say.
#[derive(Debug, Clone)]
pub struct TableReading {
    /// The scheme an operating system would take, when there is one.
    pub scheme: Option<Scheme>,
    /// Its partitions, extended containers left out.
    pub partitions: Vec<Partition>,
    /// Sector 0 as an MBR.
    pub mbr: mbr::MbrReading,
    /// The GPT at LBA 1.
    pub primary: gpt::GptReading,
    /// The GPT at the last LBA.
    pub backup: gpt::GptReading,
    /// An Apple partition map behind sector 0.
    pub apm: apm::ApmReading,
    /// Everything that is wrong.
    pub findings: Vec<Finding>,
}

impl TableReading {
    /// What the table calls the drive: `DiskGUID` of a GPT, or the signature of an MBR. Operating systems take two
    /// drives of the same name for one.
    #[must_use]
    pub fn disk_identifier(&self) -> Option<String> {
        let header = self.primary.header.or(self.backup.header);
        match self.scheme? {
            Scheme::Gpt => header.map(|header| header.disk.hyphenated().to_string().to_uppercase()),
            Scheme::Apm => None,
            Scheme::Mbr => (self.mbr.disk_signature != 0).then(|| format!("{:08X}", self.mbr.disk_signature)),
        }
    }

    /// True when nothing is wrong with the table itself.
    #[must_use]
    pub fn is_sound(&self) -> bool {
        self.scheme.is_some() && self.findings.iter().all(|finding| finding.severity == Severity::Note)
    }
}

/// Reads the MBR with its extended chain, and both copies of a GPT. Never fails: what cannot be read is a finding.
/// At most 128 logical partitions and GPT arrays up to 1 MiB are followed.
#[must_use]
pub fn read(source: &dyn Source) -> TableReading {
    let mbr = mbr::read(source);
    let last = Lba((source.len() / source.sector_size().bytes()).saturating_sub(1));
    let primary = gpt::read_copy(source, Lba(1), gpt::Copy::Primary);
    let backup = gpt::read_copy(source, last, gpt::Copy::Backup);
    let mut findings = mbr.findings.clone();
    let has_gpt = primary.is_present() || backup.is_present() || mbr.protective;
    let gpt_first = primary.is_sound() || backup.is_sound();
    let mut scheme = None;
    let mut partitions = Vec::new();
    if mbr.signature && !mbr.protective && !mbr.partitions.is_empty() {
        scheme = Some(Scheme::Mbr);
        partitions.clone_from(&mbr.partitions);
        let stated = if primary.is_sound() { &primary.partitions } else { &backup.partitions };
        let same = |entry: &Partition| stated.iter().any(|other| other.first == entry.first);
        if gpt_first && mbr.partitions.iter().all(same) {
            let what = "an MBR stands beside a GPT, and its entries are some of the GPT's: both are in use";
            findings.push(Finding::at(Severity::Note, ByteOffset(0), what, "starts of the entries of both"));
        } else if gpt_first {
            findings.push(Finding::at(
                Severity::Doubt,
                ByteOffset(0),
                "an MBR with entries of its own stands beside a GPT: one of them is a leftover",
                "sector 0 has no protective entry, and a GPT header with a right checksum was read",
            ));
        }
    } else if gpt_first {
        scheme = Some(Scheme::Gpt);
        partitions = if primary.is_sound() { primary.partitions.clone() } else { backup.partitions.clone() };
        if !mbr.protective {
            findings.push(Finding::at(
                Severity::Broken,
                ByteOffset(0),
                "a GPT without its protective MBR: operating systems will not look for it",
                "sector 0 has no entry of type 0xEE",
            ));
        }
    } else if mbr.signature && !mbr.protective {
        scheme = Some(Scheme::Mbr);
    }
    if has_gpt && scheme != Some(Scheme::Mbr) {
        findings.extend(primary.findings.iter().cloned());
        findings.extend(backup.findings.iter().cloned());
        gpt::compare(&primary, &backup, source, &mut findings);
    }
    let apm = apm::read(source);
    if apm.present && scheme.is_none() && !mbr.is_volume {
        scheme = Some(Scheme::Apm);
        partitions.clone_from(&apm.partitions);
        // Sector 0 of such a drive is no MBR by design.
        findings.clone_from(&apm.findings);
    }
    check_ground(source, &partitions, &mut findings);
    TableReading { scheme, partitions, mbr, primary, backup, apm, findings }
}

/// The drive in the other customary sector size, and its table read so; none for a drive of neither.
#[must_use]
pub fn read_in_other_size(source: &SharedSource) -> Option<(SectorSize, TableReading)> {
    /// The sector sizes that drives and bridges use.
    const SIZES: [u32; 2] = [512, 4096];
    let other = SIZES.into_iter().find(|size| *size != source.sector_size().0).map(SectorSize)?;
    Some((other, read(&Resectored::new(SharedSource::clone(source), other))))
}

/// Entries that reach behind the end of the drive or overlap one another.
fn check_ground(source: &dyn Source, partitions: &[Partition], findings: &mut Vec<Finding>) {
    let sector = source.sector_size();
    let mut sorted: Vec<&Partition> = partitions.iter().collect();
    sorted.sort_by_key(|partition| partition.first);
    for partition in &sorted {
        let range = partition.range(sector);
        if range.end.0 > source.len() {
            let what = format!("entry {} ends at {}, the drive at byte {}", partition.slot, range.end, source.len());
            findings.push(Finding::at(Severity::Broken, partition.entry_at, what, "start and length of the entry"));
        }
    }
    for (one, two) in sorted.iter().zip(sorted.iter().skip(1)) {
        if one.range(sector).overlap(two.range(sector)).is_some() {
            let what = format!("entries {} and {} claim the same ground", one.slot, two.slot);
            findings.push(Finding::at(
                Severity::Broken,
                two.entry_at,
                what,
                format!("entry {} starts at {}", two.slot, two.first),
            ));
        }
    }
}
