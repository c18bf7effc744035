//! Files of the system's encoders, laid on ground in two pieces, with other files, noise or nothing between them.
#![allow(dead_code, missing_docs, unreachable_pub)]

use std::fs::{self, File};
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::process::Command;

/// Bytes of a cluster of the ground.
pub const CLUSTER: u64 = 4096;

/// What lies between two pieces.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Between {
    /// Whole files, one behind the other, and zeros where none fits any more.
    Files,
    /// Bytes that are nothing.
    Noise,
    /// Zeros.
    Blank,
}

/// A file in two pieces.
pub struct Split {
    pub kind: &'static str,
    pub hash: blake3::Hash,
    /// First byte and length of each piece.
    pub pieces: [(u64, u64); 2],
    pub between: Between,
}

/// What makes a larger file: its kind, and the command that writes `out`. `SEED` is another number each time.
pub const MAKERS: &[(&str, &str)] = &[
    ("jpg", "ffmpeg -v error -f lavfi -i testsrc2=s=1024x768,noise=alls=24:all_seed=SEED -frames:v 1 -q:v 3 -f mjpeg out"),
    ("jpg", "convert -size 900x700 -seed SEED plasma:fractal -quality 90 -interlace JPEG jpg:out"),
    ("png", "convert -size 500x400 -seed SEED plasma:fractal png:out"),
    ("zip", "zip -q -r out.zip tree && mv out.zip out"),
    ("zip", "zip -q -0 -r out.zip tree && mv out.zip out"),
    ("pdf", "rsvg-convert -f pdf drawing.svg drawing.svg -o out"),
    (
        "mp4",
        "ffmpeg -v error -f lavfi -i testsrc2=s=320x240:d=6,noise=alls=12:all_seed=SEED -f lavfi -i sine=d=6 -c:v libx264 -c:a aac -f mp4 out",
    ),
    (
        "mp4",
        "ffmpeg -v error -f lavfi -i testsrc2=s=320x240:d=6,noise=alls=12:all_seed=SEED -f lavfi -i sine=d=6 -c:v libx264 -c:a aac -movflags faststart -f mp4 out",
    ),
    ("mp4", "ffmpeg -v error -f lavfi -i testsrc2=s=320x240:d=6,noise=alls=9:all_seed=SEED -c:v mpeg4 -q:v 5 -f mp4 out"),
];

/// Numbers that look as if nobody had chosen them.
pub struct Numbers(u64);

impl Numbers {
    pub fn new(seed: u64) -> Self {
        Self(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1)
    }

    pub fn below(&mut self, limit: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0.wrapping_mul(0x2545_F491_4F6C_DD1D) >> 16) % limit.max(1)
    }

    pub fn bytes(&mut self, len: usize) -> Vec<u8> {
        let mut bytes: Vec<u8> = (0..len.div_ceil(4)).flat_map(|_| (self.below(1 << 32) as u32).to_le_bytes()).collect();
        bytes.truncate(len);
        bytes
    }

    fn words(&mut self, count: usize) -> String {
        const WORDS: [&str; 12] =
            ["ferry", "berth", "tide", "rope", "log", "crew", "harbour", "bridge", "winter", "pier", "signal", "anchor"];
        (0..count).map(|_| format!("{} {} ", WORDS[self.below(12) as usize], self.below(1000))).collect()
    }
}

fn run(folder: &Path, command: &str) {
    let output = Command::new("sh").arg("-c").arg(command).current_dir(folder).output().unwrap();
    assert!(output.status.success(), "{command}: {}", String::from_utf8_lossy(&output.stderr));
}

