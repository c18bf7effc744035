//! Bundles as written and read, whole, cut, flipped and old.

use super::*;
use crate::whose::Sample;

/// Bytes of a range's fixed part in version 2.
const FORMER_RANGE_BYTES: usize = 80;

fn held(at: u64, former: Vec<u8>, new: impl Into<Payload>, order: Order) -> BundleRange {
    let new = new.into();
    BundleRange {
        at: ByteOffset(at),
        bytes: new.len(),
        order: Some(order),
        former: Kept::Held(former.into()),
        new: Kept::Held(new),
    }
}

fn sample() -> Bundle {
    let noise = |seed: u8| (0..700u32).map(|at| (at.wrapping_mul(2_654_435_761) >> 13) as u8 ^ seed).collect::<Vec<u8>>();
    Bundle {
        source: "/bench/purser.img".into(),
        key: "0".repeat(32),
        source_bytes: 1 << 20,
        sector: 512,
        print: Print(vec![Sample { at: 8192, hash: 7 }, Sample { at: 65_536, hash: 0 }]),
        ranges: vec![
            held(0, vec![0; 512], vec![1; 512], Order::Copy),
            held(4096, noise(1), noise(2), Order::Primary),
            held(8192, vec![9; 512], Payload::zeros(512), Order::Primary),
        ],
    }
}

fn nothing(_: ByteOffset, _: &mut [u8]) -> bool {
    false
}

fn written(bundle: &Bundle) -> (tempfile::TempDir, std::path::PathBuf) {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("u.ykundo");
    bundle.write(&path, &mut nothing).unwrap();
    (folder, path)
}

/// Place and order of a range, and both its sides.
type Sides = (ByteOffset, Option<Order>, [Vec<u8>; 2]);

fn sides(bundle: &Bundle) -> Vec<Sides> {
    let both = |range: &BundleRange| (range.at, range.order, [Side::Former, Side::New].map(|side| range.all(side).unwrap()));
    bundle.ranges.iter().map(both).collect()
}

#[test]
fn a_bundle_reads_back_as_written() {
    let (_folder, path) = written(&sample());
    let read = Bundle::read(&path).unwrap();
    assert_eq!(sides(&read), sides(&sample()));
    let about =
        |bundle: &Bundle| (bundle.source.clone(), bundle.key.clone(), bundle.source_bytes, bundle.sector, bundle.print.clone());
    assert_eq!(about(&read), about(&sample()));
    // Nothing that exists is replaced.
    assert!(sample().write(&path, &mut nothing).is_err());
}

#[test]
fn what_is_not_held_is_saved_from_the_drive_as_it_stands() {
    let long = PIECE as u64 * 3 + 100;
    let ranges = vec![held(512, Vec::new(), Payload::zeros(long), Order::Primary)];
    let bundle = Bundle { ranges, ..sample() };
    let stands = |at: ByteOffset, buf: &mut [u8]| {
        buf.iter_mut().zip(at.0..).for_each(|(slot, place)| *slot = (place / 1000) as u8);
        true
    };
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("u.ykundo");
    let error = bundle.write(&path, &mut nothing).unwrap_err();
    assert!(matches!(error, CoreError::Refused(Refusal::Unsaved { at: ByteOffset(512) })), "{error}");
    assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0, "nothing is left of what was not finished");
    bundle.write(&path, &mut |at, buf| stands(at, buf)).unwrap();
    assert!(fs::metadata(&path).unwrap().len() < 100_000, "it is packed");
    let read = Bundle::read(&path).unwrap();
    let mut wanted = vec![0; usize::try_from(long).unwrap()];
    stands(ByteOffset(512), &mut wanted);
    assert!(read.ranges[0].all(Side::Former).unwrap() == wanted);
    assert!(read.ranges[0].pieces().all(|(at, _)| read.ranges[0].is_zeros(Side::New, at)));
}

/// Copies of a long table, each behind a block that tells which one it is.
fn copies(count: u64) -> Bundle {
    let table: Vec<u8> = (0..2 * PIECE as u32 + 700_000).map(|at| (at.wrapping_mul(2_654_435_761) >> 11) as u8).collect();
    let copy = |number: u64| {
        let mut bytes = table.clone();
        bytes[..1024].fill(number as u8 + 1);
        held(number << 30, vec![0; bytes.len()], bytes, Order::Copy)
    };
    Bundle { source_bytes: 1 << 40, ranges: (0..count).map(copy).collect(), ..sample() }
}

#[test]
fn what_comes_again_behind_another_beginning_is_kept_once() {
    let ((_folder, path), many) = (written(&copies(12)), copies(12));
    assert_eq!(sides(&Bundle::read(&path).unwrap()), sides(&many));
    let (_one, one) = written(&copies(1));
    let (len, once) = (fs::metadata(&path).unwrap().len(), fs::metadata(one).unwrap().len());
    assert!(len < once + 11 * 3 * 4200, "{len} bytes for twelve copies, {once} for one");
}

