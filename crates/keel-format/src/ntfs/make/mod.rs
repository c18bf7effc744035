//! Making an NTFS boot sector from a geometry, and a new, empty volume.

mod attributes;
mod ground;
mod security;
mod tables;

use keel_source::{Generate, Payload};
use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32, U64};

use self::attributes::{File, HAS_BELOW, Made, blank, index_block, last_entry, name_entry, record};
use self::ground::{BOOT_BYTES, Fixed, Ground, Stretch, mirrored, too_small};
use super::NtfsGeometry;
use super::layout::{BITMAP, DATA, FILE_NAME, INDEX_ALLOCATION, ROOT, RawBootSector, VOLUME_INFORMATION, VOLUME_NAME};
use crate::Geometry;
use crate::make::{NewVolume, NotMade, Part, Wanted, cluster_by_hand};

/// Bytes of the largest cluster.
const MOST_CLUSTER: u32 = 2 << 20;
/// Up to so many bytes, clusters of so many: what systems choose.
const CLUSTERS: &[(u64, u32)] =
    &[(16 << 40, 4096), (32 << 40, 8192), (64 << 40, 16 << 10), (128 << 40, 32 << 10), (u64::MAX, 64 << 10)];
/// Most clusters: their numbers have 32 bits.
const MOST_CLUSTERS: u64 = 0xFFFF_FFFE;
/// Bytes of a file record; of a sector, where that is larger.
const RECORD_BYTES: u32 = 1024;
/// Bytes of an index block.
const INDEX_BYTES: u32 = 4096;
/// The least records of a new MFT.
const LEAST_RECORDS: u64 = 64;
/// The MFT begins at this byte, or with the next cluster.
const MFT_AT: u64 = 16 << 10;
/// The longest label that systems take, in UTF-16 units.
const LONGEST_LABEL: usize = 32;
/// Number of the record of `$Extend`.
const EXTEND: u32 = 11;
/// Rules by which keys are compared: names, numbers, identifiers, hashes of descriptors, rows of numbers.
const BY_NAME: (u32, u32) = (FILE_NAME, 1);
const BY_NUMBER: (u32, u32) = (0, 0x10);
const BY_SID: (u32, u32) = (0, 0x11);
const BY_HASH: (u32, u32) = (0, 0x12);
const BY_NUMBERS: (u32, u32) = (0, 0x13);

/// A log that was emptied.
#[derive(Debug)]
struct Emptied;

impl Generate for Emptied {
    fn name(&self) -> &'static str {
        "FF"
    }

    fn fill(&self, _at: u64, buf: &mut [u8]) {
        buf.fill(0xFF);
    }
}

/// A new, empty NTFS 3.1 volume.
///
/// # Errors
/// [`NotMade`] where it is too small for its own structures, too many clusters would come of the size chosen, or the label does not fit.
pub fn volume(wanted: &Wanted) -> Result<NewVolume, NotMade> {
    let label: Vec<u16> = wanted.label.encode_utf16().collect();
    if label.len() > LONGEST_LABEL || wanted.label.chars().any(char::is_control) {
        let shown = keel_source::printable(&wanted.label);
        return Err(NotMade(format!("the label {shown:?}: {LONGEST_LABEL} signs at the most are wanted, and none that steers")));
    }
    let geometry = geometry(wanted)?;
    let (cluster, record_bytes) = (u64::from(geometry.cluster_bytes), u64::from(geometry.record_bytes));
    let records = mirrored(&geometry).max(LEAST_RECORDS);
    let (mut ground, fixed) = Ground::new(&geometry, wanted, records * record_bytes)?;
    let descriptors = security::descriptors();
    let definitions = tables::attribute_definitions();
    let mut take = |bytes: u64| ground.take(bytes, wanted);
    let log_bytes = log_bytes(wanted.bytes).next_multiple_of(cluster);
    let log = take(log_bytes)?;
    let places = Places {
        fixed,
        log,
        definitions: take(definitions.len() as u64)?,
        bitmap: take(Ground::bitmap_bytes(geometry.clusters()))?,
        up_case: take(UP_CASE_BYTES)?,
        root: take(u64::from(geometry.index_bytes))?,
        descriptors: take(descriptors.stream.len() as u64)?,
    };
    let ticks = (u64::from(wanted.made_at) + SECONDS_TO_1970) * 10_000_000;
    let files = Files { geometry: &geometry, places: &places, ticks, records, log_bytes };
    let (mft, root) = files.records(&label, &descriptors);
    let mirror_bytes = usize::try_from(mirrored(&geometry) * record_bytes).unwrap_or(0);
    let at = |stretch: Stretch| stretch.first * cluster;
    let whole = |what, stretch: Stretch, content: Vec<u8>| {
        Part::padded(what, at(stretch), content, stretch.clusters * cluster, geometry.bytes_per_sector)
    };
    let boot = boot_sector(&geometry, u32::try_from(wanted.hidden_sectors).unwrap_or(0));
    let mirror = mft.get(..mirror_bytes).unwrap_or_default().to_vec();
    let [backup, nothing] =
        Part::padded("backup boot sector", geometry.backup_at().0, boot.clone(), 0, geometry.bytes_per_sector);
    let copies = whole("MFT mirror", fixed.mirror, mirror).into_iter().chain([backup, nothing]);
    let mut parts: Vec<Part> = copies.map(|part| Part { is_copy: true, ..part }).collect();
    parts.extend(whole("boot sector", fixed.boot, boot));
    parts.extend(whole("bitmap of the MFT", fixed.mft_bitmap, record_bits(records)));
    parts.extend(whole("MFT", fixed.mft, mft));
    parts.push(Part::new("$LogFile", at(log), Payload::Run(log_bytes, std::sync::Arc::new(Emptied))));
    parts.extend(whole("$AttrDef", places.definitions, definitions));
    parts.extend(whole("$UpCase", places.up_case, tables::up_case()));
    parts.extend(whole("root directory", places.root, root));
    parts.extend(whole("$Secure", places.descriptors, descriptors.stream));
    parts.extend(ground.bitmap(at(places.bitmap)));
    Ok(NewVolume::of(Geometry::Ntfs(geometry), parts))
}

