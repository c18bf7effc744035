use std::io::Write;
use std::sync::Arc;

use keel_source::{ByteOffset, MemorySource, Overlay, SharedSource};

use super::compress::Compression;
use super::journal::checksum;
use super::*;
use crate::{Geometry, MemoryStream, View, Volume, read_whole};

const BLOCK: u64 = 4096;
const INFO_BLOCK: u64 = 1500;
const JOURNAL_AT: u64 = 1501 * BLOCK;
const JOURNAL_BYTES: u64 = 64 << 10;

fn made(label: &str) -> Overlay {
    let wanted = crate::make::Wanted {
        bytes: 8 << 20,
        sector: keel_source::SectorSize(512),
        hidden_sectors: 0,
        label: label.into(),
        cluster_bytes: Some(4096),
        serial: 7,
        journal: false,
        made_at: 1_773_155_200,
    };
    let mut overlay = Overlay::new(Arc::new(MemorySource::new("h", vec![0; 8 << 20], 512)));
    make::volume(&wanted).unwrap().parts.into_iter().for_each(|part| overlay.lay_payload(part.at, part.bytes));
    overlay
}

/// Where the catalog of such a volume begins.
fn catalog_at(drive: &dyn keel_source::Source) -> ByteOffset {
    let Some(Geometry::HfsPlus(geometry)) = boot_sector(drive, ByteOffset(0)) else { panic!("no header") };
    geometry.block_at(geometry.catalog.extents[0].0).unwrap()
}

fn opened(overlay: Overlay) -> HfsVolume {
    let source: SharedSource = Arc::new(overlay);
    let Some(Geometry::HfsPlus(geometry)) = boot_sector(source.as_ref(), ByteOffset(0)) else { panic!("no header") };
    HfsVolume::open(source, geometry).unwrap()
}

/// A number in the byte order of the machine that wrote the journal.
#[derive(Clone, Copy)]
enum Endian {
    Little,
    Big,
}

impl Endian {
    fn bytes<const N: usize>(self, value: u64) -> [u8; N] {
        let mut bytes = [0; N];
        match self {
            Self::Little => bytes.copy_from_slice(&value.to_le_bytes()[..N]),
            Self::Big => bytes.copy_from_slice(&value.to_be_bytes()[8 - N..]),
        }
        bytes
    }
}

/// Lays a journal with one transaction that writes `content` to byte `target`; it begins at `start` of the ring.
fn lay_journal(overlay: &mut Overlay, endian: Endian, start: u64, target: u64, content: &[u8]) {
    overlay.lay(ByteOffset(1028), &0x2100u32.to_be_bytes());
    overlay.lay(ByteOffset(1036), &(INFO_BLOCK as u32).to_be_bytes());
    let mut info = vec![0; 52];
    info[3] = 1;
    info[36..44].copy_from_slice(&JOURNAL_AT.to_be_bytes());
    info[44..52].copy_from_slice(&JOURNAL_BYTES.to_be_bytes());
    overlay.lay(ByteOffset(INFO_BLOCK * BLOCK), &info);
    let ring = |offset: u64| if offset >= JOURNAL_BYTES { offset - JOURNAL_BYTES + 512 } else { offset };
    let end = ring(start + 4096 + content.len() as u64);
    let mut header = Vec::new();
    header.extend(endian.bytes::<4>(0x4A4E_4C78));
    header.extend(endian.bytes::<4>(0x1234_5678));
    [start, end, JOURNAL_BYTES].iter().for_each(|value| header.extend(endian.bytes::<8>(*value)));
    [4096u64, 0, 512].iter().for_each(|value| header.extend(endian.bytes::<4>(*value)));
    let sum = checksum(&header, 36);
    header[36..40].copy_from_slice(&endian.bytes::<4>(u64::from(sum)));
    overlay.lay(ByteOffset(JOURNAL_AT), &header);
    let mut list = vec![0; 4096];
    list[2..4].copy_from_slice(&endian.bytes::<2>(2));
    list[32..40].copy_from_slice(&endian.bytes::<8>(target / 512));
    list[40..44].copy_from_slice(&endian.bytes::<4>(content.len() as u64));
    let sum = checksum(&list[..32], 8);
    list[8..12].copy_from_slice(&endian.bytes::<4>(u64::from(sum)));
    for (index, sector) in [list, content.to_vec()].concat().chunks(512).enumerate() {
        overlay.lay(ByteOffset(JOURNAL_AT + ring(start + index as u64 * 512)), sector);
    }
}

/// The catalog's leaf of a volume with another name, and where it belongs.
fn other_leaf() -> (u64, Vec<u8>) {
    let other = made("New name");
    let at = catalog_at(&other) + 4096;
    (at.0, crate::read_bytes(&other, at, 4096, "leaf").unwrap())
}

