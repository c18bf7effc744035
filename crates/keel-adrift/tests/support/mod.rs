//! Files made by the encoders of the system, of every kind that it has one for.
#![allow(dead_code, unreachable_pub)]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// A made file: the kind's word, its suffix by its content, whether it proves itself, and its bytes.
pub struct Made {
    pub kind: &'static str,
    pub suffix: &'static str,
    pub whole: bool,
    pub name: String,
    pub bytes: Vec<u8>,
}

/// Runs a command in `folder`, in silence.
pub fn run(folder: &Path, command: &str) {
    let status = Command::new("sh")
        .args(["-c", command])
        .current_dir(folder)
        .stdout(Stdio::null())
        .stderr(Stdio::piped())
        .output()
        .unwrap();
    assert!(status.status.success(), "{command}: {}", String::from_utf8_lossy(&status.stderr));
}

/// Bytes that look like nothing.
pub fn noise(len: usize, seed: u64) -> Vec<u8> {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 32) as u8
    };
    (0..len).map(|_| next()).collect()
}

/// A text of the ferry company, of about `len` bytes.
pub fn prose(len: usize, seed: u64) -> String {
    const WORDS: [&str; 24] = [
        "ferry",
        "crossing",
        "Brackwater",
        "harbour",
        "tide",
        "fog",
        "passengers",
        "lorry",
        "ramp",
        "engine",
        "oil",
        "watch",
        "north",
        "pier",
        "delayed",
        "on time",
        "bridge",
        "rope",
        "café",
        "für",
        "déjà",
        "crew",
        "log",
        "weather",
    ];
    let mut text = String::new();
    for pick in noise(len, seed).chunks(2) {
        text.push_str(WORDS[usize::from(pick[0]) % WORDS.len()]);
        text.push_str(if pick.get(1).is_some_and(|byte| *byte % 11 == 0) { ".\n" } else { " " });
        if text.len() >= len {
            break;
        }
    }
    text
}