/// Seconds from 1601 to 1970.
const SECONDS_TO_1970: u64 = 11_644_473_600;
/// Bytes of `$UpCase`: a unit for each.
const UP_CASE_BYTES: u64 = 128 << 10;
/// The last record of the system's own that has a file.
const LAST_OWN: u32 = 26;

/// Bytes of `$LogFile` for a volume of `bytes` bytes.
fn log_bytes(bytes: u64) -> u64 {
    match bytes {
        0..0x20_0000 => 256 << 10,
        0x20_0000..0x80_0000 => 512 << 10,
        _ => (bytes / 200).next_multiple_of(4096).clamp(2 << 20, 64 << 20),
    }
}

/// The bitmap of `records` records: those that have a file, and those that are kept for the system.
fn record_bits(records: u64) -> Vec<u8> {
    let mut bits = vec![0u8; usize::try_from(records.div_ceil(64) * 8).unwrap_or(0)];
    for (slot, byte) in bits.iter_mut().zip([0xFF, 0xFF, 0, 0x07]) {
        *slot = byte;
    }
    bits
}

fn geometry(wanted: &Wanted) -> Result<NtfsGeometry, NotMade> {
    let sector = wanted.sector.bytes();
    let by_table = CLUSTERS.iter().find(|(most, _)| wanted.bytes <= *most).map_or(MOST_CLUSTER, |(_, cluster)| *cluster);
    let cluster_bytes = cluster_by_hand(wanted, 512, MOST_CLUSTER)?.unwrap_or(by_table).max(wanted.sector.0);
    let cluster = u64::from(cluster_bytes);
    // The last sector holds the copy of the boot sector.
    let total_sectors = (wanted.bytes / sector).checked_sub(1).ok_or_else(|| too_small(wanted))?;
    let clusters = total_sectors * sector / cluster;
    if clusters > MOST_CLUSTERS {
        return Err(NotMade(format!("{clusters} clusters of {cluster} bytes: an NTFS has {MOST_CLUSTERS} at the most")));
    }
    let boot = BOOT_BYTES.div_ceil(cluster);
    let mft_lcn = MFT_AT.div_ceil(cluster).max(boot + 1);
    let mirror_lcn = clusters / 2;
    if mirror_lcn <= mft_lcn {
        return Err(too_small(wanted));
    }
    let record_bytes = RECORD_BYTES.max(wanted.sector.0);
    Ok(NtfsGeometry {
        bytes_per_sector: wanted.sector.0,
        cluster_bytes,
        mft_lcn,
        mirror_lcn,
        record_bytes,
        index_bytes: INDEX_BYTES.max(wanted.sector.0),
        total_sectors,
        serial: (wanted.serial & u128::from(u64::MAX)) as u64,
    })
}