#[test]
fn a_journal_is_replayed_virtually_in_either_byte_order_and_around_its_end() {
    let (target, leaf) = other_leaf();
    for (endian, start) in [(Endian::Little, 512), (Endian::Big, 512), (Endian::Little, JOURNAL_BYTES - 1024)] {
        let mut overlay = made("Old name");
        lay_journal(&mut overlay, endian, start, target, &leaf);
        let volume = opened(overlay);
        assert_eq!(volume.summary().label.as_deref(), Some("New name"), "from {start}");
        let text: String = volume.examine().into_iter().map(|finding| finding.what).collect();
        assert!(text.contains("the journal holds 1 transactions"), "{text}");
    }
}

#[test]
fn a_journal_that_does_not_hold_is_a_finding_and_nothing_is_replayed() {
    let (target, leaf) = other_leaf();
    for (place, what) in [(JOURNAL_AT + 8, "the journal cannot be read"), (JOURNAL_AT + 512 + 2, "the journal is damaged")] {
        let mut overlay = made("Old name");
        lay_journal(&mut overlay, Endian::Little, 512, target, &leaf);
        overlay.lay(ByteOffset(place), &[0xEE]);
        let volume = opened(overlay);
        assert_eq!(volume.summary().label.as_deref(), Some("Old name"));
        let text: String = volume.examine().into_iter().map(|finding| finding.what).collect();
        assert!(text.contains(what), "{text}");
    }
}

#[test]
fn a_header_with_an_absurd_field_names_it() {
    let good = crate::read_bytes(&made("X"), ByteOffset(1024), 512, "volume header").unwrap();
    for (at, bytes, field) in [
        (0, vec![b'Z'], "signature"),
        (3, vec![9], "version"),
        (40, vec![0, 0, 16, 1], "blockSize"),
        (44, vec![0, 0, 0, 1], "totalBlocks"),
        (112, vec![0; 8], "allocationFile"),
        (288, vec![0xFF; 4], "catalogFile"),
    ] {
        let mut header = good.clone();
        header[at..at + bytes.len()].copy_from_slice(&bytes);
        let error = HfsGeometry::parse(View::new("volume header", ByteOffset(1024), &header)).unwrap_err().to_string();
        assert!(error.contains(field), "{field}: {error}");
    }
}

#[test]
fn catalog_damage_is_found() {
    let mut overlay = made("X");
    let at = catalog_at(&overlay);
    // The count of leaf records in the tree's header.
    overlay.lay(at + 14 + 6, &9u32.to_be_bytes());
    let text: String = opened(overlay).examine().into_iter().map(|finding| finding.what).collect();
    assert!(text.contains("leaves hold 2 records, its header says 9"), "{text}");
}

fn packed_header(kind: u32, bytes: u64, inline: &[u8]) -> Vec<u8> {
    [b"fpmc".as_slice(), &kind.to_le_bytes(), &bytes.to_le_bytes(), inline].concat()
}

fn content(kind: u32, bytes: u64, inline: &[u8], resource: Option<Vec<u8>>) -> (Vec<u8>, bool) {
    let header = packed_header(kind, bytes, inline);
    let compression = Compression::parse(View::new("attribute", ByteOffset(0), &header)).unwrap();
    let resource = resource.map(|bytes| Box::new(MemoryStream(bytes)) as Box<dyn crate::StreamReader>);
    read_whole(compression.open(ByteOffset(0), resource).unwrap().as_mut(), 1 << 24)
}

