//! Making a FAT boot sector from a geometry, and a new, empty volume.

use keel_source::size_decimal;
use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32};

use super::FatGeometry;
use super::layout::{ATTR_VOLUME_ID, LEAST_FAT16, LEAST_FAT32, RawBpb, RawBpb32, RawDirEntry, RawTail};
use crate::make::{NewVolume, NotMade, Part, Wanted, cluster_by_hand};
use crate::{Geometry, Stamp, VolumeKind};

/// Most clusters of a FAT32: numbers from `0x0FFFFFF6` on have meanings of their own.
const MOST_FAT32: u64 = 0x0FFF_FFF4;
/// Sectors before the FATs of a FAT32; copies of the boot sectors stand among them.
const RESERVED_FAT32: u32 = 32;
/// Sector of the second boot sector of a FAT32, and of the first one's `FSInfo`.
const BACKUP: u16 = 6;
const FS_INFO: u16 = 1;
/// Entries of the root directory of a FAT12 or FAT16: what the specification advises.
const ROOT_ENTRIES: u32 = 512;
/// A cluster of more bytes than this is not taken by every system.
const MOST_CLUSTER: u32 = 64 << 10;
/// Bytes before which the data of a larger volume does not begin, and of which they begin at a multiple: what flash erases at once.
const ALIGNED: u64 = 1 << 20;
/// Volumes of fewer bytes are not aligned: it would cost them too much.
const LEAST_ALIGNED: u64 = 64 << 20;

/// Signs that no label may have (FAT specification, 6.1).
const FORBIDDEN: &str = "\"*+,./:;<=>?[\\]|";

/// The specification's tables of cluster sizes (version 1.03, 3.5): up to so many bytes, so many bytes.
const FAT16_CLUSTERS: &[(u64, u32)] = &[
    (16 << 20, 1024),
    (128 << 20, 2048),
    (256 << 20, 4096),
    (512 << 20, 8192),
    (1 << 30, 16_384),
    (2 << 30, 32_768),
    (4 << 30, 65_536),
];
const FAT32_CLUSTERS: &[(u64, u32)] =
    &[(260 << 20, 512), (8 << 30, 4096), (16 << 30, 8192), (32 << 30, 16_384), (u64::MAX, 32_768)];

fn by_table(table: &[(u64, u32)], bytes: u64) -> Option<u32> {
    table.iter().find(|(most, _)| bytes <= *most).map(|(_, cluster)| *cluster)
}

/// A new, empty FAT of `kind`: FAT12, FAT16 or FAT32.
///
/// # Errors
/// [`NotMade`] where so many bytes do not make one of that kind, for a label that the specification forbids and for a cluster size that makes
/// an impossible count.
pub fn volume(kind: VolumeKind, wanted: &Wanted) -> Result<NewVolume, NotMade> {
    let label = label(&wanted.label)?;
    let by_hand = cluster_by_hand(wanted, 512, MOST_CLUSTER)?;
    let sizes = match (by_hand, kind) {
        (Some(bytes), _) => vec![bytes],
        // The table's first; where the count does not fit, the next one that does.
        (None, VolumeKind::Fat12) => (9..=16).map(|shift| 1 << shift).collect(),
        (None, VolumeKind::Fat16) => from_table(FAT16_CLUSTERS, wanted.bytes),
        (None, _) => from_table(FAT32_CLUSTERS, wanted.bytes),
    };
    if u32::try_from(wanted.bytes / wanted.sector.bytes()).is_err() {
        let most = size_decimal(u64::from(u32::MAX) * wanted.sector.bytes());
        return Err(NotMade(format!(
            "a FAT counts its sectors in 32 bits: with sectors of {} bytes it has {most} at the most",
            wanted.sector.0
        )));
    }
    let fits = sizes.into_iter().filter(|bytes| *bytes >= wanted.sector.0).find_map(|bytes| geometry(kind, wanted, bytes));
    let geometry = fits.ok_or_else(|| {
        let (bytes, word) = (wanted.bytes, kind.word());
        let by = by_hand.map(|cluster| format!(" with clusters of {cluster} bytes")).unwrap_or_default();
        NotMade(format!("{bytes} bytes{by} do not make a {word}: its kind goes by the count of clusters"))
    })?;
    let hidden = u32::try_from(wanted.hidden_sectors).unwrap_or(0);
    Ok(NewVolume::of(Geometry::Fat(geometry), parts(&geometry, hidden, &label, wanted.made_at)))
}