/// Where everything lies.
#[derive(Debug)]
struct Places {
    fixed: Fixed,
    log: Stretch,
    definitions: Stretch,
    bitmap: Stretch,
    up_case: Stretch,
    root: Stretch,
    descriptors: Stretch,
}

/// The system's own files.
struct Files<'a> {
    geometry: &'a NtfsGeometry,
    places: &'a Places,
    ticks: u64,
    records: u64,
    log_bytes: u64,
}

impl Files<'_> {
    fn outside(&self, type_code: u32, name: &str, stretch: Stretch, bytes: u64) -> Made {
        Made::outside(type_code, name, Ok(stretch), bytes, u64::from(self.geometry.cluster_bytes))
    }

    /// A file of the root whose content of `bytes` bytes lies in `stretch`.
    fn lying(&self, number: u32, name: &'static str, stretch: Stretch, bytes: u64) -> (File, Vec<Made>) {
        let file = File { bytes: [stretch.clusters * u64::from(self.geometry.cluster_bytes), bytes], ..own(number, name) };
        (file, vec![self.outside(DATA, "", stretch, bytes)])
    }

    fn index(&self, name: &str, collation: (u32, u32), entries: &[u8]) -> Made {
        Made::index(name, collation, entries, 0, self.geometry)
    }

    /// Every file of the system but the root directory, with its attributes.
    fn files(&self, label: &[u16], descriptors: &security::Descriptors) -> Vec<(File, Vec<Made>)> {
        let (geometry, places) = (self.geometry, self.places);
        let record_bytes = u64::from(geometry.record_bytes);
        let mut mft = self.lying(0, "$MFT", places.fixed.mft, self.records * record_bytes);
        mft.1.push(self.outside(BITMAP, "", places.fixed.mft_bitmap, self.records.div_ceil(64) * 8));
        let mut volume = vec![Made::resident(VOLUME_INFORMATION, "", &[0, 0, 0, 0, 0, 0, 0, 0, 3, 1, 0, 0]), Made::nothing()];
        if !label.is_empty() {
            let name: Vec<u8> = label.iter().flat_map(|unit| unit.to_le_bytes()).collect();
            volume.push(Made::resident(VOLUME_NAME, "", &name));
        }
        let clusters = geometry.clusters();
        let cluster = u64::from(geometry.cluster_bytes);
        let bad = Made::outside(DATA, "$Bad", Err(clusters), clusters * cluster, cluster);
        let secure = vec![
            self.outside(DATA, "$SDS", places.descriptors, descriptors.stream.len() as u64),
            self.index("$SDH", BY_HASH, &descriptors.by_hash),
            self.index("$SII", BY_NUMBER, &descriptors.by_id),
        ];
        let (by_owner, limits) = security::quotas(self.ticks);
        let extend = |number: u32, name: &'static str| File { folder: EXTEND, has_view_index: true, ..own(number, name) };
        let nothing = last_entry(false);
        let inside = [
            (extend(24, "$Quota"), vec![self.index("$O", BY_SID, &by_owner), self.index("$Q", BY_NUMBER, &limits)]),
            (extend(25, "$ObjId"), vec![self.index("$O", BY_NUMBERS, &nothing)]),
            (extend(LAST_OWN, "$Reparse"), vec![self.index("$R", BY_NUMBERS, &nothing)]),
        ];
        let names = self.names(inside.iter().map(|(file, _)| file));
        let mut files = vec![
            mft,
            self.lying(1, "$MFTMirr", places.fixed.mirror, mirrored(geometry) * record_bytes),
            self.lying(2, "$LogFile", places.log, self.log_bytes),
            (File { security: security::WRITE, ..own(3, "$Volume") }, volume),
            self.lying(4, "$AttrDef", places.definitions, tables::attribute_definitions().len() as u64),
            self.lying(6, "$Bitmap", places.bitmap, Ground::bitmap_bytes(clusters)),
            self.lying(7, "$Boot", places.fixed.boot, BOOT_BYTES),
            (own(8, "$BadClus"), vec![Made::nothing(), bad]),
            (File { security: security::WRITE, has_view_index: true, ..own(9, "$Secure") }, secure),
            self.lying(10, "$UpCase", places.up_case, UP_CASE_BYTES),
            (
                File { security: security::WRITE, is_directory: true, ..own(EXTEND, "$Extend") },
                vec![self.index("$I30", BY_NAME, &names)],
            ),
        ];
        // Kept for later, in use and without a name.
        let kept =
            (12..16).map(|number| (File { name: None, security: security::WRITE, ..own(number, "") }, vec![Made::nothing()]));
        files.extend(kept);
        files.extend(inside);
        files
    }

    /// Index entries of files in the order of their names, and the one that ends them.
    fn names<'f>(&self, files: impl Iterator<Item = &'f File>) -> Vec<u8> {
        let mut named: Vec<&File> = files.filter(|file| file.name.is_some()).collect();
        named.sort_by_key(|file| file.name.map(str::to_ascii_uppercase));
        let entries = named.into_iter().flat_map(|file| name_entry(file, self.ticks));
        entries.chain(last_entry(false)).collect()
    }

    /// Every record of the MFT, and the index block of the root directory.
    fn records(&self, label: &[u16], descriptors: &security::Descriptors) -> (Vec<u8>, Vec<u8>) {
        let root_number = u32::try_from(ROOT).unwrap_or(5);
        let root = File { is_directory: true, security: security::ROOT, ..own(root_number, ".") };
        let mut files = self.files(label, descriptors);
        let in_root = files.iter().map(|(file, _)| file).filter(|file| file.folder == root_number);
        let block = index_block(&self.names(in_root.chain([&root])), self.geometry);
        let below = Made::index("$I30", BY_NAME, &last_entry(true), HAS_BELOW, self.geometry);
        let block_bytes = u64::from(self.geometry.index_bytes);
        let blocks = self.outside(INDEX_ALLOCATION, "$I30", self.places.root, block_bytes);
        let bits = Made::resident(BITMAP, "$I30", &[1, 0, 0, 0, 0, 0, 0, 0]);
        files.push((root, vec![below, blocks, bits]));
        let mut by_number: std::collections::BTreeMap<u32, Vec<u8>> = files
            .into_iter()
            .map(|(file, attributes)| (file.number, record(&file, attributes, self.ticks, self.geometry.record_bytes)))
            .collect();
        let count = u32::try_from(self.records).unwrap_or(u32::MAX);
        let all =
            (0..count).flat_map(|number| by_number.remove(&number).unwrap_or_else(|| blank(number, self.geometry.record_bytes)));
        (all.collect(), block)
    }
}

