//! Probe, fill and estimate on simulated drives that lie in every way, hide it, or are merely sick.

use std::fs;
use std::path::{Path, PathBuf};

use keel_core::fathom::{self, Fathomed, Method, Nature, ProbeOptions, Seen, Sureness};
use keel_core::job::{Cancel, Desk};
use keel_core::plan::Confirmation;
use keel_source::{ByteOffset, OpenOptions, SharedSource};

const MIB: u64 = 1 << 20;
const CLAIMED: u64 = 1024 * MIB;
/// Caches of the drives here are smaller than this.
const CACHE: ProbeOptions = ProbeOptions { largest_cache: 40 * MIB };

struct Yard {
    folder: tempfile::TempDir,
}

impl Yard {
    fn new() -> Self {
        static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
        keel_core::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
        Self { folder: tempfile::tempdir().unwrap() }
    }

    /// A drive with content at its start and at places over its true length.
    fn drive(&self, name: &str, claimed: u64, real: u64, more: &str) -> SharedSource {
        let image = self.folder.path().join(format!("{name}.bin"));
        let file = fs::File::create(&image).unwrap();
        file.set_len(real).unwrap();
        let mut dice = 0x1234_5678_9abc_def1u64;
        use std::os::unix::fs::FileExt;
        for piece in 0..64u64 {
            let bytes: Vec<u8> = (0..4096)
                .map(|_| {
                    dice ^= dice << 13;
                    dice ^= dice >> 7;
                    dice ^= dice << 17;
                    dice as u8
                })
                .collect();
            let at = if piece < 32 { piece * 4096 } else { (real / 64 * piece).saturating_sub(4096) / 512 * 512 };
            file.write_all_at(&bytes, at.min(real - 4096)).unwrap();
        }
        let text = format!(
            "version = 1\nclaimed_bytes = {claimed}\nidentity = {{ model = \"Mudlark\", serial = \"BL-{name}\" }}\n\
             backing = [{{ file = \"{name}.bin\", at_byte = 0 }}]\n\
             clock = {{ read_us = 200, bytes_per_second = 40000000, write_bytes_per_second = 20000000 }}\n{more}\n"
        );
        let path = self.folder.path().join(format!("{name}.drive.toml"));
        fs::write(&path, text).unwrap();
        keel_source::open(&path, OpenOptions::default()).unwrap()
    }

    fn image(&self, name: &str) -> PathBuf {
        self.folder.path().join(format!("{name}.bin"))
    }
}