#[test]
fn a_piece_like_one_that_is_none_is_refused_when_it_is_read() {
    let (folder, path) = written(&copies(2));
    let body = fs::read(&path).unwrap();
    let (body, first) = (&body[..body.len() - 40], copies(2).head().len());
    let wanted = [&[3][..], &(8u32 + 4096).to_le_bytes()].concat();
    let like = body.windows(5).rposition(|window| window == wanted).unwrap();
    for place in [0, 7, first as u64, like as u64, u64::MAX, u64::MAX - 4, body.len() as u64] {
        let mut changed = body.to_vec();
        changed[like + 5..like + 13].copy_from_slice(&place.to_le_bytes());
        let checksum = blake3::hash(&changed);
        let place_of = folder.path().join("d.ykundo");
        fs::write(&place_of, [&changed, checksum.as_bytes().as_slice(), TRAILER].concat()).unwrap();
        let read = Bundle::read(&place_of).unwrap();
        let error = read.ranges[1].all(Side::New).unwrap_err();
        assert!(matches!(error, CoreError::Bundle { .. }), "{place}: {error}");
    }
}

/// The bytes that version 2 (or 1, without samples) had for a bundle.
fn as_before(bundle: &Bundle, version: u8) -> Vec<u8> {
    let mut bytes = bundle.head();
    bytes[MAGIC.len()] = version;
    if version < 2 {
        bytes.truncate(HEADER_BYTES + bundle.source.len());
    }
    for (at, _, [former, new]) in sides(bundle) {
        let from = bytes.len();
        bytes.extend(at.0.to_le_bytes());
        bytes.extend((new.len() as u64).to_le_bytes());
        bytes.extend(blake3::hash(&former).as_bytes());
        bytes.extend(blake3::hash(&new).as_bytes());
        assert_eq!(bytes.len() - from, FORMER_RANGE_BYTES);
        bytes.extend(former);
        bytes.extend(new);
    }
    let checksum = blake3::hash(&bytes);
    bytes.extend_from_slice(checksum.as_bytes());
    bytes.extend_from_slice(TRAILER);
    bytes
}

#[test]
fn bundles_of_earlier_versions_still_read() {
    let folder = tempfile::tempdir().unwrap();
    for version in [1, 2] {
        let path = folder.path().join(format!("{version}.ykundo"));
        fs::write(&path, as_before(&sample(), version)).unwrap();
        let read = Bundle::read(&path).unwrap();
        let without_order = |all: Vec<Sides>| all.into_iter().map(|(at, _, both)| (at, both)).collect::<Vec<_>>();
        assert_eq!(without_order(sides(&read)), without_order(sides(&sample())));
        assert!(read.ranges.iter().all(|range| range.order.is_none()));
        assert_eq!(read.print.0.len(), if version > 1 { 2 } else { 0 });
    }
}

#[test]
fn every_cut_and_every_flipped_bit_is_refused() {
    let (folder, path) = written(&sample());
    let bytes = fs::read(&path).unwrap();
    let damaged = folder.path().join("d.ykundo");
    let refused = |what: &[u8], why: &str| {
        fs::write(&damaged, what).unwrap();
        assert!(Bundle::read(&damaged).is_err(), "{why}");
    };
    for len in 0..bytes.len() {
        refused(&bytes[..len], &format!("cut at {len}"));
    }
    for at in 0..bytes.len() {
        let mut flipped = bytes.clone();
        flipped[at] ^= 1 << (at % 8);
        refused(&flipped, &format!("bit flipped at {at}"));
    }
}

/// Changes the bytes before the checksum.
type Change = fn(&mut Vec<u8>, usize);

#[test]
fn lengths_that_cannot_be_are_refused_though_the_checksum_holds() {
    let (folder, path) = written(&sample());
    let bytes = fs::read(&path).unwrap();
    let first = sample().head().len();
    let sealed = |change: Change| {
        let mut body = bytes[..bytes.len() - 40].to_vec();
        change(&mut body, first);
        let checksum = blake3::hash(&body);
        [&body, checksum.as_bytes().as_slice(), TRAILER].concat()
    };
    let place = folder.path().join("d.ykundo");
    let changes: [(&str, Change); 6] = [
        ("a range of 2^60 bytes", |body, first| body[first + 15] = 0x10),
        ("a kind of piece that is none", |body, first| body[first + RANGE_BYTES] = 9),
        ("zeros with bytes", |body, first| body[first + RANGE_BYTES + 1] = 9),
        ("more ranges than there are", |body, _| body[12] = 9),
        ("fewer ranges than there are", |body, _| body[12] = 1),
        ("a path longer than the file", |body, _| body[35] = 0xFF),
    ];
    for (what, change) in changes {
        fs::write(&place, sealed(change)).unwrap();
        assert!(Bundle::read(&place).is_err(), "{what}");
    }
}

#[test]
fn the_format_document_names_the_constants() {
    let text = include_str!("../../../../docs/formats.md");
    for wanted in [
        format!("version {BUNDLE_VERSION}"),
        format!("fixed header, {HEADER_BYTES} bytes"),
        format!("fixed part of a range, {RANGE_BYTES} bytes"),
        format!("head of a piece, {PIECE_BYTES} bytes"),
    ] {
        assert!(text.contains(&wanted), "{wanted}");
    }
}
