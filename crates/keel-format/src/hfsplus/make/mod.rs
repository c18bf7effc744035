//! A new, empty HFS+ volume: both headers, the allocation bitmap, its B-trees, and a journal. Source: Technical Note 1150.

mod journal;
pub(super) mod trees;

use keel_source::Payload;
use zerocopy::IntoBytes;
use zerocopy::big_endian::{U16, U32, U64};

use self::journal::journal_info;
pub use self::journal::{journal, journal_header};
use self::trees::{NODE_BYTES, records, tree, units};
use super::layout::{
    ATTRIBUTE_JOURNALED, ATTRIBUTE_UNMOUNTED, CATALOG_KEY, EXTENTS_KEY, FIRST_USER_ID, HEADER_AT, HfsGeometry, RawExtent,
    RawFork, RawHeader,
};
use crate::make::{NewVolume, NotMade, Part, Wanted, cluster_by_hand};
use crate::{Geometry, View};

/// Bytes of an allocation block, where nothing else is asked for.
const BLOCK_BYTES: u32 = 4096;
/// Bytes of the largest allocation block.
const MOST_BLOCK: u32 = 1 << 20;
/// Least bytes of a new tree, where they are no eighth of the volume, and the most.
const TREE_BYTES: (u64, u64) = (512 << 10, 32 << 20);
/// Trees of smaller volumes take one part of so many.
const TREE_PART: u64 = 24;
/// The most bytes of a tree that does not grow with the volume.
const FIXED_TREE: u64 = 4 << 20;
/// Larger volumes' catalogs have one more byte for so many.
const CATALOG_PART: u64 = 32 << 10;
/// Volumes of fewer bytes get a small journal.
const SMALL: u64 = 128 << 20;
/// Bytes of a small journal; of one for each hundred GiB; of the largest.
const JOURNAL_BYTES: (u64, u64, u64) = (512 << 10, 8 << 20, 512 << 20);
/// Seconds from 1904 to 1970.
const SECONDS_TO_1970: u64 = 2_082_844_800;
/// The longest name, in UTF-16 units.
const LONGEST_LABEL: usize = 255;
/// The name of a root folder that nobody named.
const NO_LABEL: &str = "untitled";
/// Bytes of one page of the bitmap that is held, where anything in it is in use.
const PAGE: u64 = 4096;

/// A new, empty HFS+ volume, with a journal where one is wanted.
///
/// # Errors
/// [`NotMade`] where it is too small for its own structures, too many blocks would come of the size chosen, or the label does not fit.
pub fn volume(wanted: &Wanted) -> Result<NewVolume, NotMade> {
    let label = if wanted.label.is_empty() { NO_LABEL } else { &wanted.label };
    let name = units(label);
    if name.len() > LONGEST_LABEL || label.chars().any(|sign| sign.is_control() || sign == ':') {
        let shown = keel_source::printable(label);
        return Err(NotMade(format!(
            "the label {shown:?}: {LONGEST_LABEL} signs at the most are wanted, none that steers and no colon"
        )));
    }
    let small = || NotMade(format!("{} bytes are too few for an HFS+ and its trees", wanted.bytes));
    let block_bytes = cluster_by_hand(wanted, 512, MOST_BLOCK)?.unwrap_or(BLOCK_BYTES).max(wanted.sector.0);
    let size = u64::from(block_bytes);
    let blocks = u32::try_from(wanted.bytes / size)
        .map_err(|_| NotMade(format!("{} blocks of {size} bytes: an HFS+ has {} at the most", wanted.bytes / size, u32::MAX)))?;
    let places = Places::new(wanted, blocks, size).ok_or_else(small)?;
    let made_at = U32::new(u32::try_from(u64::from(wanted.made_at) + SECONDS_TO_1970).unwrap_or(u32::MAX));
    let files = places.journal.map(|[info, ring]| [(".journal", ring, places.ring_bytes), (".journal_info_block", info, size)]);
    let records = records(&name, made_at, files.as_ref().map(<[_; 2]>::as_slice).unwrap_or_default());
    let header = header(wanted, &places, made_at);
    let geometry = HfsGeometry::parse(View::new("volume header", keel_source::ByteOffset(HEADER_AT), header.as_bytes()))
        .map_err(|_| small())?;
    let sector = wanted.sector.bytes();
    let framed = |at: u64| {
        let first = at / sector * sector;
        let before = usize::try_from(at - first).unwrap_or(0);
        (first, [vec![0; before], header.as_bytes().to_vec()].concat())
    };
    // The sectors before the header are those that hold another volume's start.
    let main = [vec![0; HEADER_AT as usize], header.as_bytes().to_vec()].concat();
    let (alternate_at, alternate) = framed(wanted.bytes - HEADER_AT);
    let padded = |what, at, content, bytes| Part::padded(what, at, content, bytes, wanted.sector.0);
    let at = |place: Place| u64::from(place.start) * size;
    let fork = |what, place: Place, content| padded(what, at(place), content, u64::from(place.blocks) * size);
    let copies = padded("alternate volume header", alternate_at, alternate, 0);
    let mut parts: Vec<Part> = copies.into_iter().map(|part| Part { is_copy: true, ..part }).collect();
    parts.extend(padded("volume header", 0, main, 0));
    parts.extend(places.bits(at(places.bitmap)));
    parts.extend(fork("extents overflow file", places.extents, tree(EXTENTS_KEY, &[], places.extents.nodes())));
    parts.extend(fork("catalog file", places.catalog, tree(CATALOG_KEY, &records, places.catalog.nodes())));
    if let Some([info, ring]) = places.journal {
        parts.extend(fork("journal info block", info, journal_info(at(ring), places.ring_bytes)));
        parts.extend(padded("journal header", at(ring), journal_header(places.ring_bytes), 0));
    }
    Ok(NewVolume::of(Geometry::HfsPlus(geometry), parts))
}