/// The table's size first, then the others, nearest first: a volume at the edge of a kind may need another one.
fn from_table(table: &[(u64, u32)], bytes: u64) -> Vec<u32> {
    let first = by_table(table, bytes).unwrap_or(MOST_CLUSTER);
    let mut sizes: Vec<u32> = (9..=16).map(|shift| 1 << shift).collect();
    sizes.sort_by_key(|size: &u32| size.trailing_zeros().abs_diff(first.trailing_zeros()));
    sizes
}

/// The label as a directory entry has it: in upper case, eleven signs.
fn label(text: &str) -> Result<[u8; 11], NotMade> {
    let upper = text.trim_end().to_uppercase();
    if upper.is_empty() {
        return Ok(*b"NO NAME    ");
    }
    let wrong = |what: &str| NotMade(format!("the label {:?} {what}", keel_source::printable(text)));
    if upper.chars().any(|sign| !sign.is_ascii() || sign.is_ascii_control() || FORBIDDEN.contains(sign)) {
        return Err(wrong("has signs that a FAT's label may not have"));
    }
    if upper.starts_with(' ') {
        return Err(wrong("begins with a space"));
    }
    let mut name = [b' '; 11];
    let room = name.get_mut(..upper.len()).ok_or_else(|| wrong("has more than 11 signs"))?;
    room.copy_from_slice(upper.as_bytes());
    Ok(name)
}

/// The geometry of a volume with clusters of `cluster_bytes`; none where their count makes another kind.
fn geometry(kind: VolumeKind, wanted: &Wanted, cluster_bytes: u32) -> Option<FatGeometry> {
    let sector = wanted.sector.0;
    let total_sectors = u64::from(u32::try_from(wanted.bytes / u64::from(sector)).unwrap_or(u32::MAX));
    let wide = kind == VolumeKind::Fat32;
    let per_cluster = cluster_bytes / sector;
    let mut geometry = FatGeometry {
        kind,
        bytes_per_sector: sector,
        sectors_per_cluster: per_cluster,
        reserved_sectors: if wide { RESERVED_FAT32 } else { 1 },
        fats: 2,
        fat_sectors: 1,
        root_entries: if wide { 0 } else { ROOT_ENTRIES },
        root_cluster: if wide { 2 } else { 0 },
        total_sectors,
        media: 0xF8,
        serial: (wanted.serial & 0xFFFF_FFFF) as u32,
        fs_info: if wide { FS_INFO } else { 0 },
        backup: if wide { BACKUP } else { 0 },
    };
    // Fewer clusters need a shorter FAT, which makes room for more of them: from above until it stays.
    for _ in 0..64 {
        let room = total_sectors.checked_sub(geometry.data_sector())?;
        let entries = room / u64::from(per_cluster) + 2;
        let bytes = (entries * geometry.entry_bits()).div_ceil(8);
        let sectors = u32::try_from(bytes.div_ceil(u64::from(sector))).ok()?;
        if sectors <= geometry.fat_sectors {
            break;
        }
        geometry.fat_sectors = sectors;
    }
    // Data begin where flash does, or at least at a multiple of clusters.
    let unit = u64::from(sector);
    let step = if wanted.bytes >= LEAST_ALIGNED { ALIGNED } else { u64::from(cluster_bytes) };
    let data = geometry.data_sector();
    let aligned = (data * unit).next_multiple_of(step) / unit;
    geometry.reserved_sectors =
        u32::try_from(u64::from(geometry.reserved_sectors) + aligned - data).ok().filter(|count| *count <= 0xFFFF)?;
    let clusters = geometry.cluster_count();
    let counts = match kind {
        VolumeKind::Fat12 => 1..LEAST_FAT16,
        VolumeKind::Fat16 => LEAST_FAT16..LEAST_FAT32,
        _ => LEAST_FAT32..MOST_FAT32 + 1,
    };
    // At the edges of a kind other systems count otherwise by a few: the specification advises to stay off.
    let off = |clusters: u64, edge: u64| clusters.abs_diff(edge) >= 16;
    (counts.contains(&clusters) && off(clusters, LEAST_FAT16) && off(clusters, LEAST_FAT32)).then_some(geometry)
}

