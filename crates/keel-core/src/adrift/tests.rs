use std::sync::Arc;

use keel_adrift::Starts;
use keel_format::{Deleted, Entry, NodeId, NodeKind, Volume};
use keel_source::{MemorySource, SharedSource};

use super::*;
use crate::job::Cancel;

/// A PNG of one chunk of picture with `filling` in it.
fn png(filling: &[u8]) -> Vec<u8> {
    let mut bytes = b"\x89PNG\r\n\x1a\n".to_vec();
    for (kind, data) in [(b"IHDR", &b"\0\0\0\x10\0\0\0\x20\x08\x02\0\0\0"[..]), (b"IDAT", filling), (b"IEND", b"")] {
        bytes.extend((data.len() as u32).to_be_bytes());
        let counted = [kind.as_slice(), data].concat();
        bytes.extend(&counted);
        bytes.extend(crc32fast::hash(&counted).to_be_bytes());
    }
    bytes
}

fn drive(files: &[(usize, Vec<u8>)], len: usize) -> SharedSource {
    let mut bytes = vec![0; len];
    for (at, file) in files {
        bytes[*at..*at + file.len()].copy_from_slice(file);
    }
    Arc::new(MemorySource::new("berth", bytes, 512))
}

fn found(source: &SharedSource, held: &RangeSet) -> AdriftFiles {
    let mut bytes = vec![0; usize::try_from(source.len()).unwrap()];
    source.read_at(ByteOffset(0), &mut bytes).unwrap();
    let mut starts = Starts::default();
    starts.look(ByteOffset(0), &bytes, bytes.len());
    let (desk, _progress) = Desk::new(Cancel::default());
    adrift(source, &starts.sorted(), (held, &[]), &Cuts::Told, &desk)
}

#[test]
fn files_are_found_where_nobody_holds_the_ground_and_the_same_content_is_told_once() {
    let (one, two) = (png(&[7; 5000]), png(&[9; 300]));
    let files = [(4096, one.clone()), (20_480, two.clone()), (32_768, one.clone()), (65_536, two)];
    let source = drive(&files, 1 << 17);
    let all = found(&source, &RangeSet::default());
    let told: Vec<_> =
        all.files.iter().map(|file| (file.id.as_str(), file.at_byte.0, file.state, file.same_as.as_deref())).collect();
    let whole = State::Whole;
    let wanted = [
        ("a1", 4096, whole, None),
        ("a2", 20_480, whole, None),
        ("a3", 32_768, whole, Some("a1")),
        ("a4", 65_536, whole, Some("a2")),
    ];
    assert_eq!(told, wanted);
    assert_eq!(
        (all.files[0].bytes, all.files[0].pixels, all.files[0].name.as_str()),
        (one.len() as u64, Some((16, 32)), "byte 4096.png")
    );
    let mut held = RangeSet::default();
    held.add(ByteRange::sized(ByteOffset(0), 32_768));
    let left: Vec<u64> = found(&source, &held).files.iter().map(|file| file.at_byte.0).collect();
    assert_eq!(left, [32_768, 65_536]);
    // Ground that somebody holds ends a file that would reach over it: nothing but its header is left of this one.
    held.add(ByteRange::sized(ByteOffset(36_864), 512));
    let left: Vec<u64> = found(&source, &held).files.iter().map(|file| file.at_byte.0).collect();
    assert_eq!(left, [65_536]);
}

#[test]
fn a_file_inside_of_another_one_is_not_told_twice() {
    let inner = png(&[3; 600]);
    let mut outer = vec![0; 2000];
    // The small one stands at a sector of the large one's picture.
    outer[512 - 41..512 - 41 + inner.len()].copy_from_slice(&inner);
    let source = drive(&[(0, png(&outer))], 1 << 14);
    assert_eq!(source_byte(&source, 512), 0x89);
    let all = found(&source, &RangeSet::default());
    assert_eq!(all.files.len(), 1, "{:?}", all.files);
}

fn source_byte(source: &SharedSource, at: u64) -> u8 {
    let mut byte = [0];
    source.read_at(ByteOffset(at), &mut byte).unwrap();
    byte[0]
}

/// A drive that counts what is read from it.
struct Counted {
    inner: MemorySource,
    bytes: std::sync::atomic::AtomicU64,
}

impl Source for Counted {
    fn identity(&self) -> &keel_source::Identity {
        self.inner.identity()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), keel_source::ReadError> {
        self.bytes.fetch_add(buf.len() as u64, std::sync::atomic::Ordering::Relaxed);
        self.inner.read_at(at, buf)
    }
}

