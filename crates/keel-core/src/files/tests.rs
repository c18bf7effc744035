use std::fs;
use std::ops::ControlFlow;
use std::sync::atomic::{AtomicUsize, Ordering};

use keel_format::{
    Deleted, Entry, Existence, Extent, Finding, FormatError, MemoryStream, NodeId, NodeKind, StreamInfo, StreamReader, Times,
    Volume, VolumeKind, VolumeSummary, WalkEntry,
};
use proptest::prelude::*;

use super::*;
use crate::job::{Cancel, Desk};

/// A volume with whatever names a drive could hold.
struct Hostile {
    summary: VolumeSummary,
    files: Vec<(String, String)>,
    /// What every file says of its length, where that is not so.
    claims: Option<u64>,
    /// How often a file was opened.
    opened: AtomicUsize,
}

/// Content that says that it is so long.
struct Claims(u64);

impl StreamReader for Claims {
    fn bytes(&self) -> u64 {
        self.0
    }

    fn read(&mut self, _: u64, buf: &mut [u8]) -> Vec<keel_source::ByteRange> {
        buf.fill(0);
        Vec::new()
    }
}

impl Hostile {
    fn new(files: &[(&str, &str)]) -> Self {
        let summary =
            VolumeSummary { kind: Some(VolumeKind::Ntfs), label: None, serial: None, bytes: 1 << 30, cluster_bytes: 4096 };
        Self {
            summary,
            files: files.iter().map(|(folder, name)| (folder.to_string(), name.to_string())).collect(),
            claims: None,
            opened: AtomicUsize::new(0),
        }
    }

    fn entry(&self, index: usize) -> Entry {
        Entry {
            id: NodeId(index as u64 + 1),
            name: self.files[index].1.clone(),
            kind: NodeKind::File,
            bytes: self.claims.unwrap_or(5),
            times: Times::default(),
            existence: Existence::Present,
        }
    }
}

impl Volume for Hostile {
    fn summary(&self) -> &VolumeSummary {
        &self.summary
    }

    fn root(&self) -> NodeId {
        NodeId(0)
    }

    fn list(&self, _: NodeId, _: Deleted, each: &mut dyn FnMut(Entry) -> ControlFlow<()>) -> Result<Vec<Finding>, FormatError> {
        let _ = (0..self.files.len()).try_for_each(|index| each(self.entry(index)));
        Ok(Vec::new())
    }

