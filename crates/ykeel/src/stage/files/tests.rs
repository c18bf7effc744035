use std::fs;
use std::path::PathBuf;
use std::process::Command;

use crossterm::event::KeyCode;
use ratatui::layout::Rect;

use super::preview::ViewAs;
use crate::app::App;
use crate::stage::StageId;
use crate::testing::{Bench, app, click, drawn, key, line, sign, wait};

/// The Files stage of a volume by the system's formatter, at its root.
fn opened(bench: &Bench) -> App {
    let mut app = bench.app(&bench.filled());
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    sign(&mut app, '7');
    wait(&mut app);
    assert_eq!(app.stage, StageId::Files);
    app
}

fn names(app: &App) -> Vec<String> {
    app.drive.as_ref().unwrap().files.rows().map(|hit| hit.entry.name.clone()).collect()
}

/// Selects the entry of this name.
fn select(app: &mut App, name: &str) {
    let at = names(app).iter().position(|own| own == name).unwrap_or_else(|| panic!("no {name}: {:?}", names(app)));
    app.drive.as_mut().unwrap().files.selected = at;
    wait(app);
}

#[test]
fn folders_are_walked_down_and_up_again_to_the_row_they_were_left_at() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    assert_eq!(names(&app), ["ROUTES", "boat.png", "engine.bin"]);
    select(&mut app, "ROUTES");
    key(&mut app, KeyCode::Right);
    wait(&mut app);
    select(&mut app, "OLD");
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("LOCKER /ROUTES/OLD") && names(&app) == ["tide.txt"]);
    key(&mut app, KeyCode::Backspace);
    wait(&mut app);
    let files = &app.drive.as_ref().unwrap().files;
    assert_eq!(files.selected_entry().unwrap().entry.name, "OLD");
    key(&mut app, KeyCode::Left);
    wait(&mut app);
    assert_eq!(app.drive.as_ref().unwrap().files.folder(), "");
    key(&mut app, KeyCode::Left);
    assert_eq!(app.stage, StageId::Sweep, "above the root are the volumes");
}

#[test]
fn previews_are_texts_pictures_or_bytes_and_a_key_shows_the_bytes() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    for (name, view) in [("boat.png", "as picture"), ("engine.bin", "as bytes")] {
        select(&mut app, name);
        let text = drawn(&app, 160, 45);
        assert!(text.contains(view), "{name}: {text}");
    }
    select(&mut app, "boat.png");
    assert!(drawn(&app, 160, 45).contains("picture of 48 x 32"));
    sign(&mut app, 'v');
    assert_eq!(app.drive.as_ref().unwrap().files.view, ViewAs::Hex);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("as bytes") && text.contains("89 50 4e 47"), "{text}");
    sign(&mut app, 'v');
    assert!(drawn(&app, 160, 45).contains("as picture"));
    select(&mut app, "ROUTES");
    assert!(drawn(&app, 160, 45).contains("a folder; enter opens it"));
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    select(&mut app, "first.txt");
    assert!(drawn(&app, 160, 45).contains("crossing 3 of the Brackwater Line"));
    // Another stage asks for no preview.
    app.stage = StageId::Sweep;
    app.drive.as_mut().unwrap().files.preview = None;
    wait(&mut app);
    assert!(app.drive.as_ref().unwrap().files.preview.is_none());
}

#[test]
fn deleted_entries_are_listed_on_request_with_what_is_left_of_them() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    sign(&mut app, 'D');
    wait(&mut app);
    let gone = names(&app).into_iter().find(|name| name.contains("one.txt")).unwrap();
    select(&mut app, &gone);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("with deleted") && text.contains("Deleted; ") && text.contains('×'), "{text}");
    sign(&mut app, 'D');
    wait(&mut app);
    assert_eq!(names(&app).len(), 3);
}

/// An NTFS volume of three files, of one of which the record was overwritten.
fn with_lost_record(bench: &Bench) -> PathBuf {
    let image = bench.folder.path().join("lost.img");
    let point = bench.folder.path().join("mounted");
    fs::create_dir_all(&point).unwrap();
    fs::File::create(&image).unwrap().set_len(32 << 20).unwrap();
    let run = |command: &mut Command| assert!(command.output().unwrap().status.success(), "{command:?}");
    run(Command::new("mkfs.ntfs").args(["-Q", "-F", "-q"]).arg(&image));
    run(Command::new("ntfs-3g").arg(&image).arg(&point));
    for name in ["kept.txt", "lost tide table.txt", "other.txt"] {
        fs::write(point.join(name), format!("{name} of the Brackwater Line\n").repeat(200)).unwrap();
    }
    run(Command::new("umount").arg(&point));
    let mut bytes = fs::read(&image).unwrap();
    let name: Vec<u8> = "lost tide table".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let holds = |record: &[u8]| record.starts_with(b"FILE") && record.windows(name.len()).any(|part| part == name);
    bytes.chunks_mut(1024).filter(|record| holds(record) && record[22] == 1).for_each(|record| record.fill(0x2E));
    fs::write(&image, bytes).unwrap();
    image
}