/// Where the volume's own structures lie.
#[derive(Debug)]
struct Places {
    blocks: u32,
    /// Blocks before the bitmap, and those that hold the alternate header.
    ends: (u32, u32),
    /// The journal's info block and its ring.
    journal: Option<[Place; 2]>,
    ring_bytes: u64,
    bitmap: Place,
    extents: Place,
    catalog: Place,
    /// The first block that nothing holds.
    next: u32,
}

impl Places {
    fn new(wanted: &Wanted, blocks: u32, size: u64) -> Option<Self> {
        let in_blocks = |bytes: u64| u32::try_from(bytes.div_ceil(size)).ok();
        let block_bytes = u32::try_from(size).ok()?;
        let place = |start: u32, bytes: u64| Some(Place { start, blocks: in_blocks(bytes)?, block_bytes });
        // The header takes the blocks up to byte 1536, the alternate one those from 1024 bytes before the end.
        let ends = (in_blocks(HEADER_AT + 512)?, in_blocks(HEADER_AT)?);
        let least = TREE_BYTES.0.min(wanted.bytes / 8);
        let tree = (wanted.bytes / TREE_PART).clamp(least, FIXED_TREE).next_multiple_of(NODE_BYTES as u64);
        let more = (wanted.bytes / CATALOG_PART).min(TREE_BYTES.1 - FIXED_TREE).next_multiple_of(NODE_BYTES as u64);
        let catalog_bytes = if tree == FIXED_TREE { tree + more } else { tree };
        let ring_bytes = match wanted.bytes {
            bytes if bytes < SMALL => JOURNAL_BYTES.0,
            bytes => bytes.div_ceil(100 << 30).saturating_mul(JOURNAL_BYTES.1).min(JOURNAL_BYTES.2),
        }
        .next_multiple_of(size);
        let bitmap = place(ends.0, u64::from(blocks).div_ceil(8))?;
        let mut next = bitmap.end()?;
        let mut take = |bytes: u64| {
            let taken = place(next, bytes)?;
            next = taken.end()?;
            Some(taken)
        };
        let journal = match wanted.journal {
            true => Some([take(size)?, take(ring_bytes)?]),
            false => None,
        };
        let (extents, catalog) = (take(tree)?, take(catalog_bytes)?);
        next.checked_add(ends.1).filter(|used| *used < blocks)?;
        Some(Self { blocks, ends, journal, ring_bytes, bitmap, extents, catalog, next })
    }