/// Beginnings that promise much and lead far: work stays within a multiple of the ground.
#[test]
fn a_surface_of_nothing_but_beginnings_is_looked_at_in_linear_time() {
    let jpeg = b"\xff\xd8\xff\xe0\x00\x10JFIF\0\x01\x01\0\0\x48\0\x48\0\0".as_slice();
    let xz = [b"\xfd7zXZ\0\0\x04".as_slice(), &crc32fast::hash(b"\0\x04").to_le_bytes(), b"\x02\0"].concat();
    let pdf = b"%PDF-1.4\n1 0 obj\n<</Length 9999999>>\nstream\n".as_slice();
    let zip = b"PK\x03\x04\x14\0\x08\0\x08\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\x01\0\0\0a".as_slice();
    let gif = b"GIF89a\x01\0\x01\0\x80\0\0\0\0\0\xff\xff\xff\x21\xfe\xff".as_slice();
    let bzip2 = b"BZh91AY&SY".as_slice();
    for mark in [jpeg, &xz, pdf, zip, gif, bzip2, b"{\\rtf1 ", b"ID3\x04\0\0\x7f\x7f\x7f\x7f"] {
        let mut bytes = vec![0x55; 4 << 20];
        bytes.chunks_mut(512).for_each(|sector| sector[..mark.len()].copy_from_slice(mark));
        let source = Counted { inner: MemorySource::new("berth", bytes.clone(), 512), bytes: Default::default() };
        let mut starts = Starts::default();
        starts.look(ByteOffset(0), &bytes, bytes.len());
        let (desk, _progress) = Desk::new(Cancel::default());
        let starts = starts.sorted();
        assert!(starts.len() >= 8192);
        // As on a drive of which all looks for nothing are used up.
        let free = [ByteRange::sized(ByteOffset(0), bytes.len() as u64)];
        let all = within(&source, &starts, (&free, &[]), 8 << 20, &desk);
        let read = source.bytes.load(std::sync::atomic::Ordering::Relaxed);
        let most = (16 << 20) + starts.len() as u64 * (LEAST_LOOK + (64 << 10));
        assert!(read < most, "{}: {read} bytes of {most}, {} files", String::from_utf8_lossy(mark), all.files.len());
    }
}

#[test]
fn what_is_taken_out_is_byte_for_byte_what_lay_there_and_is_not_taken_twice() {
    let folder = tempfile::tempdir().unwrap();
    let (one, two) = (png(&[1; 3000]), png(&[2; 400]));
    let source = drive(&[(4096, one.clone()), (20_480, two.clone())], 1 << 16);
    let all = found(&source, &RangeSet::default());
    let shared = source;
    let (desk, _progress) = Desk::new(Cancel::default());
    let to = folder.path().join("out");
    let chosen = |chosen: Chosen| all.files.iter().filter(|file| chosen.takes(file)).collect::<Vec<_>>();
    let first = take_out(&shared, &chosen(Chosen { ids: vec!["a2".into()], ..Chosen::default() }), &to, &desk).unwrap();
    assert_eq!((first.files.len(), first.was_there, first.count(TakenState::Whole)), (1, 0, 1));
    let both = take_out(&shared, &chosen(Chosen { kinds: vec!["pictures".into()], ..Chosen::default() }), &to, &desk).unwrap();
    assert_eq!((both.files.len(), both.was_there), (2, 1));
    for (entry, bytes) in both.files.iter().zip([&one, &two]) {
        assert!(std::fs::read(to.join(&entry.saved_as)).unwrap() == *bytes);
        assert_eq!(entry.blake3, blake3::hash(bytes).to_hex().to_string());
    }
    // What somebody changed since is not taken for the drive's: it stays, and the file comes out anew.
    let changed = to.join(&both.files[0].saved_as);
    std::fs::write(&changed, vec![5; one.len()]).unwrap();
    let again = take_out(&shared, &chosen(Chosen::default()), &to, &desk).unwrap();
    assert_eq!((again.files.len(), again.was_there), (2, 1));
    assert!(again.files[0].saved_as != both.files[0].saved_as && std::fs::read(&changed).unwrap()[0] == 5);
    let names = |path: &std::path::Path| std::fs::read_dir(path).unwrap().flatten().map(|entry| entry.path()).collect::<Vec<_>>();
    assert!(names(&to.join("pictures/png")).iter().all(|path| path.extension().is_some_and(|end| end == "png")));
    // Stopped: nothing of a file in work stays.
    let (stopped, _progress) = Desk::new(Cancel::default());
    stopped.cancel().cancel();
    let none = take_out(&shared, &chosen(Chosen::default()), &folder.path().join("other"), &stopped).unwrap();
    assert!(none.cancelled && none.files.is_empty() && names(&folder.path().join("other")).len() == 1);
    assert!(
        chosen(Chosen { least: 2000, ..Chosen::default() }).len() == 1
            && chosen(Chosen { kinds: vec!["pdf".into()], ..Chosen::default() }).is_empty()
    );
    // A folder with what came from another drive is left alone.
    let other = drive(&[(0, png(&[4; 40]))], 1 << 14);
    assert!(take_out(&other, &[], &to, &desk).is_err());
}