    fn walk(&self, _: Deleted, each: &mut dyn FnMut(WalkEntry<'_>) -> ControlFlow<()>) -> Result<Vec<Finding>, FormatError> {
        let _ = (0..self.files.len())
            .try_for_each(|index| each(WalkEntry { folder: &self.files[index].0, entry: &self.entry(index) }));
        Ok(Vec::new())
    }

    fn streams(&self, _: NodeId) -> Result<Vec<StreamInfo>, FormatError> {
        Ok(Vec::new())
    }

    fn open(&self, file: NodeId, _: &str) -> Result<Box<dyn StreamReader>, FormatError> {
        self.opened.fetch_add(1, Ordering::Relaxed);
        Ok(match self.claims {
            Some(bytes) => Box::new(Claims(bytes)),
            None => Box::new(MemoryStream(format!("{:05}", file.0).into_bytes())),
        })
    }

    fn extents(&self, _: NodeId) -> Result<Vec<Extent>, FormatError> {
        Ok(Vec::new())
    }

    fn examine(&self) -> Vec<Finding> {
        Vec::new()
    }
}

/// Takes out what `paths` ask for, judged by the volume alone.
fn taken(
    volume: &dyn Volume,
    paths: &[String],
    to: &std::path::Path,
    desk: &Desk<ExtractProgress>,
) -> Result<Extracted, crate::CoreError> {
    extract::extract("quay", (volume, GroundJudge::new(volume)), paths, to, desk)
}

fn desk() -> Desk<ExtractProgress> {
    Desk::new(Cancel::default()).0
}

#[test]
fn hostile_names_never_leave_the_folder_and_nothing_is_overwritten() {
    let bench = tempfile::tempdir().unwrap();
    let to = bench.path().join("out/deep");
    fs::create_dir_all(&to).unwrap();
    fs::write(to.join("plain.txt"), "mine").unwrap();
    std::os::unix::fs::symlink(bench.path(), to.join("link")).unwrap();
    let long = "x".repeat(600);
    let names = [
        ("", "../../escaped.txt"),
        ("..", "up.txt"),
        ("../..", "up.txt"),
        ("", "plain.txt"),
        ("", "plain.txt"),
        ("a", "b\u{1b}[31m\n.txt"),
        ("", ".."),
        ("", ""),
        ("link", "inside.txt"),
        ("", long.as_str()),
        ("/etc", "passwd"),
    ];
    let volume = Hostile::new(&names);
    let done = taken(&volume, &[], &to, &desk()).unwrap();
    assert_eq!(fs::read_to_string(to.join("plain.txt")).unwrap(), "mine");
    assert!(to.join("plain (2).txt").exists() && to.join("plain (3).txt").exists());
    let outside: Vec<_> = fs::read_dir(bench.path()).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(outside, ["out"], "nothing was written outside");
    assert_eq!((done.whole, done.failed, done.compared), (10, 1, true), "{:?}", done.files);
    assert!(done.files.iter().any(|file| file.why.as_deref().is_some_and(|why| why.contains("in the way"))));
    let again = taken(&volume, &[], &to, &desk()).unwrap();
    assert_ne!(again.manifest, done.manifest);
}

#[test]
fn a_cancelled_extraction_leaves_only_whole_files() {
    let bench = tempfile::tempdir().unwrap();
    let (desk, _progress) = Desk::new(Cancel::default());
    desk.cancel().cancel();
    let done = taken(&Hostile::new(&[("", "a.txt"), ("", "b.txt")]), &[], bench.path(), &desk).unwrap();
    assert!(done.cancelled && done.files.is_empty());
}

#[test]
fn a_path_that_is_not_there_is_named() {
    let bench = tempfile::tempdir().unwrap();
    let error = taken(&Hostile::new(&[("", "a.txt")]), &["Quay/none.txt".into()], bench.path(), &desk()).unwrap_err();
    assert!(error.to_string().contains("no path Quay/none.txt"));
}

#[test]
fn names_that_are_no_text_come_out_apart_and_lead_back() {
    let names = ["caf\\xE9.txt", "caf\\\\xE9.txt", "half \\uD800 pair", "tab\there", "café.txt"];
    let volume = Hostile::new(&names.map(|name| ("", name)));
    let folder = tempfile::tempdir().unwrap();
    let out = taken(&volume, &[], folder.path(), &desk()).unwrap();
    let saved: std::collections::BTreeSet<String> = out.files.iter().filter_map(|file| file.saved_as.clone()).collect();
    assert_eq!((out.whole, saved.len()), (names.len() as u64, names.len()));
    let manifest: serde_json::Value = serde_json::from_slice(&fs::read(&out.manifest).unwrap()).unwrap();
    let paths: Vec<&str> = manifest["files"].as_array().unwrap().iter().map(|file| file["path"].as_str().unwrap()).collect();
    assert_eq!(paths, names);
    for (index, path) in paths.iter().enumerate() {
        // What the manifest calls a file asks for that file again.
        let again = tempfile::tempdir().unwrap();
        let one = taken(&volume, &[(*path).to_string()], again.path(), &desk()).unwrap();
        let saved = again.path().join(one.files[0].saved_as.as_ref().unwrap());
        assert_eq!(fs::read(saved).unwrap(), format!("{:05}", index + 1).into_bytes(), "{path}");
    }
}

proptest! {
    #[test]
    fn every_name_becomes_one_safe_component(name in any::<String>()) {
        let safe = safe_component(&name);
        prop_assert!(!safe.is_empty() && safe.len() <= 255 && safe != "." && safe != "..");
        prop_assert!(!safe.contains('/') && !safe.chars().any(char::is_control));
    }

    #[test]
    fn different_names_stay_different(one in "[a-c/%.\u{1}]{0,6}", two in "[a-c/%.\u{1}]{0,6}") {
        prop_assert_eq!(one == two, safe_component(&one) == safe_component(&two));
    }
}

#[test]
fn lengths_that_no_volume_can_hold_are_refused_and_room_is_asked_for_first() {
    let bench = tempfile::tempdir().unwrap();
    // 2^60 bytes on a volume of 1 GiB.
    let volume = Hostile { claims: Some(1 << 60), ..Hostile::new(&[("", "endless.bin")]) };
    let done = taken(&volume, &[], bench.path(), &desk()).unwrap();
    assert_eq!((done.whole, done.failed, done.bytes), (0, 1, 0));
    assert!(done.files[0].why.as_deref().is_some_and(|why| why.contains("more than its volume can hold")), "{:?}", done.files);
    // Files that a volume of 2^60 bytes can hold, and this system cannot.
    let mut volume = Hostile { claims: Some(1 << 50), ..Hostile::new(&[("", "large.bin"), ("", "larger.bin")]) };
    volume.summary.bytes = 1 << 60;
    let to = bench.path().join("none");
    let error = taken(&volume, &[], &to, &desk()).unwrap_err();
    assert!(matches!(error, crate::CoreError::NoRoom { wanted, free, .. } if wanted == 1 << 51 && free < wanted), "{error}");
    assert_eq!(fs::read_dir(&to).unwrap().count(), 0, "nothing was begun");
}

#[test]
fn what_is_not_finished_carries_a_name_that_says_so() {
    let bench = tempfile::tempdir().unwrap();
    let volume = Hostile { claims: Some(64 << 20), ..Hostile::new(&[("", "one.bin"), ("", "two.bin"), ("", "three.bin")]) };
    let (desk, progress) = Desk::<ExtractProgress>::new(Cancel::default());
    let (flag, folder) = (desk.cancel().clone(), bench.path().to_path_buf());
    let watcher = std::thread::spawn(move || {
        let names = || fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap());
        for told in progress {
            if told.path == "two.bin" {
                // The first one is done; of the second one nothing stands under its own name.
                let begun = std::time::Instant::now();
                while !names().any(|name| name.starts_with("two.bin.")) && begun.elapsed().as_secs() < 10 {
                    std::thread::yield_now();
                }
                let mut seen: Vec<String> = names().collect();
                seen.sort();
                let noted = fs::read_to_string(folder.join("ykeel-manifest.unfinished.jsonl")).unwrap();
                flag.cancel();
                return (seen, noted);
            }
        }
        panic!("the second file was never told")
    });
    let done = taken(&volume, &[], bench.path(), &desk).unwrap();
    drop(desk);
    let (seen, noted) = watcher.join().unwrap();
    assert!(done.cancelled);
    assert!(seen.contains(&"one.bin".to_string()) && !seen.contains(&"two.bin".to_string()), "{seen:?}");
    assert!(seen.iter().any(|name| name == "two.bin.1.unfinished"), "{seen:?}");
    assert!(noted.contains("one.bin") && noted.ends_with('\n'), "{noted}");
    let left: Vec<String> =
        fs::read_dir(bench.path()).unwrap().map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
    assert!(left.iter().all(|name| !name.contains("unfinished")), "a cancelled one leaves nothing half: {left:?}");
}