/// A file of each maker.
pub fn make(folder: &Path, seed: u64) -> Vec<(&'static str, Vec<u8>)> {
    let mut numbers = Numbers::new(seed + 1);
    fs::create_dir_all(folder.join("tree/letters")).unwrap();
    for number in 0..6 {
        let bytes = if number % 2 == 0 { numbers.words(9000).into_bytes() } else { numbers.bytes(40_000) };
        fs::write(folder.join(format!("tree/letters/{number}")), bytes).unwrap();
    }
    let lines: String = (0..700).map(|line| format!("<text x='9' y='{}'>{}</text>", 12 * line, numbers.words(8))).collect();
    let drawing = format!("<svg xmlns='http://www.w3.org/2000/svg' width='600' height='9000'>{lines}</svg>");
    fs::write(folder.join("drawing.svg"), drawing).unwrap();
    let made = MAKERS.iter().map(|(kind, command)| {
        let _ = fs::remove_file(folder.join("out"));
        run(folder, &command.replace("SEED", &(seed % 100_000).to_string()));
        (*kind, fs::read(folder.join("out")).unwrap())
    });
    made.collect()
}

/// Small files that lie between.
fn small(folder: &Path, seed: u64) -> Vec<Vec<u8>> {
    let commands = [
        "convert -size 60x50 -seed SEED plasma:fractal png:out",
        "convert -size 200x150 -seed SEED plasma:fractal -quality 80 jpg:out",
        "head -c 3000 drawing.svg | gzip -c > out",
    ];
    let made = commands.iter().map(|command| {
        let _ = fs::remove_file(folder.join("out"));
        run(folder, &command.replace("SEED", &(seed % 100_000).to_string()));
        fs::read(folder.join("out")).unwrap()
    });
    made.collect()
}

/// Lays files of `rounds` rounds in two pieces each on `image`: gaps of 1 to 2000 clusters, shorter ones more often.
pub fn lay(folder: &Path, image: &Path, rounds: u64, betweens: &[Between]) -> Vec<Split> {
    lay_of(folder, image, rounds, betweens, |_| true)
}

/// The same of some kinds only.
pub fn lay_of(folder: &Path, image: &Path, rounds: u64, betweens: &[Between], is_wanted: impl Fn(&str) -> bool) -> Vec<Split> {
    let (file, mut at, mut laid) = (File::create(image).unwrap(), CLUSTER, Vec::new());
    for round in 0..rounds {
        let work = folder.join("round");
        fs::create_dir_all(&work).unwrap();
        let mut numbers = Numbers::new(round + 77);
        let (made, small) = (make(&work, round * 31 + 5), small(&work, round + 900));
        fs::remove_dir_all(&work).unwrap();
        for (kind, bytes) in made.into_iter().filter(|(kind, _)| is_wanted(kind)) {
            let clusters = (bytes.len() as u64).div_ceil(CLUSTER);
            assert!(clusters >= 4, "{kind} of {} bytes", bytes.len());
            let first = (1 + numbers.below(clusters - 1)) * CLUSTER;
            let most = 1 << numbers.below(12);
            let gap = (1 + numbers.below(most)).min(2000) * CLUSTER;
            let between = betweens[numbers.below(betweens.len() as u64) as usize];
            let (head, tail) = bytes.split_at(first as usize);
            file.write_all_at(head, at).unwrap();
            fill(&file, at + first, gap, (between, &small), &mut numbers);
            let second = at + first + gap;
            file.write_all_at(tail, second).unwrap();
            let pieces = [(at, first), (second, tail.len() as u64)];
            laid.push(Split { kind, hash: blake3::hash(&bytes), pieces, between });
            at = (second + tail.len() as u64).next_multiple_of(CLUSTER) + numbers.below(3) * CLUSTER;
        }
    }
    file.set_len(at + 4 * CLUSTER).unwrap();
    laid
}

fn fill(file: &File, from: u64, bytes: u64, (between, small): (Between, &[Vec<u8>]), numbers: &mut Numbers) {
    match between {
        Between::Blank => {}
        Between::Noise => file.write_all_at(&numbers.bytes(bytes as usize), from).unwrap(),
        Between::Files => {
            let mut at = from;
            loop {
                let one = &small[numbers.below(small.len() as u64) as usize];
                let fits = |one: &&Vec<u8>| at + one.len() as u64 <= from + bytes;
                let Some(one) = Some(one).filter(fits).or_else(|| small.iter().find(fits)) else { break };
                file.write_all_at(one, at).unwrap();
                at = (at + one.len() as u64).next_multiple_of(CLUSTER);
            }
        }
    }
}
