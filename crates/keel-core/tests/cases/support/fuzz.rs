//! Damaged drives: what a sound one holds, changed where readers look, and everything that reads let loose on it.
#![allow(dead_code, missing_docs, unreachable_pub, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use std::ops::ControlFlow;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::{Arc, Mutex};

use keel_core::job::{Cancel, Desk};
use keel_core::layout::{self, Choices};
use keel_core::mend::{self, Wishes};
use keel_core::sweep::{Find, Reach, SweepOptions, readable, sweep};
use keel_core::{CoreError, fathom, files, ladder, plan};
use keel_format::{Deleted, NodeId, NodeKind, table};
use keel_source::{
    ByteOffset, ByteRange, CopyLog, FileSource, Identity, OpenOptions, Overlay, ReadError, SectorSize, SharedSource, Source,
    Window,
};

/// Entries of a volume whose streams are opened.
const OPENED: usize = 40;
/// Bytes of each stream that are read.
const READ: usize = 64 << 10;

/// A small pseudo-random generator (splitmix64): the same seed and number give the same case.
pub struct Dice(u64);

impl Dice {
    pub fn new(seed: u64, number: u64) -> Self {
        Self(seed ^ number.wrapping_mul(0xD129_0DD3_CB1F_7A4B))
    }

    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut mixed = self.0;
        mixed = (mixed ^ mixed >> 30).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        mixed = (mixed ^ mixed >> 27).wrapping_mul(0x94D0_49BB_1331_11EB);
        mixed ^ mixed >> 31
    }

    pub fn below(&mut self, limit: u64) -> u64 {
        self.next() % limit.max(1)
    }
}

/// A sound drive and where its readers look; or a file of our own.
pub struct Seed {
    pub name: String,
    kind: SeedKind,
}

enum SeedKind {
    /// The drive, and the sectors (numbers of 512 bytes) that readers read and that are not empty.
    Drive(SharedSource, Vec<u64>),
    /// The bytes of a file of our own, by its ending.
    Own(Vec<u8>, String),
}

impl Seed {
    /// The drive or file of our own at `path`.
    pub fn open(path: &Path) -> Self {
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        let kind = match name.rsplit_once('.') {
            Some((rest, "img")) => {
                let sector = if rest.ends_with("4k") { 4096 } else { 512 };
                let drive: SharedSource = Arc::new(FileSource::open(path, SectorSize(sector)).unwrap());
                let sectors = looked_at(&drive);
                SeedKind::Drive(drive, sectors)
            }
            Some((_, ending)) => SeedKind::Own(std::fs::read(path).unwrap(), ending.into()),
            None => panic!("{name} is no seed"),
        };
        Self { name, kind }
    }

    /// A drive changed as `dice` say, written to `path` as an image for whole commands; false for a file of our own.
    pub fn spill(&self, dice: &mut Dice, path: &Path) -> bool {
        let SeedKind::Drive(drive, sectors) = &self.kind else { return false };
        let drive = damaged(drive, sectors, dice);
        let image = std::fs::File::create(path).unwrap();
        image.set_len(drive.len()).unwrap();
        let mut at = ByteOffset(0);
        while let Some(piece) = drive.next_data(at) {
            let piece = ByteRange::sized(piece.start, piece.len().min(1 << 20));
            let mut bytes = vec![0; piece.len() as usize];
            let _ = drive.read_at(piece.start, &mut bytes);
            image.write_all_at(&bytes, piece.start.0).unwrap();
            at = piece.end;
        }
        true
    }

    /// Changes the seed as `dice` say and lets everything loose on it. `scratch` is a folder for files of our own.
    pub fn run(&self, dice: &mut Dice, scratch: &Path) {
        match &self.kind {
            SeedKind::Drive(drive, sectors) => {
                let drive = damaged(drive, sectors, dice);
                let how_far = dice.below(100);
                let reach = if how_far < 12 { Reach::Surface } else { Reach::Landmarks };
                everything(&drive, reach, how_far < 30);
            }
            SeedKind::Own(bytes, ending) => {
                let mut bytes = bytes.clone();
                for _ in 0..=dice.below(3) {
                    let whole = ByteRange::sized(ByteOffset(0), bytes.len() as u64);
                    change(&mut bytes, whole, dice, &[]);
                }
                let keep = if dice.below(4) == 0 { dice.below(bytes.len() as u64) as usize } else { bytes.len() };
                read_own(&bytes[..keep], ending, scratch);
            }
        }
    }
}

