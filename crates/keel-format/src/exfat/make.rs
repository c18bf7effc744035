//! Making the boot region of an exFAT volume from its geometry, and a new, empty volume.

use zerocopy::IntoBytes;
use zerocopy::little_endian::{U16, U32, U64};

use super::ExFatGeometry;
use super::layout::{BITMAP, LABEL, RawAllocation, RawBoot, UPCASE, boot_checksum, table_checksum};
use super::upcase::recommended;
use crate::Geometry;
use crate::make::{NewVolume, NotMade, Part, Wanted, cluster_by_hand};

/// Bytes of the largest cluster (§3.1.15).
const MOST_CLUSTER: u32 = 32 << 20;
/// Up to so many bytes, clusters of so many: what systems choose.
const CLUSTERS: &[(u64, u32)] = &[(256 << 20, 4096), (32 << 30, 32 << 10), (u64::MAX, 128 << 10)];
/// Most clusters (§3.1.9).
const MOST_CLUSTERS: u64 = 0xFFFF_FFF5;
/// The heap of a larger volume begins at a multiple of this: what flash erases at once.
const ALIGNED: u64 = 1 << 20;
/// Volumes of fewer bytes are aligned to their clusters alone: the rest would cost them too much.
const LEAST_ALIGNED: u64 = 64 << 20;
/// Sectors of both boot regions.
const REGIONS: u32 = 24;
/// The longest label (§7.3), in UTF-16 units.
const LONGEST_LABEL: usize = 11;
/// End of a chain in the FAT (§4.1).
const LAST: u32 = 0xFFFF_FFFF;

/// A new, empty exFAT volume.
///
/// # Errors
/// [`NotMade`] where it is too small for its own structures, too many clusters would come of the size chosen, or the label does not fit.
pub fn volume(wanted: &Wanted) -> Result<NewVolume, NotMade> {
    let label: Vec<u16> = wanted.label.encode_utf16().collect();
    if label.len() > LONGEST_LABEL || wanted.label.chars().any(char::is_control) {
        let shown = keel_source::printable(&wanted.label);
        return Err(NotMade(format!("the label {shown:?}: {LONGEST_LABEL} signs at the most are wanted, and none that steers")));
    }
    let by_table = CLUSTERS.iter().find(|(most, _)| wanted.bytes <= *most).map_or(MOST_CLUSTER, |(_, cluster)| *cluster);
    let chosen = cluster_by_hand(wanted, 512, MOST_CLUSTER)?.unwrap_or(by_table).max(wanted.sector.0);
    let geometry = geometry(wanted, chosen)?;
    let upcase = recommended();
    let cluster = u64::from(geometry.cluster_bytes());
    let in_clusters = |bytes: u64| u32::try_from(bytes.div_ceil(cluster)).unwrap_or(u32::MAX);
    let bitmap_bytes = u64::from(geometry.cluster_count).div_ceil(8);
    // Bitmap, table and root follow one another, each a chain of its own.
    let chains = [in_clusters(bitmap_bytes), in_clusters(upcase.len() as u64), 1];
    let used: u32 = chains.iter().sum();
    let mut fat = vec![0xFFFF_FFF8, LAST];
    for count in chains {
        let first = fat.len() as u32;
        fat.extend((1..count).map(|next| first + next));
        fat.push(LAST);
    }
    let root_cluster = 2 + used - 1;
    let geometry = ExFatGeometry { root_cluster, ..geometry };
    let fat: Vec<u8> = fat.iter().flat_map(|entry: &u32| entry.to_le_bytes()).collect();
    let fat_bytes = u64::from(geometry.fat_length) * wanted.sector.bytes();
    let region = boot_region(&geometry, wanted.hidden_sectors);
    let region = with_percent(&geometry, region, used);
    let at = |cluster: u32| geometry.cluster_at(cluster).map_or(0, |at| at.0);
    let (bitmap_at, upcase_at) = (at(2), at(2 + chains[0]));
    let padded = |what, at, content, bytes| Part::padded(what, at, content, bytes, geometry.bytes_per_sector);
    let root = root(&label, &geometry, bitmap_bytes, &upcase);
    let regions =
        [Part::new("main boot region", 0, region.clone()), Part::copy("backup boot region", geometry.backup_at().0, region)];
    let structures = [
        padded("FAT", geometry.fat_at().0, fat, fat_bytes),
        padded("allocation bitmap", bitmap_at, bits(used), u64::from(chains[0]) * cluster),
        padded("up-case table", upcase_at, upcase, 0),
        padded("root directory", at(root_cluster), root, cluster),
    ];
    let parts = regions.into_iter().chain(structures.into_iter().flatten()).collect();
    Ok(NewVolume::of(Geometry::ExFat(geometry), parts))
}

