//! What the tests of the screens share: drives, a bench, keys and what is drawn.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::thread;
use std::time::Duration;

use crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use keel_core::sweep::Reach;
use keel_core::yard::{self, Berth};
use keel_format::table::mbr::make::{NewEntry, mbr_sector};
use keel_source::{ByteOffset, MemorySource, Overlay, SharedSource};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::app::{App, draw};
use crate::stage::{Drive, StageId, plan, sweep};
use crate::theme::Theme;

/// A small FAT16 and an NTFS-typed entry without a volume, on an MBR.
pub(crate) fn quay() -> SharedSource {
    let mut bytes = vec![0u8; 24 << 20];
    let entry = |os_type, starting_lba, size_in_lba| NewEntry { os_type, boot_indicator: 0, starting_lba, size_in_lba };
    bytes[..512].copy_from_slice(&mbr_sector(&[], 7, &[entry(0x06, 2048, 16_384), entry(0x07, 20_480, 8192)]));
    let geometry = keel_format::fat::FatGeometry {
        kind: keel_format::VolumeKind::Fat16,
        bytes_per_sector: 512,
        sectors_per_cluster: 1,
        reserved_sectors: 1,
        fats: 2,
        fat_sectors: 64,
        root_entries: 512,
        root_cluster: 0,
        total_sectors: 16_384,
        media: 0xF8,
        serial: 7,
        fs_info: 0,
        backup: 0,
    };
    let start = 1 << 20;
    bytes[start..start + 512].copy_from_slice(&keel_format::fat::make::boot_sector(&geometry, 2048, b"QUAY       "));
    for copy in 0..2 {
        let at = start + geometry.fat_at(copy).0 as usize;
        bytes[at..at + 4].copy_from_slice(&[0xF8, 0xFF, 0xFF, 0xFF]);
    }
    let root = start + geometry.root_at().0 as usize;
    bytes[root..root + 11].copy_from_slice(b"QUAY       ");
    bytes[root + 11] = 0x08;
    bytes[root + 32..root + 43].copy_from_slice(b"NOTES   TXT");
    bytes[root + 43] = 0x20;
    Arc::new(MemorySource::new("quay \u{1b}[31mred", bytes, 512))
}

/// The bench with that drive, opened or not, and one that does not open.
pub(crate) fn app(open: bool) -> App {
    let berth = Berth {
        identity: Some(quay().identity().clone()),
        symptom: Some("told \u{7}".into()),
        ..Berth::bare(PathBuf::from("/bench/quay.img"))
    };
    let broken = Berth { problem: Some("cannot open".into()), ..Berth::bare(PathBuf::from("/bench/none.img")) };
    let mut app = App::new(vec![berth, broken], None);
    app.theme = Theme::plain();
    if open {
        app.drive = Some(Drive::new(quay()));
        app.stage = StageId::Ladder;
        app.run(sweep::begin(Reach::Landmarks));
        wait(&mut app);
    }
    app
}

/// Damages a byte of the boot sector of that drive's volume; what was found before stays found.
pub(crate) fn damage(app: &mut App, offset: u64, byte: u8) {
    let drive = app.drive.as_ref().unwrap();
    let mut overlay = Overlay::new(Arc::clone(&drive.source));
    overlay.lay(ByteOffset((1 << 20) + offset), &[byte]);
    let mut damaged = Drive::new(Arc::new(overlay));
    damaged.sweep.finds.clone_from(&drive.sweep.finds);
    app.drive = Some(damaged);
    app.run(plan::stage_anew());
    wait(app);
}

/// Lets the jobs end and their reports in.
pub(crate) fn wait(app: &mut App) {
    for _ in 0..20_000 {
        app.take_reports();
        if !app.is_busy() {
            return;
        }
        thread::sleep(Duration::from_millis(1));
    }
    panic!("a job did not end");
}

pub(crate) fn drawn(app: &App, width: u16, height: u16) -> String {
    let area = Rect::new(0, 0, width, height);
    let mut buf = Buffer::empty(area);
    draw(app, area, &mut buf);
    let lines: Vec<String> =
        (0..height).map(|y| (0..width).map(|x| buf[(x, y)].symbol()).collect::<String>().trim_end().to_string()).collect();
    lines.join("\n")
}

pub(crate) fn key(app: &mut App, code: KeyCode) {
    app.take_event(&Event::Key(KeyEvent::new(code, KeyModifiers::NONE)));
}

pub(crate) fn sign(app: &mut App, sign: char) {
    key(app, KeyCode::Char(sign));
}

pub(crate) fn line(app: &mut App, text: &str) {
    text.chars().for_each(|own| sign(app, own));
    key(app, KeyCode::Enter);
}

