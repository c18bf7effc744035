//! Probes of drives of chance, and probes that are cut off at any write.

use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use keel_core::fathom::{self, Fathomed, Nature, ProbeOptions};
use keel_core::job::{Cancel, Desk};
use keel_core::plan::Confirmation;
use keel_source::{
    ByteOffset, Identity, Leave, LinkKind, OpenOptions, ReadError, SharedSource, Source, SourceError, WriteTarget,
};
use proptest::prelude::*;
use proptest::test_runner::RngSeed;

const MIB: u64 = 1 << 20;
const SMALL: ProbeOptions = ProbeOptions { largest_cache: 4 * MIB };

fn state() {
    static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
    keel_core::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
}

/// Bytes of which no two sectors are alike.
fn content(len: u64, seed: u64) -> Vec<u8> {
    (0..len / 8).flat_map(|at| (at.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ seed).to_le_bytes()).collect()
}

fn probe(source: &SharedSource) -> Result<Fathomed, keel_core::CoreError> {
    fathom::probe(source, &Confirmation::Yes, SMALL, &Desk::new(Cancel::default()).0)
}

#[derive(Debug, Clone, Copy)]
enum Lie {
    None,
    Wraps,
    Zeros,
    Ones,
    Stale,
    Last,
}

proptest! {
    // The same drives in every run: a new one is tried by another number.
    #![proptest_config(ProptestConfig { cases: 24, rng_seed: RngSeed::Fixed(417), ..ProptestConfig::default() })]
    #[test]
    fn whatever_a_drive_claims_the_probe_finds_what_it_stores_and_leaves_it_as_it_was(
        claimed in 24u64..96,
        share in 0.05f64..0.95,
        lie in prop_oneof![Just(Lie::None), Just(Lie::Wraps), Just(Lie::Zeros), Just(Lie::Ones), Just(Lie::Stale), Just(Lie::Last)],
        cache in 0u64..4,
        flush_empties in any::<bool>(),
        seed in any::<u64>(),
    ) {
        state();
        let folder = tempfile::tempdir().unwrap();
        let claimed = claimed * MIB + 512 * (seed % 100);
        let honest = matches!(lie, Lie::None);
        let stored = if honest { claimed } else { ((claimed as f64 * share) as u64 / 512 * 512).max(2 * MIB) };
        let before = content(stored, seed);
        fs::write(folder.path().join("surface.img"), &before).unwrap();
        let words = match lie {
            Lie::None => String::new(),
            Lie::Wraps => format!("capacity = {{ real_bytes = {stored}, lie = \"wraps\" }}"),
            Lie::Zeros => format!("capacity = {{ real_bytes = {stored}, lie = \"drops\" }}"),
            Lie::Ones => format!("capacity = {{ real_bytes = {stored}, lie = \"drops\", answers = \"ones\" }}"),
            Lie::Stale => format!("capacity = {{ real_bytes = {stored}, lie = \"drops\", answers = \"stale\" }}"),
            Lie::Last => format!("capacity = {{ real_bytes = {stored}, lie = \"repeats_last\" }}"),
        };
        // A cache as large as what lies on one side of the true end could answer for all of it.
        let least = if matches!(lie, Lie::None) { stored } else { stored.min(claimed - stored) };
        let cache = (cache * MIB).min(least / 4 / 512 * 512);
        let caching = if cache > 0 { format!("cache = {{ bytes = {cache}, flush_empties = {flush_empties} }}") } else { String::new() };
        let path = folder.path().join("c.drive.toml");
        let text = format!(
            "version = 1\nclaimed_bytes = {claimed}\nidentity = {{ model = \"Mudlark\", serial = \"{seed:x}\" }}\n\
             backing = [{{ file = \"surface.img\" }}]\n{words}\n{caching}\n"
        );
        fs::write(&path, text).unwrap();
        let source = keel_source::open(&path, OpenOptions::default()).unwrap();
        let verdict = probe(&source).unwrap();
        drop(source);
        let right = match lie {
            Lie::None => verdict.nature == Nature::Honest,
            Lie::Wraps => verdict.nature == Nature::Wraps { modulus: stored },
            Lie::Zeros | Lie::Ones | Lie::Stale => verdict.nature == Nature::Drops,
            Lie::Last => verdict.nature == Nature::RepeatsLast,
        };
        prop_assert!(right, "{:?} {:?} {:?}", lie, verdict.nature, verdict.reasons);
        prop_assert_eq!((verdict.proven_bytes, verdict.exact), (stored, true), "{:?} {:?}", lie, verdict.reasons);
        prop_assert!(verdict.restored.unwrap().whole);
        prop_assert!(fs::read(folder.path().join("surface.img")).unwrap() == before, "{:?}: not every byte is as it was", lie);
    }
}

/// A drive whose power goes at a write of chance: from then on nothing is taken.
struct CutOff {
    inner: SharedSource,
    left: Arc<AtomicUsize>,
}

struct CutTarget {
    inner: Box<dyn WriteTarget>,
    left: Arc<AtomicUsize>,
}