/// Reads a file of our own through the door that programs take.
fn read_own(bytes: &[u8], ending: &str, scratch: &Path) {
    let path = scratch.join(format!("own.{ending}"));
    std::fs::write(&path, bytes).unwrap();
    match ending {
        "ykundo" => drop(plan::Bundle::read(&path)),
        "log" => drop(CopyLog::read_whole(&path)),
        "toml" => {
            let path = scratch.join("own.drive.toml");
            std::fs::write(&path, bytes).unwrap();
            if let Ok(drive) = keel_source::open(&path, OpenOptions::default()) {
                let mut sector = vec![0; 4096];
                let _ = drive.read_at(ByteOffset(0), &mut sector);
                let _ = drive.health_page();
            }
        }
        "ykprobe" => {
            let mut identity = Identity::bare("own", 1 << 20, keel_source::LinkKind::Derived);
            identity.name = "own".into();
            drop(fathom::interrupted(&identity));
        }
        other => panic!("no reader for {other}"),
    }
}

/// A source that remembers which sectors were read.
struct Recorder {
    below: SharedSource,
    read: Mutex<Vec<ByteRange>>,
}

impl Source for Recorder {
    fn identity(&self) -> &Identity {
        self.below.identity()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.read.lock().unwrap().push(ByteRange::sized(at, buf.len() as u64));
        self.below.read_at(at, buf)
    }
}

/// The sectors that are read while the drive is examined and listed, as far as they hold something.
fn looked_at(drive: &SharedSource) -> Vec<u64> {
    let recorder = Arc::new(Recorder { below: Arc::clone(drive), read: Mutex::new(Vec::new()) });
    let source: SharedSource = recorder.clone();
    let (desk, _told) = Desk::new(Cancel::default());
    let found = sweep(&source, &SweepOptions { reach: Reach::Landmarks, state: None }, &desk);
    for find in readable(&found.finds) {
        let volume = files::open(&source, find).unwrap();
        let _ = volume.walk(Deleted::Show, &mut |entry| {
            let _ = volume.extents(entry.entry.id);
            ControlFlow::Continue(())
        });
        let _ = (volume.examine(), volume.allocation());
    }
    let read = std::mem::take(&mut *recorder.read.lock().unwrap());
    let mut sectors: Vec<u64> = Vec::new();
    for range in read {
        let mut bytes = vec![0; range.len() as usize];
        let _ = drive.read_at(range.start, &mut bytes);
        let first = range.start.0 / 512;
        sectors
            .extend(bytes.chunks(512).zip(first..).filter(|(sector, _)| sector.iter().any(|byte| *byte != 0)).map(|(_, at)| at));
    }
    sectors.sort_unstable();
    // A megabyte of bitmap of ones would hide the rest.
    sectors.dedup();
    sectors
}

/// The drive with one to four places changed, of some drives up to sixty, sometimes cut short.
fn damaged(drive: &SharedSource, sectors: &[u64], dice: &mut Dice) -> SharedSource {
    let mut view = Overlay::new(Arc::clone(drive));
    let most = if dice.below(4) == 0 { 60 } else { 4 };
    for _ in 0..=dice.below(most) {
        let at = ByteOffset(sectors[dice.below(sectors.len() as u64) as usize] * 512);
        let mut sector = vec![0; 512];
        let _ = view.read_at(at, &mut sector);
        let other = sectors[dice.below(sectors.len() as u64) as usize];
        let mut donor = vec![0; 512];
        let _ = view.read_at(ByteOffset(other * 512), &mut donor);
        let whole = ByteRange::sized(at, 512);
        change(&mut sector, whole, dice, &donor);
        if dice.below(2) == 0 {
            sum_anew(&mut sector);
        }
        view.lay(at, &sector);
    }
    if dice.below(20) == 0 {
        let keep = dice.below(drive.len() / 512) * 512;
        return Arc::new(Window::new(Arc::new(view), ByteRange::sized(ByteOffset(0), keep)));
    }
    Arc::new(view)
}

/// Changes a few bytes of `bytes`, which stand at `place`.
fn change(bytes: &mut [u8], place: ByteRange, dice: &mut Dice, donor: &[u8]) {
    let width = 1usize << dice.below(4);
    let slots = (bytes.len() / width).max(1) as u64;
    // Fields that hold something are changed more often than padding.
    let pick = |dice: &mut Dice| dice.below(slots) as usize * width;
    let mut at = pick(dice);
    for _ in 0..4 {
        if bytes[at..].iter().take(width).any(|byte| *byte != 0) {
            break;
        }
        at = pick(dice);
    }
    let end = (at + width).min(bytes.len());
    let old = bytes[at..end].iter().rev().fold(0u64, |sum, byte| sum << 8 | u64::from(*byte));
    let value = match dice.below(9) {
        0 => 0,
        1 => u64::MAX,
        2 => u64::MAX >> 1,
        3 => old.wrapping_add(1),
        4 => old.wrapping_sub(1),
        5 => old ^ 1 << dice.below(width as u64 * 8),
        // Something that leads back to itself.
        6 => place.start.0 >> [0, 9, 10, 12][dice.below(4) as usize],
        7 => dice.below(1 << 20),
        _ => dice.next(),
    };
    match dice.below(12) {
        0 => bytes[at..].iter_mut().take(64).for_each(|byte| *byte = 0xFF),
        1 => bytes[at..].iter_mut().take(256).for_each(|byte| *byte = dice.next() as u8),
        2 => bytes[at..].iter_mut().zip(&donor[at.min(donor.len())..]).for_each(|(byte, other)| *byte = *other),
        3 => bytes.iter_mut().zip(donor).for_each(|(byte, other)| *byte = *other),
        4 => {
            let swapped = value.to_be_bytes();
            bytes[at..end].copy_from_slice(&swapped[8 - (end - at)..]);
        }
        _ => bytes[at..end].copy_from_slice(&value.to_le_bytes()[..end - at]),
    }
}