#[test]
fn an_extraction_that_was_stopped_goes_on_and_reads_nothing_twice() {
    let bench = tempfile::tempdir().unwrap();
    let names: Vec<String> = (0..40).map(|number| format!("sailing-{number:02}.txt")).collect();
    let named: Vec<(&str, &str)> = names.iter().map(|name| ("Rota", name.as_str())).collect();
    let volume = Hostile::new(&named);
    let (stopped, progress) = Desk::<ExtractProgress>::new(Cancel::default());
    let flag = stopped.cancel().clone();
    let watcher = std::thread::spawn(move || progress.into_iter().filter(|told| told.files == 7).for_each(|_| flag.cancel()));
    let first = taken(&volume, &[], bench.path(), &stopped).unwrap();
    drop(stopped);
    watcher.join().unwrap();
    assert!(first.whole >= 7, "{}", first.whole);
    let before = volume.opened.load(Ordering::Relaxed);
    let second = taken(&volume, &[], bench.path(), &desk()).unwrap();
    assert_eq!((second.whole, second.was_there, second.compared), (40, first.whole, true));
    assert_eq!(volume.opened.load(Ordering::Relaxed) - before, 40 - first.whole as usize, "only the others are read");
    let files = fs::read_dir(bench.path().join("Rota")).unwrap().count();
    assert_eq!(files, 40, "nothing stands there twice");
    // What was changed there since is somebody's: it stays, and the file comes out beside it.
    fs::write(bench.path().join("Rota/sailing-03.txt"), "other").unwrap();
    let third = taken(&volume, &[], bench.path(), &desk()).unwrap();
    assert_eq!((third.whole, third.was_there), (40, 39));
    assert_eq!(fs::read_to_string(bench.path().join("Rota/sailing-03.txt")).unwrap(), "other");
    assert_eq!(fs::read_to_string(bench.path().join("Rota/sailing-03 (2).txt")).unwrap(), "00004");
}