/// A PNG of several chunks with `len` bytes of picture that look like nothing.
fn long_png(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed;
    let noise: Vec<u8> = (0..len)
        .map(|_| {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (state >> 56) as u8
        })
        .collect();
    let mut bytes = png(&[]);
    let end = bytes.split_off(bytes.len() - 12);
    bytes.truncate(8 + 25);
    for piece in noise.chunks(8000) {
        bytes.extend((piece.len() as u32).to_be_bytes());
        let counted = [b"IDAT".as_slice(), piece].concat();
        bytes.extend(&counted);
        bytes.extend(crc32fast::hash(&counted).to_be_bytes());
    }
    bytes.extend(end);
    bytes
}

#[test]
fn pieces_are_joined_where_the_whole_proves_itself_and_never_otherwise() {
    const CLUSTER: usize = 4096;
    let join = |source: &SharedSource| {
        let mut bytes = vec![0; usize::try_from(source.len()).unwrap()];
        source.read_at(ByteOffset(0), &mut bytes).unwrap();
        let mut starts = Starts::default();
        starts.look(ByteOffset(0), &bytes, bytes.len());
        let (desk, _progress) = Desk::new(Cancel::default());
        adrift(source, &starts.sorted(), (&RangeSet::default(), &[]), &Cuts::Joined(Vec::new()), &desk).files
    };
    for (gap, split) in [(1, 4), (3, 7), (40, 2), (300, 9)] {
        let (file, other) = (long_png(50_000, 5), long_png(gap * (CLUSTER - 8) - 600, 9));
        let mut ground = vec![0; 4 << 20];
        let (first, second) = file.split_at(split * CLUSTER);
        ground[CLUSTER..CLUSTER + first.len()].copy_from_slice(first);
        let between = CLUSTER + first.len();
        ground[between..between + other.len()].copy_from_slice(&other);
        let rest = between + gap * CLUSTER;
        ground[rest..rest + second.len()].copy_from_slice(second);
        let found = join(&(Arc::new(MemorySource::new("berth", ground.clone(), 512)) as SharedSource));
        let joined = found.iter().find(|found| found.at_byte.0 == CLUSTER as u64).unwrap();
        let wanted = vec![(ByteOffset(CLUSTER as u64), first.len() as u64), (ByteOffset(rest as u64), second.len() as u64)];
        assert_eq!((joined.state, joined.bytes), (State::Whole, file.len() as u64), "{gap} {split}: {joined:?}");
        assert_eq!(joined.extents, wanted);
        // The file between is one of its own, and stays so.
        let own = found.iter().find(|found| found.at_byte.0 == between as u64);
        assert!(own.is_some_and(|own| own.state == State::Whole), "{gap} {split}: {found:?}");
        if gap > 3 {
            continue;
        }
        // One sector of the second piece is another's: nothing proves the whole, and nothing is joined.
        ground[rest + 1024..rest + 1536].fill(7);
        let found = join(&(Arc::new(MemorySource::new("berth", ground, 512)) as SharedSource));
        let cut = found.iter().find(|found| found.at_byte.0 == CLUSTER as u64).unwrap();
        assert_eq!((cut.state, cut.extents.len()), (State::Cut, 1), "{cut:?}");
    }
}

