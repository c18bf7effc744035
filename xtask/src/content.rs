//! Made-up files of the Brackwater Line. The same seed gives the same bytes.

use std::io::Cursor;
use std::path::Path;

use anyhow::Context;
use image::{ImageFormat, Rgb, RgbImage};

/// A small pseudo-random generator (xorshift64*).
pub(crate) struct Dice(u64);

impl Dice {
    pub(crate) fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1)
    }

    pub(crate) fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_F491_4F6C_DD1D)
    }

    pub(crate) fn below(&mut self, limit: u64) -> u64 {
        (self.next() >> 11) % limit.max(1)
    }

    fn pick<'a>(&mut self, from: &[&'a str]) -> &'a str {
        from[usize::try_from(self.below(from.len() as u64)).unwrap_or(0)]
    }
}

const BOATS: [&str; 5] = ["Heron of Brackwater", "Tern", "Old Curlew", "Sandpiper", "Marsh Wren"];
const QUAYS: [&str; 6] = ["Brackwater", "Eel Point", "Saltholm", "North Weir", "Gull Stairs", "Tollbridge"];
const HANDS: [&str; 6] = ["M. Odd", "J. Fenwright", "P. Sluys", "A. Rushmere", "K. Barrow", "T. Lock"];
const WEATHER: [&str; 6] = ["calm", "light fog", "rain", "fresh breeze from the west", "drizzle", "clear"];

/// A file to be put into a volume.
pub(crate) struct Item {
    pub(crate) path: String,
    pub(crate) bytes: Vec<u8>,
}

/// The files of one volume: 70-odd with folders, Unicode names, pictures, and one that is long enough to be written in
/// pieces.
pub(crate) fn volume(seed: u64) -> anyhow::Result<Vec<Item>> {
    let mut dice = Dice::new(seed);
    let mut items = Vec::new();
    let mut add = |path: String, bytes: Vec<u8>| items.push(Item { path, bytes });
    for week in 1..=20 {
        add(format!("Crossings/2025/Week {week:02}.csv"), crossings(&mut dice, 40).into_bytes());
    }
    for day in 1..=14 {
        add(format!("Engine room/log-{day:02}.txt"), engine_log(&mut dice, day).into_bytes());
    }
    for number in 1..=12 {
        add(format!("Purser/Receipts/R-{:04}.txt", number * 7 + seed), receipt(&mut dice, number).into_bytes());
    }
    for number in 1..=5 {
        add(format!("Pictures/harbour-{number:02}.png"), picture(&mut dice, ImageFormat::Png)?);
        add(format!("Pictures/boat-{number:02}.jpg"), picture(&mut dice, ImageFormat::Jpeg)?);
    }
    for name in ["Bilge pump", "Ramp winch", "Ticket printer"] {
        add(format!("Manuals/{name}.pdf"), pdf(name, &mut dice));
    }
    for (name, text) in [
        ("Fahrpläne/Überfahrt Winter.txt", "Saltholm ab 6.40, an Brackwater 7.25\n"),
        ("Fahrpläne/Été – horaires.txt", "Départ de Gull Stairs à 9 h 05\n"),
        ("Letters/港務局への手紙.txt", "渡し船の時刻表について\n"),
        ("Letters/Письмо в порт.txt", "Расписание переправы на лето\n"),
        ("Letters/To the harbour board.txt", "The ramp at Eel Point wants new planks before the spring tides.\n"),
        (
            "Letters/A very long name that only a long directory entry can hold, kept to see that it comes back whole.txt",
            "It did.\n",
        ),
    ] {
        let line = format!("{text}{}\n", dice.pick(&HANDS));
        add(name.into(), line.into_bytes());
    }
    add("Roster ⛴ spring.txt".into(), roster(&mut dice).into_bytes());
    add("Notes/empty.txt".into(), Vec::new());
    for number in 1..=3 {
        add(
            format!("Notes/scratch-{number}.txt"),
            format!("scratch {number}, to be deleted\n{}", crossings(&mut dice, 20)).into_bytes(),
        );
    }
    add("Voyage register.csv".into(), crossings(&mut dice, 9000).into_bytes());
    Ok(items)
}

/// The file that is written in pieces, interleaved with another one, so that it lies scattered.
const SCATTERED: &str = "Voyage register.csv";