#[test]
fn a_file_of_which_only_the_name_is_left_says_so_and_is_told_missing() {
    let bench = Bench::new();
    let image = with_lost_record(&bench);
    let mut app = bench.app(&image);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    sign(&mut app, '7');
    wait(&mut app);
    assert_eq!(names(&app), ["kept.txt", "lost tide table.txt", "other.txt"]);
    select(&mut app, "lost tide table.txt");
    let text = drawn(&app, 160, 45);
    assert!(text.contains("∅ lost tide table.txt") && text.contains("gone: "), "{text}");
    assert!(!text.contains("∅ kept.txt"), "{text}");
    // Taken out with the others it is told as what is missing.
    for name in ["kept.txt", "lost tide table.txt"] {
        select(&mut app, name);
        sign(&mut app, ' ');
    }
    wait(&mut app);
    sign(&mut app, 'e');
    let out = bench.folder.path().join("out");
    (0..120).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, out.to_str().unwrap());
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("1 missing"), "{text}");
    assert!(out.join("kept.txt").exists() && !out.join("lost tide table.txt").exists());
}

#[test]
fn what_is_marked_is_taken_out_and_the_summary_says_what_came() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    select(&mut app, "ROUTES");
    sign(&mut app, ' ');
    assert_eq!(app.drive.as_ref().unwrap().files.selected, 1, "on to the next");
    sign(&mut app, ' ');
    key(&mut app, KeyCode::Up);
    sign(&mut app, ' ');
    assert!(drawn(&app, 160, 45).contains("1 marked"), "the same key unmarks: {}", drawn(&app, 160, 45));
    select(&mut app, "engine.bin");
    sign(&mut app, ' ');
    assert!(drawn(&app, 160, 45).contains("2 marked"), "{}", drawn(&app, 160, 45));
    wait(&mut app);
    sign(&mut app, 'e');
    let text = drawn(&app, 160, 45);
    assert!(text.contains("2 marked: 3 files") && text.contains("nothing is overwritten"), "{text}");
    let out = bench.folder.path().join("out");
    (0..80).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, out.to_str().unwrap());
    assert!(app.drive.as_ref().unwrap().running().iter().any(|running| running.what.contains("taking out")));
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("2 files whole") || text.contains("3 files whole"), "{text}");
    assert!(fs::read_to_string(out.join("ROUTES/OLD/tide.txt")).unwrap().starts_with("high water"));
    assert!(out.join("engine.bin").exists() && !out.join("boat.png").exists());
    app.popups.clear();
    // Into the drive itself nothing is taken.
    sign(&mut app, 'e');
    (0..200).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, bench.folder.path().join("locker.img").to_str().unwrap());
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("Nothing was taken out"), "{}", drawn(&app, 160, 45));
}

#[test]
fn a_stopped_listing_is_said_and_the_volume_opens_again() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    sign(&mut app, 'D');
    sign(&mut app, 'x');
    wait(&mut app);
    let stopped = app.drive.as_ref().unwrap().files.volume.is_none();
    if stopped {
        assert!(drawn(&app, 160, 45).contains("stopped"), "{}", drawn(&app, 160, 45));
    }
    sign(&mut app, '5');
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert!(names(&app).len() >= 3, "{:?}", names(&app));
}

#[test]
fn a_click_selects_a_row_and_nothing_is_looked_into_where_nothing_was_found() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    app.area = Rect::new(0, 0, 160, 45);
    click(&mut app, "engine.bin", 40);
    assert_eq!(app.drive.as_ref().unwrap().files.selected_entry().unwrap().entry.name, "engine.bin");
    let mut empty = self::app(true);
    empty.drive.as_mut().unwrap().sweep.finds.clear();
    empty.stage = StageId::Sweep;
    key(&mut empty, KeyCode::Enter);
    assert!(empty.told.as_ref().unwrap().contains("no volume is selected"));
    sign(&mut empty, '7');
    wait(&mut empty);
    assert!(drawn(&empty, 160, 45).contains("No volume is open"));
    sign(&mut empty, 'e');
    assert!(empty.told.as_ref().unwrap().contains("nothing is selected"));
}