/// Name, bytes stored, the lie, and whether a nature is the right one.
type Case = (&'static str, u64, String, fn(Nature) -> bool);

fn desk() -> Desk<fathom::FathomProgress> {
    Desk::new(Cancel::default()).0
}

fn probe(source: &SharedSource) -> Fathomed {
    fathom::probe(source, &Confirmation::Yes, CACHE, &desk()).unwrap()
}

fn hash(path: &Path) -> blake3::Hash {
    let mut hasher = blake3::Hasher::new();
    std::io::copy(&mut fs::File::open(path).unwrap(), &mut hasher).unwrap();
    hasher.finalize()
}

#[test]
fn a_probe_tells_the_true_end_to_the_sector_and_leaves_every_byte_as_it_was() {
    let yard = Yard::new();
    let odd = 300 * MIB + 512 * 333;
    let cases: [Case; 9] = [
        ("honest", CLAIMED, String::new(), |nature| nature == Nature::Honest),
        (
            "wraps",
            odd,
            lie(odd, "wraps", ""),
            |nature| matches!(nature, Nature::Wraps { modulus } if modulus == 300 * MIB + 512 * 333),
        ),
        ("wraps-512M", 256 * MIB, lie(256 * MIB, "wraps", ""), |nature| matches!(nature, Nature::Wraps { .. })),
        (
            "two-moduli",
            480 * MIB,
            lie(480 * MIB, "wraps", &format!(", wraps = [{{ from_byte = {}, modulus = {} }}]", 480 * MIB, 160 * MIB)),
            |nature| matches!(nature, Nature::Wraps { .. }),
        ),
        ("zeros", odd, lie(odd, "drops", ""), |nature| nature == Nature::Drops),
        ("ones", odd, lie(odd, "drops", ", answers = \"ones\""), |nature| nature == Nature::Drops),
        ("stale", odd, lie(odd, "drops", ", answers = \"stale\""), |nature| nature == Nature::Drops),
        ("last", odd, lie(odd, "repeats_last", ""), |nature| nature == Nature::RepeatsLast),
        ("tiny", 3 * MIB + 512, lie(3 * MIB + 512, "drops", ""), |nature| nature == Nature::Drops),
    ];
    for (name, real, more, is_right) in cases {
        // Each way of lying once behind a cache that a flush does not empty, once without.
        let caches = [("", ""), ("cache = { bytes = 33554432, flush_empties = false }\n", "c")];
        for (cache, tag) in caches.into_iter().skip(usize::from(["ones", "wraps-512M"].contains(&name))) {
            let name = format!("{name}{tag}");
            let source = yard.drive(&name, CLAIMED, real, &format!("{cache}{more}"));
            let before = hash(&yard.image(&name));
            let verdict = probe(&source);
            let told = serde_json::to_string(&verdict.reasons).unwrap();
            assert!(is_right(verdict.nature), "{name}: {:?} {told}", verdict.nature);
            assert_eq!((verdict.proven_bytes, verdict.exact), (real, true), "{name}: {told}");
            let sure = if real == CLAIMED { Sureness::Strong } else { Sureness::Certain };
            assert_eq!(verdict.sureness, sure, "{name}");
            let restored = verdict.restored.unwrap();
            assert!(restored.whole && restored.verified_bytes > 0, "{name}: {restored:?}");
            assert_eq!(hash(&yard.image(&name)), before, "{name}: every byte as it was");
            assert!(fathom::interrupted(source.identity()).is_none());
        }
    }
}

fn lie(real: u64, word: &str, more: &str) -> String {
    format!("capacity = {{ real_bytes = {real}, lie = \"{word}\"{more} }}\n")
}

#[test]
fn sick_drives_are_told_apart_from_liars() {
    let yard = Yard::new();
    let natures = [
        (
            "bad-reads",
            "unreadable = [{ first_lba = 131072, sectors = 8 }, { first_lba = 1048576, sectors = 4096 }]\n",
            Nature::FailsReads,
        ),
        ("bad-writes", "unwritable = [{ first_lba = 1048576, sectors = 64 }]\n", Nature::FailsWrites),
        ("protected", "write_protected = true\n", Nature::TakesNoWrites),
    ];
    for (name, more, nature) in natures {
        let source = yard.drive(name, CLAIMED, CLAIMED, more);
        let before = hash(&yard.image(name));
        let verdict = probe(&source);
        assert_eq!(verdict.nature, nature, "{name}: {:?}", verdict.reasons);
        assert_eq!(hash(&yard.image(name)), before, "{name}");
    }
}

#[test]
fn a_fill_proves_every_sector_and_counts_what_a_liar_stores() {
    let yard = Yard::new();
    let (claimed, real) = (96 * MIB, 40 * MIB + 512 * 7);
    for (name, more, nature) in [
        ("f-honest", String::new(), Nature::Honest),
        ("f-wraps", lie(real, "wraps", ""), Nature::Wraps { modulus: real }),
        ("f-drops", lie(real, "drops", ""), Nature::Drops),
        ("f-stale", lie(real, "drops", ", answers = \"stale\""), Nature::Drops),
        ("f-last", lie(real, "repeats_last", ""), Nature::RepeatsLast),
        ("f-sick", "flaky = [{ first_lba = 5000, sectors = 3, fails = 1.0 }]\n".into(), Nature::FailsReads),
    ] {
        let stored = if nature.is_lie() { real } else { claimed };
        let source = yard.drive(name, claimed, stored, &more);
        let verdict = fathom::fill(&source, &Confirmation::Code(source.identity().code()), &desk()).unwrap();
        assert_eq!(verdict.nature, nature, "{name}: {:?}", verdict.reasons);
        assert_eq!(verdict.proven_bytes, stored, "{name}: {:?}", verdict.reasons);
        assert_eq!((verdict.sureness, verdict.method), (Sureness::Certain, Method::Fill));
        assert!(verdict.pace.len() > 100 && verdict.pace.iter().all(|pace| pace.write > 1_000_000), "{name}");
        assert!(verdict.plot.iter().any(|point| point.seen == Seen::Own));
    }
}

#[test]
fn an_estimate_sees_content_that_repeats_and_says_how_weak_that_is() {
    let yard = Yard::new();
    let liar = yard.drive("e-wraps", CLAIMED, 512 * MIB, &lie(512 * MIB, "wraps", ""));
    let before = hash(&yard.image("e-wraps"));
    let verdict = fathom::estimate(&liar, &desk());
    assert_eq!((verdict.nature, verdict.sureness), (Nature::Wraps { modulus: 512 * MIB }, Sureness::Weak));
    assert_eq!(hash(&yard.image("e-wraps")), before);
    let honest = fathom::estimate(&yard.drive("e-honest", CLAIMED, CLAIMED, ""), &desk());
    assert_eq!((honest.nature, honest.sureness), (Nature::Unknown, Sureness::Weak));
}

#[test]
fn rules_stand_before_a_measurement_that_writes() {
    let yard = Yard::new();
    let source = yard.drive("rules", 64 * MIB, 64 * MIB, "");
    let refused = |confirmation| fathom::fill(&source, &confirmation, &desk()).unwrap_err().to_string();
    assert!(refused(Confirmation::Code("ABC".into())).contains("confirmation code"));
    let none = yard.drive("none", 0, 4096, "");
    assert!(fathom::probe(&none, &Confirmation::Yes, CACHE, &desk()).unwrap_err().to_string().contains("0 bytes"));
    let other = keel_source::open(&yard.folder.path().join("rules.drive.toml"), OpenOptions::default()).unwrap();
    assert!(fathom::probe(&source, &Confirmation::Yes, CACHE, &desk()).unwrap_err().to_string().contains("in use by another"));
    drop(other);
    assert_eq!(probe(&source).nature, Nature::Honest);
}

#[test]
fn a_cancelled_probe_puts_everything_back_and_an_interrupted_one_is_recognised() {
    let yard = Yard::new();
    let source = yard.drive("cut", CLAIMED, 300 * MIB, &lie(300 * MIB, "wraps", ""));
    let before = hash(&yard.image("cut"));
    for after in [1, 30, 200] {
        let cancel = Cancel::default();
        let (desk, heard) = Desk::new(cancel.clone());
        let source = SharedSource::clone(&source);
        let work = std::thread::spawn(move || fathom::probe(&source, &Confirmation::Yes, CACHE, &desk).unwrap());
        let begun = std::time::Instant::now();
        while heard.recv_timeout(std::time::Duration::from_millis(20)).is_ok() || begun.elapsed().as_millis() < after {
            if begun.elapsed().as_millis() >= after {
                cancel.cancel();
                break;
            }
        }
        let verdict = work.join().unwrap();
        assert!(verdict.cancelled || verdict.nature.is_lie());
        assert_eq!(hash(&yard.image("cut")), before, "cancelled after {after} ms");
        assert!(fathom::interrupted(yard.drive_again("cut").identity()).is_none());
    }
}

impl Yard {
    fn drive_again(&self, name: &str) -> SharedSource {
        keel_source::open(&self.folder.path().join(format!("{name}.drive.toml")), OpenOptions::default()).unwrap()
    }
}

#[test]
fn a_verdict_is_kept_for_the_drive_and_every_later_stage_sees_what_is_stored() {
    let yard = Yard::new();
    let source = yard.drive("kept", CLAIMED, 256 * MIB, &lie(256 * MIB, "drops", ""));
    let verdict = probe(&source);
    fathom::keep(&source, &verdict).unwrap();
    let again = fathom::as_stored(yard.drive_again("kept"));
    assert_eq!((again.len(), again.identity().bytes), (256 * MIB, CLAIMED));
    assert!(again.read_at(ByteOffset(256 * MIB), &mut [0; 512]).is_err());
    assert_eq!(fathom::known(&source).unwrap(), verdict);
}