/// Everything that has to stand on it; the rest of its data area may stay as it is.
fn parts(geometry: &FatGeometry, hidden: u32, label: &[u8; 11], made_at: u32) -> Vec<Part> {
    let sector = u64::from(geometry.bytes_per_sector);
    let whole = |mut bytes: Vec<u8>| {
        bytes.resize(geometry.bytes_per_sector as usize, 0);
        bytes
    };
    let wide = geometry.kind == VolumeKind::Fat32;
    let boot = whole(boot_sector(geometry, hidden, label));
    let mut parts = Vec::new();
    // What stood before the FATs is no part of it any more.
    let mut reserved = vec![0; geometry.reserved_sectors.min(RESERVED_FAT32) as usize * geometry.bytes_per_sector as usize];
    let mut put = |at: u64, bytes: &[u8]| {
        if let Some(slot) = usize::try_from(at * sector).ok().and_then(|at| reserved.get_mut(at..at + bytes.len())) {
            slot.copy_from_slice(bytes);
        }
    };
    put(0, &boot);
    if wide {
        let info = whole(fs_info(geometry));
        // The third boot sector holds nothing but its mark.
        let mut third = whole(vec![0; 510]);
        if let Some(mark) = third.get_mut(510..512) {
            mark.copy_from_slice(&[0x55, 0xAA]);
        }
        for first in [0, u64::from(BACKUP)] {
            put(first, &boot);
            put(first + 1, &info);
            put(first + 2, &third);
        }
    }
    parts.push(Part::new("boot sector and reserved sectors", 0, reserved));
    let fat_bytes = u64::from(geometry.fat_sectors) * sector;
    let head = fat_head(geometry);
    for copy in 0..u64::from(geometry.fats) {
        let at = u64::from(geometry.reserved_sectors) * sector + copy * fat_bytes;
        let word = if copy == 0 { "FAT" } else { "second FAT" };
        let fat = Part::padded(word, at, head.clone(), fat_bytes, geometry.bytes_per_sector);
        parts.extend(fat.map(|part| Part { is_copy: copy > 0, ..part }));
    }
    let root = if wide { u64::from(geometry.cluster_bytes()) } else { geometry.root_sectors() * sector };
    let root_sector = geometry.data_sector() - if wide { 0 } else { geometry.root_sectors() };
    let root_at = root_sector * sector;
    let first = if label == b"NO NAME    " { Vec::new() } else { label_entry(label, made_at) };
    // A root without an entry is zeros from its first sector on.
    parts.extend(Part::padded("root directory", root_at, first, root, geometry.bytes_per_sector));
    parts
}

/// The first entries of an empty FAT: media byte, clean marks, and the root of a FAT32.
fn fat_head(geometry: &FatGeometry) -> Vec<u8> {
    match geometry.kind {
        VolumeKind::Fat12 => vec![geometry.media, 0xFF, 0xFF],
        VolumeKind::Fat16 => vec![geometry.media, 0xFF, 0xFF, 0xFF],
        _ => [0x0FFF_FF00 | u32::from(geometry.media), 0x0FFF_FFFF, 0x0FFF_FFF8]
            .iter()
            .flat_map(|entry| entry.to_le_bytes())
            .collect(),
    }
}