fn geometry(wanted: &Wanted, cluster_bytes: u32) -> Result<ExFatGeometry, NotMade> {
    let (sector, cluster) = (wanted.sector.bytes(), u64::from(cluster_bytes));
    let volume_length = wanted.bytes / sector;
    let small = || NotMade(format!("{} bytes are too few for an exFAT with clusters of {cluster} bytes", wanted.bytes));
    let heap = |fat_length: u64, step: u64| ((u64::from(REGIONS) + fat_length) * sector).next_multiple_of(step) / sector;
    let step = if wanted.bytes >= LEAST_ALIGNED { ALIGNED.max(cluster) } else { cluster };
    // The longest FAT that could be needed makes the fewest clusters: it has room for them.
    let most = (volume_length * sector / cluster).min(MOST_CLUSTERS);
    let fat_length = ((most + 2) * 4).div_ceil(sector);
    let heap_offset = heap(fat_length, step);
    let room = volume_length.checked_sub(heap_offset).ok_or_else(small)? * sector;
    let clusters = room / cluster;
    // Bitmap, table and root have to fit, and a cluster for a file.
    let own = clusters.div_ceil(8).div_ceil(cluster) + (recommended().len() as u64).div_ceil(cluster) + 1;
    if clusters <= own {
        return Err(small());
    }
    if clusters > MOST_CLUSTERS {
        return Err(NotMade(format!("{clusters} clusters of {cluster} bytes: an exFAT has {MOST_CLUSTERS} at the most")));
    }
    let number = |value: u64| u32::try_from(value).map_err(|_| small());
    Ok(ExFatGeometry {
        bytes_per_sector: wanted.sector.0,
        sectors_per_cluster: cluster_bytes / wanted.sector.0,
        volume_length,
        fat_offset: REGIONS,
        fat_length: number(fat_length)?,
        cluster_heap_offset: number(heap_offset)?,
        cluster_count: number(clusters)?,
        root_cluster: 2,
        serial: (wanted.serial & 0xFFFF_FFFF) as u32,
        fats: 1,
    })
}

/// `PercentInUse`, rounded down; the checksum leaves it out.
fn with_percent(geometry: &ExFatGeometry, mut region: Vec<u8>, used: u32) -> Vec<u8> {
    let percent = u64::from(used) * 100 / u64::from(geometry.cluster_count.max(1));
    if let Some(slot) = region.get_mut(112) {
        *slot = u8::try_from(percent).unwrap_or(100);
    }
    region
}

/// The bitmap with the first `used` clusters in use.
fn bits(used: u32) -> Vec<u8> {
    let mut bytes = vec![0xFF; used as usize / 8];
    if !used.is_multiple_of(8) {
        bytes.push((1u8 << (used % 8)) - 1);
    }
    bytes
}

/// Label, bitmap and up-case table.
fn root(label: &[u16], geometry: &ExFatGeometry, bitmap_bytes: u64, upcase: &[u8]) -> Vec<u8> {
    let first = |skipped: u64| U32::new(2 + u32::try_from(skipped.div_ceil(u64::from(geometry.cluster_bytes()))).unwrap_or(0));
    let entry = |entry_type: u8, first_cluster: U32, data_length: u64, table_checksum: u32| RawAllocation {
        entry_type,
        flags: 0,
        reserved1: U16::new(0),
        table_checksum: U32::new(table_checksum),
        reserved2: [0; 12],
        first_cluster,
        data_length: U64::new(data_length),
    };
    // Without a label the entry is there all the same, and not in use.
    let mut bytes = vec![if label.is_empty() { LABEL & 0x7F } else { LABEL }, u8::try_from(label.len()).unwrap_or(0)];
    bytes.extend(label.iter().flat_map(|unit| unit.to_le_bytes()));
    bytes.resize(32, 0);
    bytes.extend(entry(BITMAP, first(0), bitmap_bytes, 0).as_bytes());
    bytes.extend(entry(UPCASE, first(bitmap_bytes), upcase.len() as u64, table_checksum(upcase)).as_bytes());
    bytes
}

/// The twelve sectors of a boot region that states `geometry` for a volume whose first sector is `hidden` sectors into
/// the drive: boot sector without boot code, eight empty extended boot sectors, empty parameters, a reserved sector and
/// the checksum.
#[must_use]
pub fn boot_region(geometry: &ExFatGeometry, hidden: u64) -> Vec<u8> {
    let raw = RawBoot {
        jump_boot: [0xEB, 0x76, 0x90],
        file_system_name: *b"EXFAT   ",
        must_be_zero: [0; 53],
        partition_offset: U64::new(hidden),
        volume_length: U64::new(geometry.volume_length),
        fat_offset: U32::new(geometry.fat_offset),
        fat_length: U32::new(geometry.fat_length),
        cluster_heap_offset: U32::new(geometry.cluster_heap_offset),
        cluster_count: U32::new(geometry.cluster_count),
        first_cluster_of_root_directory: U32::new(geometry.root_cluster),
        volume_serial_number: U32::new(geometry.serial),
        file_system_revision: [0, 1],
        volume_flags: U16::new(0),
        bytes_per_sector_shift: u8::try_from(geometry.bytes_per_sector.trailing_zeros()).unwrap_or(9),
        sectors_per_cluster_shift: u8::try_from(geometry.sectors_per_cluster.trailing_zeros()).unwrap_or(0),
        number_of_fats: geometry.fats,
        drive_select: 0x80,
        percent_in_use: 0xFF,
        reserved: [0; 7],
    };
    let size = geometry.bytes_per_sector as usize;
    let mut sector = raw.as_bytes().to_vec();
    // The boot code is a halt, as the specification asks where none is wanted.
    sector.resize(510, 0xF4);
    sector.extend_from_slice(&[0x55, 0xAA]);
    sector.resize(size, 0);
    let mut region = sector;
    for _ in 0..8 {
        let mut extended = vec![0; size.saturating_sub(4)];
        extended.extend_from_slice(&0xAA55_0000u32.to_le_bytes());
        region.extend(extended);
    }
    region.resize(11 * size, 0);
    let checksum = boot_checksum(&region).to_le_bytes();
    region.extend(checksum.iter().cycle().take(size));
    region
}