/// A file of the root that nobody writes by name.
fn own(number: u32, name: &'static str) -> File {
    File {
        number,
        name: Some(name),
        folder: 5,
        security: if number >= 16 { security::WRITE } else { security::READ },
        is_directory: false,
        has_view_index: false,
        bytes: [0, 0],
    }
}

/// How a block size is written: a count of clusters, or the negative power of two of its bytes.
fn block_code(bytes: u32, cluster_bytes: u32) -> i8 {
    if bytes >= cluster_bytes {
        i8::try_from(bytes / cluster_bytes).unwrap_or(1)
    } else {
        -i8::try_from(bytes.trailing_zeros()).unwrap_or(10)
    }
}

/// A boot sector of 512 bytes that states `geometry` for a volume `hidden` sectors into the drive. It carries no boot
/// code.
#[must_use]
pub fn boot_sector(geometry: &NtfsGeometry, hidden: u32) -> Vec<u8> {
    let sectors = geometry.cluster_bytes / geometry.bytes_per_sector.max(1);
    let code = u8::try_from(sectors).ok().filter(|code| *code <= 0x80);
    let raw = RawBootSector {
        jump: [0xEB, 0x52, 0x90],
        oem_id: *b"NTFS    ",
        bytes_per_sector: U16::new(u16::try_from(geometry.bytes_per_sector).unwrap_or(512)),
        sectors_per_cluster: code.unwrap_or_else(|| 0u8.wrapping_sub(u8::try_from(sectors.trailing_zeros()).unwrap_or(0))),
        reserved_sectors: U16::new(0),
        unused: [0; 5],
        media: 0xF8,
        unused2: [0; 2],
        sectors_per_track: U16::new(63),
        number_of_heads: U16::new(255),
        hidden_sectors: U32::new(hidden),
        unused3: U32::new(0),
        drive: U32::new(0x0080_0080),
        total_sectors: U64::new(geometry.total_sectors),
        mft_lcn: U64::new(geometry.mft_lcn),
        mirror_lcn: U64::new(geometry.mirror_lcn),
        clusters_per_record: block_code(geometry.record_bytes, geometry.cluster_bytes),
        unused4: [0; 3],
        clusters_per_index: block_code(geometry.index_bytes, geometry.cluster_bytes),
        unused5: [0; 3],
        serial: U64::new(geometry.serial),
        checksum: U32::new(0),
    };
    let mut sector = raw.as_bytes().to_vec();
    sector.resize(510, 0);
    sector.extend_from_slice(&[0x55, 0xAA]);
    sector
}