#[test]
fn a_folder_is_sorted_with_its_folders_first_and_searched_as_it_is_typed() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    assert_eq!(names(&app), ["ROUTES", "boat.png", "engine.bin"]);
    sign(&mut app, 'r');
    assert_eq!(names(&app), ["ROUTES", "engine.bin", "boat.png"], "folders stay first");
    sign(&mut app, 'r');
    sign(&mut app, 'o');
    assert!(app.told.as_ref().unwrap().contains("bytes"));
    let bytes: Vec<u64> = app.drive.as_ref().unwrap().files.rows().skip(1).map(|hit| hit.entry.bytes).collect();
    assert!(bytes.is_sorted(), "{bytes:?}");
    (0..3).for_each(|_| sign(&mut app, 'o'));
    sign(&mut app, '/');
    line(&mut app, "*.png");
    assert_eq!(names(&app), ["boat.png"]);
    assert!(drawn(&app, 160, 45).contains("1 entry of 3  / *.png"));
    // Letters go to the search while it is typed, and it is let go by leaving it.
    sign(&mut app, '/');
    sign(&mut app, 'q');
    assert!(names(&app).is_empty() && !app.quit);
    key(&mut app, KeyCode::Esc);
    assert_eq!(names(&app).len(), 3);
    // A folder that was found is come back from to its row in the whole folder.
    sign(&mut app, '/');
    line(&mut app, "routes");
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert_eq!(names(&app), ["OLD", "first.txt"], "what was searched for is not searched for in the next folder");
    key(&mut app, KeyCode::Backspace);
    wait(&mut app);
    assert_eq!(app.drive.as_ref().unwrap().files.selected_entry().unwrap().entry.name, "ROUTES");
}

#[test]
fn the_whole_volume_is_searched_and_the_way_leads_back() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    select(&mut app, "engine.bin");
    sign(&mut app, '*');
    line(&mut app, "*.txt <1K");
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(names(&app) == ["tide.txt"] && text.contains("ROUTES/OLD/tide.txt") && text.contains("found: *.txt <1K"), "{text}");
    // What is marked there is the file of that path.
    sign(&mut app, ' ');
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("1 marked: 1 file, 19 B"), "{}", drawn(&app, 160, 45));
    sign(&mut app, '*');
    (0..40).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, "is:folder");
    wait(&mut app);
    assert_eq!(names(&app), ["OLD", "ROUTES"]);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    assert_eq!((names(&app), app.drive.as_ref().unwrap().files.folder().as_str()), (vec!["tide.txt".into()], "ROUTES/OLD"));
    key(&mut app, KeyCode::Backspace);
    assert_eq!(names(&app), ["OLD", "ROUTES"], "up from there is what was found");
    key(&mut app, KeyCode::Backspace);
    wait(&mut app);
    assert_eq!(app.drive.as_ref().unwrap().files.selected_entry().unwrap().entry.name, "engine.bin");
    sign(&mut app, '*');
    line(&mut app, "sort:nothing");
    assert!(drawn(&app, 160, 45).contains("is not known"), "{}", drawn(&app, 160, 45));
}

#[test]
fn a_marked_folder_counts_with_all_below_it() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    select(&mut app, "ROUTES");
    sign(&mut app, ' ');
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("1 marked: 2 files"), "{text}");
    select(&mut app, "ROUTES");
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    select(&mut app, "first.txt");
    assert!(drawn(&app, 160, 45).contains("✓  first.txt"), "{}", drawn(&app, 160, 45));
    sign(&mut app, ' ');
    assert!(drawn(&app, 160, 45).contains("its folder ROUTES is marked"));
}

#[test]
fn a_file_is_read_to_its_end_and_searched() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    select(&mut app, "ROUTES");
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    select(&mut app, "first.txt");
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(
        text.contains("first.txt  text, UTF-8") && text.contains("crossing 0 of") && !text.contains("crossing 60 of"),
        "{text}"
    );
    key(&mut app, KeyCode::End);
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("crossing 399 of") && drawn(&app, 160, 45).contains("100 %"));
    key(&mut app, KeyCode::Home);
    (0..3).for_each(|_| key(&mut app, KeyCode::Down));
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("crossing 3 of") && !text.contains("crossing 2 of"), "{text}");
    sign(&mut app, '/');
    line(&mut app, "CROSSING 250");
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("crossing 250 of"), "{}", drawn(&app, 160, 45));
    sign(&mut app, 'n');
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("it does not stand there from here on"));
    sign(&mut app, 'v');
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("first.txt  bytes") && text.contains("63 72 6f 73 73"), "{text}");
    key(&mut app, KeyCode::Esc);
    assert!(app.popups.is_empty());
    // Its bytes on the drive: not the start of the volume.
    sign(&mut app, 'b');
    wait(&mut app);
    let drive = app.drive.as_ref().unwrap();
    let mut begins = [0; 10];
    drive.source.read_at(drive.place.at, &mut begins).unwrap();
    assert_eq!(&begins, b"crossing 0");
}

