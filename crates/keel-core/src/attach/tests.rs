use super::*;

#[test]
fn a_folder_that_holds_something_is_not_covered() {
    let folder = tempfile::tempdir().unwrap();
    let inner = folder.path().join("a/b");
    let (made, is_new) = empty_folder(&inner).unwrap();
    assert!(made.is_dir() && is_new);
    assert!(!empty_folder(&inner).unwrap().1, "it was there");
    fs::write(inner.join("letter"), "x").unwrap();
    assert!(matches!(empty_folder(&inner), Err(CoreError::Refused(Refusal::FolderNotEmpty { .. }))));
    let link = folder.path().join("link");
    fs::create_dir(folder.path().join("c")).unwrap();
    std::os::unix::fs::symlink(folder.path().join("c"), &link).unwrap();
    assert!(empty_folder(&link).is_err(), "a link leads elsewhere");
    assert!(empty_folder(&inner.join("letter")).is_err(), "a file is no folder");
}

#[test]
fn nothing_is_taken_away_that_was_not_attached() {
    let identity = Identity::bare("nobody's drive that was ever attached", 77, LinkKind::Image);
    assert!(matches!(detach(&identity, None), Err(CoreError::Nothing(_))));
    assert!(kept(&identity).is_empty());
}