#[test]
fn an_extraction_that_was_killed_goes_on_from_its_unfinished_manifest_and_another_volume_does_not() {
    let bench = tempfile::tempdir().unwrap();
    let volume = Hostile::new(&[("", "log.txt"), ("", "crew.txt")]);
    let done = taken(&volume, &[], bench.path(), &desk()).unwrap();
    // As a program that was killed leaves it: the lines so far, the last one cut off.
    let lines: Vec<String> = done.files.iter().map(|file| serde_json::to_string(file).unwrap()).collect();
    let unfinished = bench.path().join("ykeel-manifest.unfinished.jsonl");
    fs::write(&unfinished, format!("{{\"of\":\"{}\"}}\n{}\n{}", done.of, lines[0], &lines[1][..20])).unwrap();
    fs::remove_file(&done.manifest).unwrap();
    let again = taken(&volume, &[], bench.path(), &desk()).unwrap();
    // The second is read once more; it has the same content, and is not put beside itself.
    assert_eq!((again.whole, again.was_there, volume.opened.load(Ordering::Relaxed)), (2, 2, 3));
    assert!(!unfinished.exists() && !bench.path().join("crew (2).txt").exists());
    let mut other = Hostile::new(&[("", "log.txt"), ("", "crew.txt")]);
    other.summary.serial = Some("other".into());
    let others = taken(&other, &[], bench.path(), &desk()).unwrap();
    assert_eq!(
        (others.was_there, other.opened.load(Ordering::Relaxed)),
        (2, 2),
        "it is known by its content alone, which was read"
    );
}

#[test]
fn manifests_that_lead_out_of_the_folder_or_are_none_count_for_nothing() {
    let bench = tempfile::tempdir().unwrap();
    let (to, secret) = (bench.path().join("out"), bench.path().join("secret.txt"));
    fs::create_dir(&to).unwrap();
    fs::write(&secret, "00001").unwrap();
    let volume = Hostile::new(&[("", "log.txt")]);
    let done = taken(&volume, &[], &bench.path().join("elsewhere"), &desk()).unwrap();
    let mut line = serde_json::to_value(&done.files[0]).unwrap();
    for saved in ["../secret.txt", secret.to_str().unwrap(), "./../secret.txt", ""] {
        line["saved_as"] = saved.into();
        let text = format!("{{\"of\":\"{}\"}}\n{line}\n", done.of);
        fs::write(to.join("ykeel-manifest.unfinished.jsonl"), text).unwrap();
        let out = tempfile::tempdir_in(bench.path()).unwrap();
        fs::copy(to.join("ykeel-manifest.unfinished.jsonl"), out.path().join("ykeel-manifest.unfinished.jsonl")).unwrap();
        let done = taken(&volume, &[], out.path(), &desk()).unwrap();
        assert_eq!((done.was_there, done.files[0].saved_as.as_deref()), (0, Some("log.txt")), "{saved}");
    }
    fs::write(to.join("ykeel-manifest.json"), "[".repeat(100_000)).unwrap();
    fs::write(to.join("ykeel-manifest.unfinished.jsonl"), vec![0xff; 1 << 16]).unwrap();
    std::os::unix::fs::symlink("/dev/zero", to.join("ykeel-manifest (2).json")).unwrap();
    assert_eq!(taken(&volume, &[], &to, &desk()).unwrap().was_there, 0);
}