/// What makes a file of a kind: kind, suffix, whether it proves itself, and the command that writes `out`.
const MAKERS: &[(&str, &str, bool, &str)] = &[
    ("jpeg", "jpg", true, "convert in.ppm -quality 88 jpg:out"),
    ("jpeg", "jpg", true, "convert in.ppm -quality 91 -interlace JPEG -sampling-factor 2x2 jpg:out"),
    ("jpeg", "jpg", true, "convert in.ppm -colorspace Gray -quality 70 jpg:out"),
    ("jpeg", "jpg", true, "ffmpeg -v error -i in.ppm -q:v 3 -f mjpeg out"),
    ("png", "png", true, "convert in.ppm png:out"),
    ("png", "png", true, "convert in.ppm -interlace PNG -colors 200 png:out"),
    ("gif", "gif", true, "convert in.ppm gif:out"),
    ("gif", "gif", true, "ffmpeg -v error -f lavfi -i testsrc=s=96x64:d=1:r=8 -f gif out"),
    ("bmp", "bmp", false, "convert in.ppm bmp:out"),
    ("bmp", "bmp", false, "convert in.ppm -colors 16 bmp3:out"),
    ("tiff", "tif", false, "convert in.ppm -compress none tiff:out"),
    ("tiff", "tif", false, "convert in.ppm -compress zip -endian MSB tiff:out"),
    ("psd", "psd", false, "convert in.ppm psd:out"),
    ("riff", "webp", false, "ffmpeg -v error -i in.ppm -f webp out"),
    ("movie", "mp4", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v libx264 -f mp4 out"),
    ("movie", "mp4", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v mpeg4 -movflags faststart -f mp4 out"),
    (
        "movie",
        "mp4",
        false,
        "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v libx264 -movflags frag_keyframe+empty_moov -f mp4 out",
    ),
    ("movie", "mov", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v mpeg4 -f mov out"),
    ("movie", "3gp", false, "ffmpeg -v error -f lavfi -i testsrc=s=176x144:d=2 -c:v mpeg4 -f 3gp out"),
    ("movie", "m4a", false, "ffmpeg -v error -f lavfi -i sine=d=2 -c:a aac -f ipod out"),
    ("riff", "avi", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v mpeg4 -f avi out"),
    ("riff", "wav", false, "ffmpeg -v error -f lavfi -i sine=d=1 -f wav out"),
    ("matroska", "mkv", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v mpeg4 -f matroska out"),
    ("matroska", "webm", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=1 -c:v libvpx -b:v 200k -f webm out"),
    ("mpeg-ps", "mpg", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v mpeg2video -f vob out"),
    ("mpeg-ts", "ts", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v mpeg2video -f mpegts out"),
    (
        "mpeg-ts",
        "m2ts",
        false,
        "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v libx264 -mpegts_m2ts_mode 1 -f mpegts out",
    ),
    ("flv", "flv", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v flv -f flv out"),
    ("asf", "wmv", false, "ffmpeg -v error -f lavfi -i testsrc=s=160x120:d=2 -c:v wmv2 -f asf out"),
    ("asf", "wma", false, "ffmpeg -v error -f lavfi -i sine=d=2 -c:a wmav2 -f asf out"),
    ("flac", "flac", true, "ffmpeg -v error -f lavfi -i sine=d=2 -c:a flac -f flac out"),
    ("ogg", "ogg", true, "ffmpeg -v error -f lavfi -i sine=d=2 -c:a libvorbis -f ogg out"),
    ("ogg", "opus", true, "ffmpeg -v error -f lavfi -i sine=d=2 -c:a libopus -f opus out"),
    ("mp3", "mp3", false, "ffmpeg -v error -f lavfi -i sine=d=2 -c:a libmp3lame -metadata title='Fog horn' -f mp3 out"),
    (
        "mp3",
        "mp3",
        false,
        "ffmpeg -v error -f lavfi -i sine=d=2:r=22050 -c:a libmp3lame -id3v2_version 0 -write_id3v1 1 -f mp3 out",
    ),
    ("aac", "aac", false, "ffmpeg -v error -f lavfi -i sine=d=2 -c:a aac -f adts out"),
    ("aiff", "aiff", false, "ffmpeg -v error -f lavfi -i sine=d=1 -f aiff out"),
    ("pdf", "pdf", true, "rsvg-convert -f pdf drawing.svg -o out"),
    ("pdf", "pdf", true, "rsvg-convert -f pdf drawing.svg drawing.svg -o out"),
    ("zip", "zip", true, "zip -q -r out.zip tree && mv out.zip out"),
    ("zip", "zip", true, "zip -q -0 -r out.zip tree && mv out.zip out"),
    ("zip", "zip", true, "cat log.txt | zip -q - - > out"),
    ("gzip", "gz", true, "gzip -c log.txt > out"),
    ("xz", "xz", false, "xz -c log.txt > out"),
    ("xz", "xz", false, "xz -c -T2 --block-size=20000 log.txt > out"),
    ("bzip2", "bz2", false, "bzip2 -c log.txt > out"),
    ("bzip2", "bz2", false, "bzip2 -1 -c big.txt > out"),
    ("zstd", "zst", false, "zstd -q -c log.txt > out"),
    ("7z", "7z", false, "7z a -bd out.7z tree && mv out.7z out"),
    ("cab", "cab", true, "gcab -c -z out.cab log.txt in.ppm && mv out.cab out"),
    ("tar", "tar", false, "tar -cf out tree"),
    ("tar", "tar", false, "tar --format=posix -cf out tree"),
    (
        "sqlite",
        "sqlite",
        false,
        "sqlite3 out 'create table log(id integer primary key, what text); with recursive n(i) as (select 1 union all select i+1 from n where i<4000) insert into log select i, hex(randomblob(40)) from n; create index w on log(what);'",
    ),
    ("elf", "elf", false, "cp /bin/ls out"),
    ("font", "ttf", true, "cp /usr/share/fonts/truetype/dejavu/DejaVuSans.ttf out"),
    ("iso9660", "iso", false, "genisoimage -quiet -V BERTH -o out tree"),
    ("text", "txt", false, "cp log.txt out"),
    ("text", "csv", false, "for i in 1 2 3 4 5 6 7 8 9; do echo \"$i,ferry $i,08:$i\"; done > out"),
    (
        "text",
        "svg",
        false,
        "printf '<?xml version=\"1.0\"?>\\n<svg xmlns=\"http://www.w3.org/2000/svg\"><title>Pier</title><rect width=\"5\" height=\"5\"/></svg>\\n' > out",
    ),
    (
        "text",
        "html",
        false,
        "(echo '<!DOCTYPE html><html><head><title>Berths</title></head><body>'; cat log.txt; echo '</body></html>') > out",
    ),
    (
        "text",
        "ics",
        false,
        "printf 'BEGIN:VCALENDAR\\r\\nVERSION:2.0\\r\\nBEGIN:VEVENT\\r\\nSUMMARY:Dry dock\\r\\nEND:VEVENT\\r\\nEND:VCALENDAR\\r\\n' > out",
    ),
    (
        "text",
        "vcf",
        false,
        "printf 'BEGIN:VCARD\\r\\nVERSION:3.0\\r\\nFN:Pier Master\\r\\nTEL:555-0101\\r\\nNOTE:keeps the keys\\r\\nEND:VCARD\\r\\n' > out",
    ),
    (
        "text",
        "eml",
        false,
        "(printf 'From: purser@example.org\\r\\nTo: crew@example.org\\r\\nSubject: Rota\\r\\n\\r\\n'; cat log.txt) > out",
    ),
    (
        "rtf",
        "rtf",
        false,
        "(printf '{\\\\rtf1\\\\ansi{\\\\fonttbl{\\\\f0 Serif;}}\\\\f0 Berth \\\\{12\\\\} is free.\\\\par}') > out",
    ),
];

/// Makes a file of every kind in `folder`; `seed` varies what they hold.
pub fn make(folder: &Path, seed: u64) -> Vec<Made> {
    fs::create_dir_all(folder.join("tree/letters")).unwrap();
    let (wide, high) = (200 + seed as usize % 90, 150 + seed as usize % 70);
    let mut picture = format!("P6 {wide} {high} 255\n").into_bytes();
    for (index, dot) in noise(wide * high, seed).iter().enumerate() {
        let (x, y) = (index % wide, index / wide);
        picture.extend([(x ^ y) as u8, (x * 2) as u8, (y as u8).wrapping_add(dot % 24)]);
    }
    fs::write(folder.join("in.ppm"), &picture).unwrap();
    let lines =
        (0..400).map(|line| format!("<text x='9' y='{}'>{}</text>", 12 * line, prose(60, seed + line))).collect::<String>();
    let drawing = format!("<svg xmlns='http://www.w3.org/2000/svg' width='600' height='5000'><title>Plan</title>{lines}</svg>");
    fs::write(folder.join("drawing.svg"), drawing).unwrap();
    fs::write(folder.join("log.txt"), prose(30_000, seed)).unwrap();
    fs::write(folder.join("big.txt"), prose(900_000, seed)).unwrap();
    fs::write(folder.join("tree/picture.ppm"), &picture[..20_000]).unwrap();
    fs::write(folder.join("tree/letters/one.txt"), prose(5000, seed + 1)).unwrap();
    fs::write(folder.join("tree/letters/noise"), noise(9000, seed)).unwrap();
    let make = |(kind, suffix, whole, command): &(&'static str, &'static str, bool, &str)| {
        let out = folder.join("out");
        let _ = fs::remove_file(&out);
        run(folder, command);
        Made { kind, suffix, whole: *whole, name: (*command).to_string(), bytes: fs::read(&out).unwrap() }
    };
    MAKERS.iter().map(make).collect()
}

/// A folder that goes when it is dropped.
pub struct Folder(pub PathBuf);

impl Folder {
    pub fn new(name: &str) -> Self {
        let path = std::env::temp_dir().join(format!("keel-adrift-{name}-{}", std::process::id()));
        let _ = fs::remove_dir_all(&path);
        fs::create_dir_all(&path).unwrap();
        Self(path)
    }
}

impl Drop for Folder {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.0);
    }
}