impl Source for CutOff {
    fn identity(&self) -> &Identity {
        self.inner.identity()
    }

    fn read_at(&self, at: ByteOffset, buf: &mut [u8]) -> Result<(), ReadError> {
        self.inner.read_at(at, buf)
    }

    fn open_target(&self, leave: &Leave) -> Result<Box<dyn WriteTarget>, SourceError> {
        if self.left.load(Ordering::Relaxed) == 0 {
            return Err(SourceError::Gone { name: "the drive".into() });
        }
        Ok(Box::new(CutTarget { inner: self.inner.open_target(leave)?, left: Arc::clone(&self.left) }))
    }
}

impl WriteTarget for CutTarget {
    fn len(&self) -> u64 {
        self.inner.len()
    }

    fn write_at(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), SourceError> {
        let left = self.left.load(Ordering::Relaxed);
        if left == 0 {
            return Err(SourceError::Write { action: "write", at, reason: "no power".into() });
        }
        self.left.store(left - 1, Ordering::Relaxed);
        if left == 1 {
            // The last write comes half-way.
            return self.inner.write_at(at, &bytes[..bytes.len() / 2]);
        }
        self.inner.write_at(at, bytes)
    }

    fn flush(&mut self) -> Result<(), SourceError> {
        self.inner.flush()
    }

    fn read_back(&mut self, at: ByteOffset, buf: &mut [u8]) -> Result<(), SourceError> {
        self.inner.read_back(at, buf)
    }
}

fn image(folder: &Path, len: u64) -> (std::path::PathBuf, Vec<u8>) {
    let path = folder.join("drive.img");
    let bytes = content(len, 5);
    fs::write(&path, &bytes).unwrap();
    (path, bytes)
}

#[test]
fn a_probe_that_loses_its_power_at_any_write_is_recognised_refused_and_put_back() {
    state();
    let folder = tempfile::tempdir().unwrap();
    let (path, before) = image(folder.path(), 12 * MIB);
    let mut cut = 0;
    for writes in (1..30).chain([40, 60, 200]) {
        let inner = keel_source::open(&path, OpenOptions::default()).unwrap();
        assert_eq!(inner.identity().link, LinkKind::Image);
        let source: SharedSource = Arc::new(CutOff { inner, left: Arc::new(AtomicUsize::new(writes)) });
        let ended = probe(&source);
        drop(source);
        let source = keel_source::open(&path, OpenOptions::default()).unwrap();
        if ended.is_ok_and(|verdict| verdict.restored.is_some_and(|restored| restored.whole)) {
            assert!(fathom::interrupted(source.identity()).is_none());
        } else {
            cut += 1;
            assert!(fathom::interrupted(source.identity()).is_some(), "after {writes} writes");
            let again = probe(&source).unwrap_err().to_string();
            assert!(again.contains("put back what it touched first"), "{again}");
            let restored = fathom::restore_interrupted(&source, &Confirmation::Yes, &mut |_, _| {}).unwrap();
            assert!(restored.whole, "after {writes} writes: {restored:?}");
        }
        drop(source);
        assert!(fs::read(&path).unwrap() == before, "after {writes} writes");
    }
    assert!(cut > 10, "{cut}");
}

#[test]
fn a_file_of_another_drive_or_a_damaged_one_puts_nothing_back() {
    state();
    let folder = tempfile::tempdir().unwrap();
    let (path, _) = image(folder.path(), 8 * MIB);
    let inner = keel_source::open(&path, OpenOptions::default()).unwrap();
    let source: SharedSource = Arc::new(CutOff { inner, left: Arc::new(AtomicUsize::new(5)) });
    let _ = probe(&source);
    drop(source);
    let source = keel_source::open(&path, OpenOptions::default()).unwrap();
    let saved = fathom::interrupted(source.identity()).unwrap();
    let whole = fs::read(&saved).unwrap();
    let now = fs::read(&path).unwrap();
    let mut other = whole.clone();
    other[30] ^= 1;
    for (bytes, says) in [
        (&other[..], "another drive"),
        (&whole[..40], "no probe of this drive was interrupted"),
        (&b"nonsense of more than fifty-six bytes, which is no file of ours"[..], "does not begin"),
    ] {
        fs::write(&saved, bytes).unwrap();
        let error = fathom::restore_interrupted(&source, &Confirmation::Yes, &mut |_, _| {}).unwrap_err().to_string();
        assert!(error.contains(says), "{error}");
        assert!(fs::read(&path).unwrap() == now, "nothing was written: {says}");
    }
    // Lengths and kinds that cannot be end the reading; nothing is allocated for them.
    let mut odd = whole[..56].to_vec();
    // A head of the first version, which has no samples behind it.
    odd[8] = 1;
    odd.extend_from_slice(&u64::MAX.to_le_bytes());
    odd.extend_from_slice(&u32::MAX.to_le_bytes());
    odd.extend_from_slice(&[7; 8]);
    fs::write(&saved, &odd).unwrap();
    assert_eq!(fathom::restore_interrupted(&source, &Confirmation::Yes, &mut |_, _| {}).unwrap().bytes, 0);
}