/// Writes a tar of `items` for the guest: the scattered file is put together there from pieces, and the scratch files
/// are deleted.
pub(crate) fn write_tar(items: &[Item], tar: &Path, year: u32) -> anyhow::Result<()> {
    let folder = tar.with_extension("tree");
    let _ = std::fs::remove_dir_all(&folder);
    let mut names = Vec::new();
    for item in items {
        let name = if item.path == SCATTERED { ".pieces" } else { &item.path };
        let path = folder.join(name);
        std::fs::create_dir_all(path.parent().context("a path has a folder")?)?;
        std::fs::write(&path, &item.bytes)?;
        names.push(name.to_string());
    }
    let script = format!(
        "i=0; while [ $i -lt 24 ]; do dd if=.pieces bs=32k skip=$i count=1 2>/dev/null >> '{SCATTERED}'; \
         dd if=.pieces bs=32k skip=$i count=1 2>/dev/null >> .filler; sync; i=$((i+1)); done\n\
         dd if=.pieces bs=32k skip=24 2>/dev/null >> '{SCATTERED}'\nrm -f .pieces .filler Notes/scratch-*.txt\n\
         find . ! -name .after.sh -exec busybox touch -d '{year}-03-14 09:26:53' {{}} +\n"
    );
    std::fs::write(folder.join(".after.sh"), script)?;
    let status = std::process::Command::new("tar")
        .arg(format!("--mtime={year}-03-14 09:26:53Z"))
        .args(["--format=pax", "--owner=0", "--group=0", "--sort=name", "-C"])
        .arg(&folder)
        .arg("-cf")
        .arg(tar)
        .arg(".")
        .status()?;
    anyhow::ensure!(status.success(), "tar failed");
    // The guest's drive wants whole sectors of 4096 bytes.
    let len = std::fs::metadata(tar)?.len();
    std::fs::File::options().write(true).open(tar)?.set_len(len.div_ceil(4096) * 4096)?;
    std::fs::remove_dir_all(&folder)?;
    Ok(())
}

/// True for the few files of a small volume.
pub(crate) fn is_brief(path: &str) -> bool {
    path.starts_with("Letters/To")
        || path.starts_with("Engine room/log-0")
        || path.ends_with("boat-01.jpg")
        || path.starts_with("Roster")
}

/// True for the files that the guest deletes again.
pub(crate) fn is_deleted(path: &str) -> bool {
    path.starts_with("Notes/scratch-")
}

fn crossings(dice: &mut Dice, lines: u64) -> String {
    let mut text = String::from("number,boat,from,to,passengers,cars,weather\n");
    for number in 1..=lines {
        let (boat, from, to, weather) = (dice.pick(&BOATS), dice.pick(&QUAYS), dice.pick(&QUAYS), dice.pick(&WEATHER));
        text.push_str(&format!("{number},{boat},{from},{to},{},{},{weather}\n", dice.below(120), dice.below(18)));
    }
    text
}

fn engine_log(dice: &mut Dice, day: u64) -> String {
    let mut text = format!("Engine log, {}, day {day}\n", dice.pick(&BOATS));
    for hour in 5..=22 {
        text.push_str(&format!(
            "{hour:02}:00  oil {} kPa  water {} C  {} rev/min\n",
            280 + dice.below(90),
            71 + dice.below(14),
            900 + dice.below(700)
        ));
    }
    text.push_str(dice.pick(&HANDS));
    text.push('\n');
    text
}

fn receipt(dice: &mut Dice, number: u64) -> String {
    format!(
        "Brackwater Line\nReceipt {number}\n{} to {}\n{} passengers, {} marks\nThank you for crossing with us.\n",
        dice.pick(&QUAYS),
        dice.pick(&QUAYS),
        1 + dice.below(6),
        3 + dice.below(60)
    )
}

fn roster(dice: &mut Dice) -> String {
    (1..=30).map(|day| format!("{day:02} May  {}  {}\n", dice.pick(&BOATS), dice.pick(&HANDS))).collect()
}

fn pdf(title: &str, dice: &mut Dice) -> Vec<u8> {
    let text = format!("BT /F1 18 Tf 60 760 Td ({title}, sheet {}) Tj ET", 1 + dice.below(9));
    format!(
        "%PDF-1.4\n1 0 obj <</Type /Catalog /Pages 2 0 R>> endobj\n2 0 obj <</Type /Pages /Kids [3 0 R] /Count 1>> endobj\n\
         3 0 obj <</Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources <</Font <</F1 5 0 R>>>>>> endobj\n\
         4 0 obj <</Length {}>> stream\n{text}\nendstream endobj\n5 0 obj <</Type /Font /Subtype /Type1 /BaseFont /Helvetica>> endobj\n\
         trailer <</Root 1 0 R>>\n%%EOF\n",
        text.len()
    )
    .into_bytes()
}