#[test]
fn what_came_out_is_told_by_its_sort() {
    let bench = tempfile::tempdir().unwrap();
    let names = [("", "quay.jpg"), ("", "rota.PDF"), ("", "berth.jpeg"), ("Mail", "inbox.mbox"), ("", "noname")];
    let done = taken(&Hostile::new(&names), &[], bench.path(), &desk()).unwrap();
    let whole = |sort| done.sorts.get(&sort).map_or(0, |count| count.whole);
    let told = [Sort::Picture, Sort::Document, Sort::Mail, Sort::Other, Sort::Film].map(whole);
    assert_eq!(told, [2, 1, 1, 1, 0]);
    let large = Hostile { claims: Some(1 << 60), ..Hostile::new(&[("", "endless.mov")]) };
    let done = taken(&large, &[], bench.path(), &desk()).unwrap();
    assert_eq!(done.sorts[&Sort::Film], SortCount { missing: 1, ..SortCount::default() });
}

#[test]
fn marked_folders_weigh_what_is_below_them_and_a_search_goes_through_all_of_it() {
    let names = [("", "a.jpg"), ("Quay", "b.jpg"), ("Quay/Old", "c.txt"), ("Quayside", "d.jpg")];
    let volume = Hostile::new(&names);
    let weight = |paths: &[&str]| {
        let paths: Vec<String> = paths.iter().map(ToString::to_string).collect();
        weigh(&volume, &paths, &Cancel::default()).unwrap().unwrap()
    };
    assert_eq!((weight(&["Quay"]).files, weight(&["Quay"]).bytes), (2, 10));
    assert_eq!(weight(&["Quay", "Quay/b.jpg"]).files, 2, "what lies in a marked folder counts once");
    assert_eq!((weight(&[""]).files, weight(&["a.jpg"]).files, weight(&["none"]).files), (4, 1, 0));
    assert_eq!(weight(&["Quay"]).sorts[&Sort::Picture], (1, 5));
    let stopped = Cancel::default();
    stopped.cancel();
    assert_eq!(weigh(&volume, &[String::new()], &stopped).unwrap(), None);
    let (desk, _progress) = Desk::new(Cancel::default());
    let found = search(&volume, (&Query::typed("*.jpg").unwrap(), &|_| None), Deleted::Hide, &desk).unwrap();
    let paths: Vec<String> = found.hits.iter().map(Hit::path).collect();
    assert_eq!(
        (paths, found.looked_at, found.untold),
        (vec!["a.jpg".into(), "Quay/b.jpg".into(), "Quayside/d.jpg".into()], 4, 0)
    );
}

#[test]
fn a_file_of_which_only_the_name_is_left_is_gone_whatever_it_claims() {
    let volume = Hostile::new(&[("Quay", "ropes.txt")]);
    let judge = GroundJudge::new(&volume);
    let present = volume.entry(0);
    assert_eq!(judge.of(&present), super::FileGround::Whole);
    for (bytes, kind, wanted) in [
        (5, NodeKind::File, super::FileGround::Gone),
        (0, NodeKind::File, super::FileGround::Gone),
        (0, NodeKind::Directory, super::FileGround::Whole),
    ] {
        let named = Entry { existence: Existence::Named, bytes, kind, ..present.clone() };
        assert_eq!(judge.of(&named), wanted, "{bytes} {kind:?}");
        let taken = super::Taken::default();
        assert_eq!(GroundJudge::under(&volume, &taken).of(&named), wanted, "under a later volume: {bytes} {kind:?}");
    }
}