fn zlib(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = flate2::write::ZlibEncoder::new(Vec::new(), flate2::Compression::default());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

#[test]
fn compressed_content_unpacks_from_attribute_and_resource_fork() {
    let text = b"Saltholm to Brackwater, every hour. ".repeat(6000);
    let short = &text[..3000];
    assert_eq!(content(3, 3000, &zlib(short), None), (short.to_vec(), true));
    assert_eq!(content(3, 3000, &[&[0xFF], short].concat(), None), (short.to_vec(), true));
    let mut lzfse = Vec::new();
    lzfse_rust::encode_bytes(short, &mut lzfse).unwrap();
    assert_eq!(content(11, 3000, &lzfse, None), (short.to_vec(), true));
    // Type 4: a resource header whose data begins at 256, then length, count and table.
    let chunks: Vec<Vec<u8>> = text.chunks(0x1_0000).map(zlib).collect();
    let mut fork = 256u32.to_be_bytes().to_vec();
    fork.resize(260, 0);
    fork.extend((chunks.len() as u32).to_le_bytes());
    let mut at = 4 + 8 * chunks.len() as u32;
    for chunk in &chunks {
        fork.extend(at.to_le_bytes());
        fork.extend((chunk.len() as u32).to_le_bytes());
        at += chunk.len() as u32;
    }
    fork.extend(chunks.concat());
    assert_eq!(content(4, text.len() as u64, &[], Some(fork.clone())), (text.clone(), true));
    // Type 10 keeps a mark before each chunk; type 12 packs them.
    for (kind, pack) in [
        (10, (|chunk: &[u8]| [&[0xFF], chunk].concat()) as fn(&[u8]) -> Vec<u8>),
        (12, |chunk: &[u8]| {
            let mut out = Vec::new();
            lzfse_rust::encode_bytes(chunk, &mut out).unwrap();
            out
        }),
    ] {
        let chunks: Vec<Vec<u8>> = text.chunks(0x1_0000).map(pack).collect();
        let mut offset = 4 * (chunks.len() as u32 + 1);
        let mut fork = Vec::new();
        for chunk in &chunks {
            fork.extend(offset.to_le_bytes());
            offset += chunk.len() as u32;
        }
        fork.extend(offset.to_le_bytes());
        fork.extend(chunks.concat());
        assert_eq!(content(kind, text.len() as u64, &[], Some(fork)), (text.clone(), true), "type {kind}");
    }
    // A damaged chunk is missing, the others are delivered.
    fork[300..340].fill(0xEE);
    let (partly, whole) = content(4, text.len() as u64, &[], Some(fork));
    assert!(!whole && partly[0x1_0000..] == text[0x1_0000..]);
}

#[test]
fn lzvn_content_unpacks() {
    let text = b"Saltholm to Brackwater, every hour. ".repeat(50);
    let mut framed = Vec::new();
    lzfse_rust::encode_bytes(&text, &mut framed).unwrap();
    // Short content is packed by LZVN; its frame has a head of 12 bytes.
    assert!(framed.starts_with(b"bvxn"), "{:?}", &framed[..4]);
    let len = u32::from_le_bytes(framed[8..12].try_into().unwrap()) as usize;
    let packed = &framed[12..12 + len];
    assert_eq!(content(7, text.len() as u64, packed, None), (text.clone(), true));
    let mut fork = [8u32.to_le_bytes(), (8 + len as u32).to_le_bytes()].concat();
    fork.extend(packed);
    assert_eq!(content(8, text.len() as u64, &[], Some(fork)), (text, true));
}

#[test]
fn an_unknown_method_is_named() {
    let header = packed_header(99, 8, &[]);
    let error = Compression::parse(View::new("attribute", ByteOffset(0), &header)).unwrap_err().to_string();
    assert!(error.contains("compression_type"), "{error}");
}

/// A volume with one file, number 16, and an attributes tree of these records (data by owner, first block and name).
fn with_attributes(records: &[(u32, u32, &str, Vec<u8>)]) -> Overlay {
    use zerocopy::{FromBytes, IntoBytes};
    let mut overlay = made("X");
    let units: Vec<u16> = "log.txt".encode_utf16().collect();
    let mut file = layout::RawFile::read_from_bytes(&[0; 248]).unwrap();
    file.record_type.set(layout::RECORD_FILE);
    file.file_id.set(16);
    let mut catalog = make::trees::root_records("X");
    catalog.push([make::trees::key(layout::ROOT_FOLDER_ID, &units), file.as_bytes().to_vec()].concat());
    let at = catalog_at(&overlay);
    overlay.lay(at, &make::trees::tree(layout::CATALOG_KEY, &catalog, 64));
    let record = |(owner, block, name, data): &(u32, u32, &str, Vec<u8>)| {
        let units: Vec<u16> = name.encode_utf16().collect();
        let mut key = (12 + 2 * units.len() as u16).to_be_bytes().to_vec();
        key.extend([0, 0]);
        key.extend(owner.to_be_bytes());
        key.extend(block.to_be_bytes());
        key.extend((units.len() as u16).to_be_bytes());
        key.extend(units.iter().flat_map(|unit| unit.to_be_bytes()));
        [key, data.clone()].concat()
    };
    let records: Vec<Vec<u8>> = records.iter().map(record).collect();
    overlay.lay(ByteOffset(1000 * BLOCK), &make::trees::tree(layout::ATTRIBUTES_KEY, &records, 256));
    overlay.lay(ByteOffset(1024 + 352), &fork(256 * BLOCK, &[(1000, 256)]));
    overlay
}

/// `HFSPlusForkData` of `bytes` bytes in these extents.
fn fork(bytes: u64, extents: &[(u32, u32)]) -> Vec<u8> {
    let blocks: u32 = extents.iter().map(|(_, count)| count).sum();
    [bytes.to_be_bytes().to_vec(), vec![0; 4], blocks.to_be_bytes().to_vec(), eight(extents)].concat()
}

fn eight(extents: &[(u32, u32)]) -> Vec<u8> {
    let mut bytes: Vec<u8> =
        extents.iter().flat_map(|(start, count)| [start.to_be_bytes(), count.to_be_bytes()].concat()).collect();
    bytes.resize(64, 0);
    bytes
}

/// An attribute record: its type, its reserved bytes, the rest.
fn attribute(kind: u32, rest: &[u8]) -> Vec<u8> {
    [&kind.to_be_bytes()[..], &[0; 4], rest].concat()
}

fn inline(value: &[u8]) -> Vec<u8> {
    attribute(0x10, &[&[0; 4][..], &(value.len() as u32).to_be_bytes(), value].concat())
}

#[test]
fn attributes_are_streams_in_the_tree_and_in_blocks_of_their_own() {
    let photo: Vec<u8> = (0..10_000u32).map(|at| (at % 251) as u8).collect();
    let mut overlay = with_attributes(&[
        (15, 0, "of another", inline(b"no")),
        (16, 0, "note", inline(b"high water")),
        (16, 0, "photo", attribute(0x20, &fork(10_000, &[(1300, 1)]))),
        (16, 1, "photo", attribute(0x30, &eight(&[(1310, 2)]))),
        (16, 0, "tide", inline(b"low")),
        (17, 0, "of a third", inline(b"no")),
    ]);
    overlay.lay(ByteOffset(1300 * BLOCK), &photo[..4096]);
    overlay.lay(ByteOffset(1310 * BLOCK), &photo[4096..]);
    let volume = opened(overlay);
    let mut file = None;
    let mut each = |found: crate::WalkEntry<'_>| {
        file = Some(found.entry.id);
        std::ops::ControlFlow::Continue(())
    };
    volume.walk(crate::Deleted::Hide, &mut each).unwrap();
    let file = file.unwrap();
    let told: Vec<(String, u64, &str)> =
        volume.streams(file).unwrap().into_iter().map(|stream| (stream.name, stream.bytes, stream.storage)).collect();
    let line = |name: &str, bytes, storage| (name.to_string(), bytes, storage);
    let wanted =
        [line("", 0, "plain"), line("note", 10, "resident"), line("photo", 10_000, "plain"), line("tide", 3, "resident")];
    assert_eq!(told, wanted);
    for (name, content) in [("note", b"high water".to_vec()), ("photo", photo), ("tide", b"low".to_vec())] {
        assert_eq!(read_whole(volume.open(file, name).unwrap().as_mut(), 1 << 20), (content, true), "{name}");
    }
    assert!(volume.open(file, "of another").is_err() && volume.open(file, "rsrc").is_err());
    let mut ground = Vec::new();
    volume.claims(&mut |name, extents| ground.extend((name == "photo of file 16").then(|| extents.to_vec()))).unwrap();
    let places: Vec<(Option<ByteOffset>, u64)> = ground.concat().iter().map(|extent| (extent.volume_at, extent.bytes)).collect();
    assert_eq!(places, [(Some(ByteOffset(1300 * BLOCK)), BLOCK), (Some(ByteOffset(1310 * BLOCK)), 2 * BLOCK)]);
}