/// A click at a cell of the terminal.
pub(crate) fn click_at(app: &mut App, column: u16, row: u16) {
    let kind = MouseEventKind::Down(MouseButton::Left);
    app.take_event(&Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE }));
}

/// The button pressed at a row of the terminal, the mouse moved to another one, and let go there.
pub(crate) fn drag(app: &mut App, column: u16, from: u16, to: u16) {
    click_at(app, column, from);
    for (kind, row) in [(MouseEventKind::Drag(MouseButton::Left), to), (MouseEventKind::Up(MouseButton::Left), to)] {
        app.take_event(&Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE }));
    }
}

/// A click into a column of the first line that holds `needle`.
pub(crate) fn click(app: &mut App, needle: &str, column: u16) {
    let text = drawn(app, 160, 45);
    let row = text.lines().position(|line| line.contains(needle)).unwrap_or_else(|| panic!("no {needle}: {text}"));
    click_at(app, column, u16::try_from(row).unwrap());
}

pub(crate) const MIB: u64 = 1 << 20;

/// A bench with a folder of its own.
pub(crate) struct Bench {
    pub(crate) folder: tempfile::TempDir,
}

impl Bench {
    pub(crate) fn new() -> Self {
        static STATE: OnceLock<tempfile::TempDir> = OnceLock::new();
        keel_core::case::keep_state_in(STATE.get_or_init(|| tempfile::tempdir().unwrap()).path());
        Self { folder: tempfile::tempdir().unwrap() }
    }

    /// A simulated drive of 24 MiB that never repeats.
    pub(crate) fn drive(&self, more: &str) -> PathBuf {
        let bytes: Vec<u8> = (0..24 * MIB / 8).flat_map(|at| (at * 0x9E37_79B9 + 1).to_le_bytes()).collect();
        fs::write(self.folder.path().join("surface.img"), bytes).unwrap();
        let serial = self.folder.path().file_name().unwrap().to_string_lossy().into_owned();
        let path = self.folder.path().join("quay.drive.toml");
        let text = format!(
            "version = 1\nclaimed_bytes = {}\nidentity = {{ model = \"Mudlark\", serial = \"{serial}\" }}\n\
             backing = [{{ file = \"surface.img\" }}]\nclock = {{ read_us = 100, bytes_per_second = 50000000 }}\n{more}\n",
            24 * MIB
        );
        fs::write(&path, text).unwrap();
        path
    }

    pub(crate) fn app(&self, drive: &Path) -> App {
        let mut app = App::new(yard::berths(vec![drive.to_path_buf()]), None);
        app.theme = Theme::plain();
        app.area = Rect::new(0, 0, 160, 45);
        app.look_up_case();
        app
    }
}

/// Runs a program of the system.
fn system(program: &str, arguments: &[&str]) {
    let output =
        std::process::Command::new(program).args(arguments).output().unwrap_or_else(|error| panic!("{program}: {error}"));
    assert!(output.status.success(), "{program} {arguments:?}: {}", String::from_utf8_lossy(&output.stderr));
}

impl Bench {
    /// An image that the system's formatter made, without a table, with folders, texts, a picture and bytes, one of them deleted.
    pub(crate) fn filled(&self) -> PathBuf {
        let image = self.folder.path().join("locker.img");
        fs::File::create(&image).unwrap().set_len(16 << 20).unwrap();
        let path = image.to_str().unwrap().to_string();
        system("mkfs.vfat", &["-F", "16", "-n", "LOCKER", &path]);
        system("mmd", &["-i", &path, "::ROUTES", "::ROUTES/OLD"]);
        let mut picture = std::io::Cursor::new(Vec::new());
        image::DynamicImage::ImageRgb8(image::RgbImage::from_fn(48, 32, |x, y| image::Rgb([x as u8 * 5, y as u8 * 8, 90])))
            .write_to(&mut picture, image::ImageFormat::Png)
            .unwrap();
        let text: String = (0..400).map(|number| format!("crossing {number} of the Brackwater Line\n")).collect();
        let files = [
            ("ROUTES/first.txt", text.clone().into_bytes()),
            ("ROUTES/OLD/tide.txt", b"high water at noon\n".to_vec()),
            ("boat.png", picture.into_inner()),
            ("engine.bin", (0..5000u32).flat_map(|number| number.wrapping_mul(2_654_435_761).to_le_bytes()).collect()),
            ("gone.txt", b"was deleted\n".repeat(300)),
        ];
        for (name, bytes) in files {
            let file = self.folder.path().join("file");
            fs::write(&file, bytes).unwrap();
            system("mcopy", &["-i", &path, file.to_str().unwrap(), &format!("::{name}")]);
        }
        system("mdel", &["-i", &path, "::gone.txt"]);
        image
    }
}
