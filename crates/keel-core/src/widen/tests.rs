use std::fs;
use std::path::Path;
use std::sync::Arc;

use keel_source::OpenOptions;

use super::*;

/// A drive of 64 KiB that shows half of it, and holds text behind that.
fn bench(means: &str) -> (tempfile::TempDir, impl Fn() -> SharedSource) {
    static STATE: std::sync::OnceLock<tempfile::TempDir> = std::sync::OnceLock::new();
    crate::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
    let folder = tempfile::tempdir().unwrap();
    let mut bytes = vec![0; 32_768];
    bytes.extend(b"Brackwater Line, sailing list. ".iter().cycle().take(32_768));
    fs::write(folder.path().join("whole.img"), bytes).unwrap();
    let serial = folder.path().display();
    let text = format!(
        "version = 1\nclaimed_bytes = 32768\nnative_bytes = 65536\nnative_means = \"{means}\"\nidentity = {{ model = \"Mudlark\", serial = \"{serial}\" }}\n[[backing]]\nfile = \"whole.img\"\n"
    );
    let path = folder.path().join("quay.drive.toml");
    fs::write(&path, text).unwrap();
    (folder, move || open(&path))
}

fn open(path: &Path) -> SharedSource {
    keel_source::open(path, OpenOptions::default()).unwrap()
}

const PASSING: Lasts = Lasts::UntilPowerIsCut;

#[test]
fn what_is_hidden_is_opened_until_the_power_is_cut_looked_at_and_told_back() {
    let (_folder, drive) = bench("host_protected");
    let opening = opening(drive().as_ref()).unwrap();
    assert_eq!((opening.hidden_bytes(), opening.can_pass), (32_768, true));
    assert!(opening.words()[0].contains("32768 bytes") && opening.words()[0].contains("host protected area"));
    let code = Confirmation::Code(opening.code.clone());
    let widened = widen(&drive(), PASSING, &code).unwrap();
    assert_eq!((widened.was_bytes, widened.shown_bytes, widened.failed), (32_768, 65_536, 0));
    assert_eq!(widened.holds, [(Holds::Text, 64)]);
    assert!(widened.words().iter().any(|line| line.contains("64 text")) && widened.words().last().unwrap().contains("sweep"));
    let wide = drive();
    assert_eq!((wide.len(), super::opening(wide.as_ref())), (65_536, None));
    assert!(matches!(widen(&wide, PASSING, &code), Err(CoreError::Nothing(_))), "nothing more is hidden");
    // It is another length, and the same drive: what is kept of it goes on.
    assert_eq!(drive_folder(wide.identity()), drive_folder(&Identity { bytes: 32_768, ..wide.identity().clone() }));
    let back = back(&wide, &Confirmation::Code(wide.identity().code())).unwrap();
    assert_eq!((back.shown_bytes, back.words().len()), (32_768, 1));
    drop(wide);
    assert_eq!(drive().len(), 32_768);
    assert!(matches!(super::back(&drive(), &code), Err(CoreError::Nothing(_))), "it shows its former end");
}

#[test]
fn for_good_wants_a_code_of_its_own_and_outlives_the_power() {
    let (_folder, drive) = bench("accessible_max");
    let opening = opening(drive().as_ref()).unwrap();
    assert!(!opening.can_pass && opening.code != opening.lasting_code);
    let code = |code: &str| Confirmation::Code(code.into());
    assert!(matches!(widen(&drive(), PASSING, &code(&opening.code)), Err(CoreError::Nothing(_))), "it would remember");
    let refused = widen(&drive(), Lasts::ForGood, &code(&opening.code));
    assert!(matches!(refused, Err(CoreError::Refused(Refusal::LastingCode))), "{refused:?}");
    assert_eq!(drive().len(), 32_768);
    widen(&drive(), Lasts::ForGood, &code(&opening.lasting_code.to_lowercase())).unwrap();
    drive().stop().unwrap();
    assert_eq!(drive().len(), 65_536);
    assert!(back(&drive(), &code(&opening.lasting_code)).is_err(), "that code was for the drive as it was");
    let wide = drive().identity().clone();
    back(&drive(), &code(&code_back(&wide, &former(&wide).unwrap()))).unwrap();
    assert_eq!(drive().len(), 32_768);
}

#[test]
fn after_the_power_was_cut_there_is_nothing_to_tell_back() {
    let (_folder, drive) = bench("host_protected");
    widen(&drive(), PASSING, &Confirmation::Yes).unwrap();
    assert!(former(drive().identity()).is_some());
    drive().stop().unwrap();
    assert_eq!((drive().len(), former(drive().identity())), (32_768, None));
    assert!(matches!(back(&drive(), &Confirmation::Yes), Err(CoreError::Nothing(_))));
    // And it can be widened again.
    assert_eq!(widen(&drive(), PASSING, &Confirmation::Yes).unwrap().shown_bytes, 65_536);
}

#[test]
fn a_drive_that_hides_nothing_has_nothing_to_open() {
    let image: SharedSource = Arc::new(keel_source::MemorySource::new("quay", vec![0; 4096], 512));
    assert_eq!(opening(image.as_ref()), None);
    for lasts in [PASSING, Lasts::ForGood] {
        assert!(matches!(widen(&image, lasts, &Confirmation::Yes), Err(CoreError::Nothing(_))));
    }
}

#[test]
fn an_end_that_the_system_does_not_see_is_said() {
    let widened = |lasts| Widened { was_bytes: 1000, told_bytes: 2000, shown_bytes: 1000, lasts, holds: Vec::new(), failed: 0 };
    assert!(widened(Lasts::ForGood).words()[1].contains("plug it in again"));
    assert!(widened(PASSING).words()[1].contains("another port"));
}