/// A ferry on the water, different each time.
fn picture(dice: &mut Dice, format: ImageFormat) -> anyhow::Result<Vec<u8>> {
    let (width, height) = (240u32, 150u32);
    let (sky, boat_x, boat_y, hull) = (dice.below(60), 30 + dice.below(110), 78 + dice.below(16), dice.below(3));
    let byte = |value: u64| u8::try_from(value.min(255)).unwrap_or(255);
    let picture = RgbImage::from_fn(width, height, |x, y| {
        let (x, y) = (u64::from(x), u64::from(y));
        let in_hull = (boat_y..boat_y + 18).contains(&y) && x > boat_x + (y - boat_y) / 2 && x < boat_x + 90 - (y - boat_y);
        let in_house = (boat_y.saturating_sub(16)..boat_y).contains(&y) && (boat_x + 20..boat_x + 66).contains(&x);
        let in_funnel =
            (boat_y.saturating_sub(28)..boat_y.saturating_sub(16)).contains(&y) && (boat_x + 44..boat_x + 54).contains(&x);
        match () {
            () if in_hull => [Rgb([150, 40, 36]), Rgb([32, 60, 90]), Rgb([30, 90, 70])][usize::try_from(hull).unwrap_or(0)],
            () if in_house && y % 8 < 4 && x % 9 < 5 => Rgb([70, 90, 110]),
            () if in_house => Rgb([236, 232, 220]),
            () if in_funnel => Rgb([238, 190, 40]),
            () if y > 92 => Rgb([20, byte(70 + (y - 92) / 2 + (x / 6 + y) % 5 * 4), byte(110 + (y - 92) / 2)]),
            () => Rgb([byte(150 + sky + y / 2), byte(180 + sky / 2 + y / 3), byte(215 + y / 5)]),
        }
    });
    let mut bytes = Cursor::new(Vec::new());
    picture.write_to(&mut bytes, format)?;
    Ok(bytes.into_inner())
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use super::*;

    #[test]
    fn the_same_seed_gives_the_same_files_and_another_one_others() {
        let (one, again, other) = (volume(7).unwrap(), volume(7).unwrap(), volume(8).unwrap());
        let paths = |items: &[Item]| -> Vec<String> { items.iter().map(|item| item.path.clone()).collect() };
        assert_eq!(paths(&one), paths(&again));
        assert!(one.iter().zip(&again).all(|(one, again)| one.bytes == again.bytes));
        let same = one.iter().zip(&other).filter(|(one, other)| one.bytes == other.bytes).count();
        // Only what is empty is the same whatever the seed.
        assert!(same <= 4 && one.len() == other.len(), "{same}");
    }

    #[test]
    fn every_file_has_a_path_of_its_own_and_nothing_of_a_real_product() {
        let items = volume(3).unwrap();
        let paths: BTreeSet<&str> = items.iter().map(|item| item.path.as_str()).collect();
        assert_eq!(paths.len(), items.len());
        assert!(paths.iter().all(|path| !path.starts_with('/') && !path.contains("..") && path.len() < 200));
        assert!(paths.iter().any(|path| !path.is_ascii()) && paths.iter().any(|path| path.contains('/')));
        assert_eq!(paths.iter().filter(|path| is_deleted(path)).count(), 3);
        assert!(paths.iter().filter(|path| is_brief(path)).count() >= 10);
        let scattered = items.iter().find(|item| item.path == SCATTERED).unwrap();
        assert!(scattered.bytes.len() > 8 * 32 * 1024, "it is written in many pieces of 32 KiB");
    }

    #[test]
    fn documents_and_pictures_begin_and_end_as_their_kinds_do() {
        for item in volume(5).unwrap() {
            let ending = item.path.rsplit('.').next().unwrap_or_default();
            let (begins, ends): (&[u8], &[u8]) = match ending {
                "png" => (b"\x89PNG\r\n\x1a\n", b"IEND\xaeB`\x82"),
                "jpg" => (&[0xFF, 0xD8, 0xFF], &[0xFF, 0xD9]),
                "pdf" => (b"%PDF-1.4\n", b"%%EOF\n"),
                _ => continue,
            };
            assert!(item.bytes.starts_with(begins) && item.bytes.ends_with(ends), "{}", item.path);
        }
    }

    #[test]
    fn dice_fall_within_their_limit_and_on_every_side() {
        let mut dice = Dice::new(11);
        for limit in [1u64, 2, 6, 41] {
            let fallen: BTreeSet<u64> = (0..4000).map(|_| dice.below(limit)).collect();
            assert_eq!(fallen, (0..limit).collect::<BTreeSet<u64>>());
        }
        assert_eq!(dice.below(0), 0);
    }

    #[test]
    fn a_tar_has_whole_sectors_and_every_file() {
        let folder = tempfile::tempdir().unwrap();
        let tar = folder.path().join("fill.tar");
        let items = volume(2).unwrap();
        write_tar(&items, &tar, 2026).unwrap();
        assert_eq!(std::fs::metadata(&tar).unwrap().len() % 4096, 0);
        let listed = std::process::Command::new("tar").args(["--quoting-style=literal", "-tf"]).arg(&tar).output().unwrap();
        let listed = String::from_utf8_lossy(&listed.stdout).into_owned();
        let names: BTreeSet<&str> = listed.lines().map(|line| line.trim_start_matches("./")).collect();
        for item in items.iter().filter(|item| item.path != SCATTERED) {
            assert!(names.contains(item.path.as_str()), "{}", item.path);
        }
        assert!(names.contains(".after.sh") && names.contains(".pieces") && !tar.with_extension("tree").exists());
    }
}