/// `FSInfo`: one cluster is in use, the root's.
fn fs_info(geometry: &FatGeometry) -> Vec<u8> {
    let mut bytes = b"RRaA".to_vec();
    bytes.resize(484, 0);
    bytes.extend(b"rrAa");
    bytes.extend(u32::try_from(geometry.cluster_count() - 1).unwrap_or(u32::MAX).to_le_bytes());
    bytes.extend(3u32.to_le_bytes());
    bytes.resize(508, 0);
    bytes.extend(0xAA55_0000u32.to_le_bytes());
    bytes
}

/// The entry that holds the label.
fn label_entry(label: &[u8; 11], made_at: u32) -> Vec<u8> {
    let (date, time) = Stamp::from_unix(i64::from(made_at), 0).map_or((0x21, 0), |stamp| stamp.to_fat());
    let entry = RawDirEntry {
        name: *label,
        attr: ATTR_VOLUME_ID,
        nt_res: 0,
        crt_time_tenth: 0,
        crt_time: U16::new(0),
        crt_date: U16::new(0),
        lst_acc_date: U16::new(0),
        fst_clus_hi: U16::new(0),
        wrt_time: U16::new(time),
        wrt_date: U16::new(date),
        fst_clus_lo: U16::new(0),
        file_size: U32::new(0),
    };
    entry.as_bytes().to_vec()
}

/// A boot sector of 512 bytes that states `geometry` for a volume whose first sector is `hidden` sectors into the
/// drive. It carries no boot code.
#[must_use]
pub fn boot_sector(geometry: &FatGeometry, hidden: u32, label: &[u8; 11]) -> Vec<u8> {
    let wide = geometry.kind == VolumeKind::Fat32;
    let small = u16::try_from(geometry.total_sectors).ok().filter(|_| !wide);
    let bpb = RawBpb {
        jmp_boot: [0xEB, if wide { 0x58 } else { 0x3C }, 0x90],
        oem_name: *b"YKEEL   ",
        byts_per_sec: U16::new(u16::try_from(geometry.bytes_per_sector).unwrap_or(512)),
        sec_per_clus: u8::try_from(geometry.sectors_per_cluster).unwrap_or(1),
        rsvd_sec_cnt: U16::new(u16::try_from(geometry.reserved_sectors).unwrap_or(1)),
        num_fats: u8::try_from(geometry.fats).unwrap_or(2),
        root_ent_cnt: U16::new(u16::try_from(geometry.root_entries).unwrap_or(0)),
        tot_sec_16: U16::new(small.unwrap_or(0)),
        media: geometry.media,
        fat_sz_16: U16::new(if wide { 0 } else { u16::try_from(geometry.fat_sectors).unwrap_or(0) }),
        sec_per_trk: U16::new(63),
        num_heads: U16::new(255),
        hidd_sec: U32::new(hidden),
        tot_sec_32: U32::new(if small.is_some() { 0 } else { u32::try_from(geometry.total_sectors).unwrap_or(u32::MAX) }),
    };
    let tail = RawTail {
        drv_num: 0x80,
        reserved1: 0,
        boot_sig: 0x29,
        vol_id: U32::new(geometry.serial),
        vol_lab: *label,
        fil_sys_type: match geometry.kind {
            VolumeKind::Fat12 => *b"FAT12   ",
            VolumeKind::Fat16 => *b"FAT16   ",
            _ => *b"FAT32   ",
        },
    };
    let mut sector = bpb.as_bytes().to_vec();
    if wide {
        let more = RawBpb32 {
            fat_sz_32: U32::new(geometry.fat_sectors),
            ext_flags: U16::new(0),
            fs_ver: U16::new(0),
            root_clus: U32::new(geometry.root_cluster),
            fs_info: U16::new(geometry.fs_info),
            bk_boot_sec: U16::new(geometry.backup),
            reserved: [0; 12],
        };
        sector.extend_from_slice(more.as_bytes());
    }
    sector.extend_from_slice(tail.as_bytes());
    sector.resize(510, 0);
    sector.extend_from_slice(&[0x55, 0xAA]);
    sector
}