#[test]
fn links_in_the_target_are_not_followed_and_a_torn_manifest_is_gone_on_with() {
    let folder = tempfile::tempdir().unwrap();
    let source = drive(&[(4096, png(&[1; 3000])), (20_480, png(&[2; 400]))], 1 << 16);
    let all = found(&source, &RangeSet::default());
    let shared = source;
    let (desk, _progress) = Desk::new(Cancel::default());
    let files: Vec<&Adrift> = all.files.iter().collect();
    let (elsewhere, linked) = (folder.path().join("elsewhere"), folder.path().join("linked"));
    std::fs::create_dir(&elsewhere).unwrap();
    std::fs::create_dir(&linked).unwrap();
    std::os::unix::fs::symlink(&elsewhere, linked.join("pictures")).unwrap();
    assert!(take_out(&shared, &files, &linked, &desk).is_err());
    std::os::unix::fs::symlink(elsewhere.join("m"), linked.join("other")).unwrap();
    std::fs::remove_file(linked.join("ykeel-adrift.jsonl")).unwrap();
    std::fs::rename(linked.join("other"), linked.join("ykeel-adrift.jsonl")).unwrap();
    assert!(take_out(&shared, &files, &linked, &desk).is_err());
    assert_eq!(std::fs::read_dir(&elsewhere).unwrap().count(), 0);
    // A crash cut the last line: its file is not known, and the next line is one of its own.
    let to = folder.path().join("out");
    take_out(&shared, &files, &to, &desk).unwrap();
    let manifest = to.join("ykeel-adrift.jsonl");
    let whole = std::fs::read(&manifest).unwrap();
    std::fs::write(&manifest, &whole[..whole.len() - 30]).unwrap();
    assert_eq!(take_out(&shared, &files, &to, &desk).unwrap().was_there, 1);
    assert_eq!(take_out(&shared, &files, &to, &desk).unwrap().was_there, 2);
}

#[test]
fn the_shelf_lists_what_it_was_given_by_sort_and_kind_and_reads_every_piece() {
    let (one, two) = (png(&[7; 5000]), png(&[9; 300]));
    let source = drive(&[(4096, one.clone()), (20_480, two.clone()), (32_768, one.clone())], 1 << 17);
    let mut files = found(&source, &RangeSet::default()).files;
    // The last one in two pieces, and called as the first one is.
    files[2].extents = vec![(ByteOffset(32_768), 100), (ByteOffset(4196), one.len() as u64 - 100)];
    files[2].name = files[0].name.clone();
    let shelf = Shelf::new(&source, files.clone().into());
    let mut listed = Vec::new();
    shelf
        .walk(Deleted::Hide, &mut |found| {
            listed.push((found.path(), found.entry.id, found.entry.kind));
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
    let paths: Vec<&str> = listed.iter().map(|(path, ..)| path.as_str()).collect();
    let wanted = [
        "pictures",
        "pictures/png",
        "pictures/png/byte 4096.png",
        "pictures/png/byte 20480.png",
        "pictures/png/byte 4096 (byte 32768).png",
    ];
    assert_eq!(paths, wanted);
    let read = |id| keel_format::read_whole(shelf.open(id, "").unwrap().as_mut(), 1 << 20).0;
    let contents: Vec<Vec<u8>> = listed.iter().filter(|row| row.2 == NodeKind::File).map(|row| read(row.1)).collect();
    assert!(contents == [one.clone(), two, one]);
    assert!(shelf.open(shelf.root(), "").is_err() && shelf.extents(listed[0].1).is_err(), "a folder has no content");
    assert_eq!(shelf.below(shelf.root()), (3, files.iter().map(|file| file.bytes).sum()));
    let chosen = |paths: &[&str]| {
        let paths: Vec<String> = paths.iter().map(|path| (*path).to_string()).collect();
        shelf.chosen(&paths).iter().map(|file| file.id.clone()).collect::<Vec<_>>()
    };
    assert_eq!(chosen(&["pictures"]), ["a1", "a2", "a3"]);
    assert_eq!(chosen(&["pictures/png/byte 20480.png", "pictures/pn"]), ["a2"]);
    // A query asks for what only the content tells.
    let meets = |text: &str| {
        let query = files::Query::typed(text).unwrap();
        let entry = |id| Entry { id, ..shelf_entry(&shelf, id) };
        let ids = listed.iter().map(|row| entry(row.1));
        ids.filter(|entry| query.meets_told(entry, shelf.told(entry))).count()
    };
    assert_eq!((meets("state:whole"), meets("state:cut"), meets("!state:cut is:file")), (3, 0, 3));
    assert_eq!((meets("pixels:16x32"), meets("pixels:17x32"), meets("volume:none"), meets("volume:n1")), (3, 0, 3, 0));
    assert_eq!((meets("from:20480"), meets("before:20480"), meets("from:20480 before:21000")), (2, 1, 1));
    for wrong in ["state:fine", "state:", "pixels:9", "pixels:x", "from:here"] {
        assert!(files::Query::typed(wrong).is_err(), "{wrong}");
    }
}

fn shelf_entry(shelf: &Shelf, id: NodeId) -> Entry {
    let mut own = None;
    shelf
        .walk(Deleted::Hide, &mut |found| {
            own = own.take().or_else(|| (found.entry.id == id).then(|| found.entry.clone()));
            std::ops::ControlFlow::Continue(())
        })
        .unwrap();
    own.unwrap()
}