    /// The parts of the bitmap, which lies at byte `at`; its spare bits are zero.
    fn bits(&self, at: u64) -> Vec<Part> {
        let bytes = u64::from(self.bitmap.blocks) * u64::from(self.bitmap.block_bytes);
        let used = [0..self.next, self.blocks - self.ends.1..self.blocks];
        let page = |from: u64| {
            let mut page = vec![0u8; usize::try_from(PAGE.min(bytes - from)).unwrap_or(0)];
            for stretch in &used {
                let first = u64::from(stretch.start).max(from * 8);
                for bit in (first..u64::from(stretch.end).min((from + PAGE) * 8)).map(|block| block - from * 8) {
                    if let Some(byte) = usize::try_from(bit / 8).ok().and_then(|at| page.get_mut(at)) {
                        *byte |= 0x80 >> (bit % 8);
                    }
                }
            }
            page
        };
        let of = |block: u32| u64::from(block) / 8 / PAGE * PAGE;
        // Those up to the last structure in front, and those of the alternate header.
        let front = of(self.next - 1);
        let behind = [of(self.blocks - self.ends.1), of(self.blocks - 1)];
        let pages: std::collections::BTreeSet<u64> = (0..=front).step_by(PAGE as usize).chain(behind).collect();
        let mut parts = Vec::new();
        let mut next = 0;
        for from in pages {
            let held = page(from);
            parts.push(Part::new("allocation file", at + next, Payload::zeros(from - next)));
            next = from + held.len() as u64;
            parts.push(Part::new("allocation file", at + from, held));
        }
        parts.push(Part::new("allocation file", at + next, Payload::zeros(bytes - next)));
        parts
    }
}

fn header(wanted: &Wanted, places: &Places, made_at: U32) -> RawHeader {
    let files = if places.journal.is_some() { 2 } else { 0 };
    let block_bytes = places.bitmap.block_bytes;
    let nothing = Place { start: 0, blocks: 0, block_bytes }.fork(0);
    // A tree grows by as much as it has.
    let of_tree = |place: Place| {
        let bytes = u64::from(place.nodes()) * NODE_BYTES as u64;
        RawFork { clump_size: U32::new(u32::try_from(bytes).unwrap_or(block_bytes)), ..place.fork(bytes) }
    };
    RawHeader {
        signature: *b"H+",
        version: U16::new(4),
        attributes: U32::new(ATTRIBUTE_UNMOUNTED | if files > 0 { ATTRIBUTE_JOURNALED } else { 0 }),
        last_mounted_version: if files > 0 { *b"HFSJ" } else { *b"10.0" },
        journal_info_block: U32::new(places.journal.map_or(0, |[info, _]| info.start)),
        create_date: made_at,
        modify_date: made_at,
        backup_date: U32::new(0),
        checked_date: made_at,
        file_count: U32::new(files),
        folder_count: U32::new(0),
        block_size: U32::new(block_bytes),
        total_blocks: U32::new(places.blocks),
        free_blocks: U32::new(places.blocks - places.next - places.ends.1),
        next_allocation: U32::new(places.next),
        rsrc_clump_size: U32::new(block_bytes),
        data_clump_size: U32::new(block_bytes),
        next_catalog_id: U32::new(FIRST_USER_ID + files),
        write_count: U32::new(1),
        encodings_bitmap: U64::new(1),
        finder_info: [0, 0, 0, 0, 0, 0, (wanted.serial >> 32) as u32, (wanted.serial & 0xFFFF_FFFF) as u32].map(U32::new),
        allocation_file: places.bitmap.fork(u64::from(places.bitmap.blocks) * u64::from(block_bytes)),
        extents_file: of_tree(places.extents),
        catalog_file: of_tree(places.catalog),
        // Systems make one as soon as something is kept in it.
        attributes_file: nothing,
        startup_file: nothing,
    }
}

/// Where a file of the new volume lies.
#[derive(Debug, Clone, Copy)]
struct Place {
    start: u32,
    blocks: u32,
    block_bytes: u32,
}

impl Place {
    fn end(self) -> Option<u32> {
        self.start.checked_add(self.blocks)
    }

    /// Nodes of a tree that fills it.
    fn nodes(self) -> u32 {
        u32::try_from(u64::from(self.blocks) * u64::from(self.block_bytes) / NODE_BYTES as u64).unwrap_or(u32::MAX)
    }

    fn fork(self, bytes: u64) -> RawFork {
        let mut extents = [RawExtent::default(); 8];
        extents[0] = RawExtent { start_block: U32::new(self.start), block_count: U32::new(self.blocks) };
        RawFork {
            logical_size: U64::new(bytes),
            clump_size: U32::new(self.block_bytes.max(NODE_BYTES as u32)),
            total_blocks: U32::new(self.blocks),
            extents,
        }
    }
}