/// Puts the sums right that would have a reader turn away at once: of exFAT directory sets and GPT headers.
fn sum_anew(sector: &mut [u8]) {
    if sector.starts_with(b"EFI PART") {
        let len = u32::from_le_bytes(sector[12..16].try_into().unwrap()) as usize;
        sector[16..20].fill(0);
        let sum = crc32(&sector[..len.clamp(92, 512)]);
        sector[16..20].copy_from_slice(&sum.to_le_bytes());
    }
    for at in (0..512).step_by(32).filter(|at| sector[*at] == 0x85).collect::<Vec<_>>() {
        let end = at + 32 * (1 + usize::from(sector[at + 1]));
        if end > 512 {
            continue;
        }
        let sum = sector[at..end]
            .iter()
            .enumerate()
            .filter(|(index, _)| *index != 2 && *index != 3)
            .fold(0u16, |sum, (_, byte)| sum.rotate_right(1).wrapping_add(u16::from(*byte)));
        sector[at + 2..at + 4].copy_from_slice(&sum.to_le_bytes());
    }
}

fn crc32(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(u32::MAX, |sum, byte| {
        (0..8).fold(sum ^ u32::from(*byte), |sum, _| if sum & 1 == 1 { sum >> 1 ^ 0xEDB8_8320 } else { sum >> 1 })
    })
}

/// Everything that reads a drive: sweep, volumes and their files; with `all`, ladder, check, layout, staging and the view after it.
pub fn everything(drive: &SharedSource, reach: Reach, all: bool) {
    let (desk, _told) = Desk::new(Cancel::default());
    let found = sweep(drive, &SweepOptions { reach, state: None }, &desk);
    for find in readable(&found.finds) {
        let _ = look_into(drive, find, &found.finds);
        if all {
            drop(mend::report(drive, find));
        }
    }
    if all {
        let table = table::read(drive.as_ref());
        let _ = ladder::examine(drive, &found, &Cancel::default());
        let layout = layout::settle(drive, &table, &found.finds, &Choices::default());
        let staged = mend::stage(drive, &table, &found.finds, &layout, &Wishes::default());
        let view: SharedSource = Arc::new(mend::overlay(drive, &staged.edits));
        let _ = ladder::examine(&view, &found, &Cancel::default());
    }
}

/// Lists a volume by walk and by folder, opens streams, asks for everything that a listing shows.
fn look_into(drive: &SharedSource, find: &Find, finds: &[Find]) -> Result<(), CoreError> {
    let volume = files::open(drive, find)?;
    let mut seen: Vec<(NodeId, NodeKind)> = Vec::new();
    let mut count = 0u64;
    let _ = volume.walk(Deleted::Show, &mut |found| {
        count += 1;
        if seen.len() < OPENED * 4 {
            seen.push((found.entry.id, found.entry.kind));
        }
        ControlFlow::Continue(())
    });
    let taken = files::taken(drive, finds, find);
    let judge = taken
        .as_ref()
        .map_or_else(|| files::GroundJudge::new(volume.as_ref()), |taken| files::GroundJudge::under(volume.as_ref(), taken));
    let (root, _) = files::entries(volume.as_ref(), volume.root(), Deleted::Show)?;
    root.iter().take(OPENED).for_each(|entry| assert!(!judge.of(entry).word().is_empty()));
    for (id, kind) in seen.iter().take(OPENED) {
        if *kind == NodeKind::Directory {
            let _ = volume.list(*id, Deleted::Show, &mut |_| ControlFlow::Continue(()));
        }
        if *kind == NodeKind::Link {
            let _ = volume.link_target(*id);
        }
        let _ = (volume.extents(*id), volume.mode(*id));
        for stream in volume.streams(*id).unwrap_or_default().iter().take(4) {
            let Ok(mut open) = volume.open(*id, &stream.name) else { continue };
            let mut bytes = vec![0; READ.min(usize::try_from(open.bytes()).unwrap_or(READ))];
            let _ = open.read(0, &mut bytes);
            let far = open.bytes().saturating_sub(bytes.len() as u64);
            let _ = open.read(far, &mut bytes);
        }
    }
    let _ = (volume.examine(), volume.allocation().map(|allocation| allocation.used().len()));
    Ok(())
}