proptest::proptest! {
    #[test]
    fn attribute_records_of_any_bytes_neither_panic_nor_hang(
        records in proptest::collection::vec((15u32..18, 0u32..3, "[a-c]{0,3}", proptest::collection::vec(0u8.., 0..120)), 1..12),
        kinds in proptest::collection::vec(0usize..4, 12),
    ) {
        let mut records: Vec<(u32, u32, String, Vec<u8>)> = records;
        for ((_, _, _, data), kind) in records.iter_mut().zip(kinds) {
            if let (Some(slot), 0..3) = (data.first_chunk_mut::<4>(), kind) {
                *slot = [0x10u32, 0x20, 0x30][kind].to_be_bytes();
            }
        }
        records.sort_by(|one, two| (one.0, &one.2, one.1).cmp(&(two.0, &two.2, two.1)));
        let records: Vec<(u32, u32, &str, Vec<u8>)> =
            records.iter().map(|(owner, block, name, data)| (*owner, *block, name.as_str(), data.clone())).collect();
        let volume = opened(with_attributes(&records));
        let mut ids = Vec::new();
        let mut each = |found: crate::WalkEntry<'_>| {
            ids.push(found.entry.id);
            std::ops::ControlFlow::Continue(())
        };
        volume.walk(crate::Deleted::Hide, &mut each).unwrap();
        for id in ids {
            for stream in volume.streams(id).unwrap_or_default() {
                let read = volume.open(id, &stream.name).map(|mut open| read_whole(open.as_mut(), 1 << 16).0.len());
                proptest::prop_assert!(read.is_ok_and(|read| read <= 1 << 16));
            }
        }
        let _ = volume.claims(&mut |_, _| {});
    }
}