#[test]
fn pictures_lie_side_by_side_and_are_marked_there() {
    let bench = Bench::new();
    let mut app = opened(&bench);
    select(&mut app, "boat.png");
    sign(&mut app, '#');
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("Contact sheet  1 of 1") && text.contains('▄'), "{text}");
    sign(&mut app, ' ');
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("✓ boat.png"));
    key(&mut app, KeyCode::Enter);
    assert!(app.popups.is_empty() && app.drive.as_ref().unwrap().files.is_marked("boat.png"));
    select(&mut app, "ROUTES");
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    sign(&mut app, '#');
    assert!(drawn(&app, 160, 45).contains("no pictures are listed here"));
}

/// A picture with its checksums.
fn png(seed: u8) -> Vec<u8> {
    let mut bytes = Vec::new();
    let picture = image::RgbImage::from_fn(48, 32, |x, y| image::Rgb([seed, (x * 5) as u8, (y * 7) as u8]));
    picture.write_to(&mut std::io::Cursor::new(&mut bytes), image::ImageFormat::Png).unwrap();
    bytes
}

#[test]
fn files_adrift_are_listed_beside_the_volumes_searched_and_taken_out() {
    let bench = Bench::new();
    let image = bench.filled();
    let len = fs::metadata(&image).unwrap().len();
    let file = fs::File::options().write(true).open(&image).unwrap();
    // On free ground of the volume.
    let places = [len / 2 / 4096 * 4096, len / 3 * 2 / 4096 * 4096];
    let (one, two) = (png(3), png(9));
    for (at, bytes) in places.iter().zip([&one, &two]) {
        std::os::unix::fs::FileExt::write_all_at(&file, bytes, *at).unwrap();
    }
    drop(file);
    let mut app = bench.app(&image);
    key(&mut app, KeyCode::Enter);
    wait(&mut app);
    sign(&mut app, '7');
    wait(&mut app);
    sign(&mut app, '~');
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("files adrift are met where the surface is swept"), "{}", drawn(&app, 160, 45));
    assert_eq!(names(&app), ["ROUTES", "boat.png", "engine.bin"], "the volume stays");
    sign(&mut app, '&');
    assert!(drawn(&app, 160, 45).contains("~ shows them"));
    for keys in ["5", "S"] {
        sign(&mut app, keys.chars().next().unwrap());
        wait(&mut app);
    }
    sign(&mut app, '7');
    wait(&mut app);
    sign(&mut app, '~');
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(names(&app).contains(&"pictures".to_string()) && text.contains("adrift /") && text.contains('◦'), "{text}");
    for folder in ["pictures", "png"] {
        select(&mut app, folder);
        key(&mut app, KeyCode::Enter);
        wait(&mut app);
    }
    let wanted = places.map(|at| format!("byte {at}.png"));
    assert_eq!((names(&app).len(), wanted.iter().all(|name| names(&app).contains(name))), (2, true));
    select(&mut app, &wanted[0]);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("whole: ") && text.contains("picture of 48 x 32") && text.contains('▄'), "{text}");
    // Its place is that of the drive.
    let drive = app.drive.as_ref().unwrap();
    assert_eq!(app.stage.stage().selection(drive).unwrap().start.0, places[0]);
    // What only the content tells narrows the list.
    sign(&mut app, '/');
    line(&mut app, &format!("state:whole from:{}", places[1]));
    wait(&mut app);
    assert_eq!(names(&app), wanted[1..]);
    key(&mut app, KeyCode::Left);
    wait(&mut app);
    sign(&mut app, '*');
    line(&mut app, "pixels:49x1");
    wait(&mut app);
    assert!(names(&app).is_empty());
    key(&mut app, KeyCode::Left);
    wait(&mut app);
    // The pieces of what is cut are looked for, and the list is there again.
    sign(&mut app, '&');
    wait(&mut app);
    assert!(drawn(&app, 160, 45).contains("joined where the whole"), "{}", drawn(&app, 160, 45));
    // Marks and the taking out.
    while app.drive.as_ref().unwrap().files.trail.len() > 1 {
        key(&mut app, KeyCode::Left);
        wait(&mut app);
    }
    select(&mut app, "pictures");
    sign(&mut app, ' ');
    wait(&mut app);
    let to = bench.folder.path().join("adrift");
    sign(&mut app, 'e');
    (0..80).for_each(|_| key(&mut app, KeyCode::Backspace));
    line(&mut app, to.to_str().unwrap());
    wait(&mut app);
    let text = drawn(&app, 160, 45);
    assert!(text.contains("Taken out") && text.contains("manifest"), "{text}");
    assert!(fs::read(to.join("pictures/png").join(&wanted[0])).unwrap() == one);
    assert!(fs::read(to.join("pictures/png").join(&wanted[1])).unwrap() == two);
    key(&mut app, KeyCode::Esc);
    // And the volume again.
    sign(&mut app, '~');
    wait(&mut app);
    assert_eq!(names(&app), ["ROUTES", "boat.png", "engine.bin"]);
}
