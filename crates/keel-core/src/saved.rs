//! What a probe touched, kept before it was touched: the way back, also after an interruption. The format stands in
//! `docs/formats.md`.

use std::fs::{self, File};
use std::io::{BufReader, BufWriter, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use keel_source::{ByteOffset, ByteRange, Identity, RangeSet, SharedSource, SourceError, WriteTarget};
use serde::Serialize;

use crate::error::{CoreError, file_error};
use crate::whose::{Print, SAMPLE, Sample};
use crate::{case, tag};

/// First eight bytes of the file.
pub const SAVED_MAGIC: &[u8; 8] = b"YKSAVED\n";
/// Version of the format. Version 1 has no samples.
pub const SAVED_VERSION: u32 = 2;
/// Bytes of the fixed header.
pub const SAVED_HEADER_BYTES: usize = 56;
/// Bytes of the fixed part of a record.
pub const SAVED_RECORD_BYTES: usize = 20;
/// Sectors are not smaller, in bytes.
const SMALLEST: usize = 512;
/// The most samples of a head.
const MOST_SAMPLES: u64 = 1024;
/// The longest stretch in one record: a bound on memory.
const LONGEST: u64 = 1 << 20;

/// The file while a probe runs.
pub(crate) struct Saved {
    file: BufWriter<File>,
    path: PathBuf,
    kept: RangeSet,
}

/// One record: where it stood, and where its bytes lie in the file (none: zeros).
struct Record {
    range: ByteRange,
    at: Option<u64>,
}

/// What a restoration came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, serde::Deserialize)]
pub struct Restored {
    /// Bytes written back.
    pub bytes: u64,
    /// Bytes below the true end that read back as they were before.
    pub verified_bytes: u64,
    /// True when everything below the true end stands as it stood.
    pub whole: bool,
}

/// Where a probe keeps what it touches.
#[must_use]
pub fn saved_path(identity: &Identity) -> PathBuf {
    case::drive_folder(identity).join("probe.yksaved")
}

/// The file of an interrupted probe of a drive that calls itself so.
#[must_use]
pub fn interrupted(identity: &Identity) -> Option<PathBuf> {
    Some(saved_path(identity)).filter(|path| path.is_file() && touched_anything(path))
}

/// The file of an interrupted probe of this very drive: of another one that calls itself alike the content differs.
#[must_use]
pub fn interrupted_of(source: &SharedSource) -> Option<PathBuf> {
    interrupted(source.identity()).filter(|path| is_of(path, source))
}

impl Saved {
    /// Begins the file for a probe of `source`. One that was killed before it touched anything leaves a file that keeps nothing:
    /// it is begun anew.
    pub(crate) fn create(path: &Path, source: &SharedSource) -> Result<Self, CoreError> {
        let (identity, print) = (source.identity(), Print::of(source));
        if path.is_file() && !touched_anything(path) {
            fs::remove_file(path).map_err(file_error("remove", path))?;
        }
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).map_err(file_error("create", folder))?;
        }
        let file = File::create_new(path).map_err(file_error("create", path))?;
        let mut head = Vec::with_capacity(SAVED_HEADER_BYTES);
        head.extend_from_slice(SAVED_MAGIC);
        head.extend_from_slice(&SAVED_VERSION.to_le_bytes());
        head.extend_from_slice(&identity.logical_sector.0.to_le_bytes());
        head.extend_from_slice(&identity.bytes.to_le_bytes());
        head.extend_from_slice(identity.key().as_bytes());
        head.extend_from_slice(&u32::try_from(print.0.len()).unwrap_or(0).to_le_bytes());
        for sample in &print.0 {
            head.extend_from_slice(&sample.at.to_le_bytes());
            head.extend_from_slice(&sample.hash.to_le_bytes());
        }
        let mut saved = Self { file: BufWriter::new(file), path: path.into(), kept: RangeSet::default() };
        saved.file.write_all(&head).map_err(file_error("write", path))?;
        saved.flush()?;
        if let Some(folder) = path.parent() {
            File::open(folder).and_then(|folder| folder.sync_all()).map_err(file_error("flush", folder))?;
        }
        Ok(saved)
    }

    /// The parts of `range` that are not kept yet.
    pub(crate) fn lacking(&self, range: ByteRange) -> Vec<ByteRange> {
        self.kept.lacking(range)
    }

    /// Keeps `bytes`, which stand at `at`. It is durable after the next [`Saved::flush`].
    pub(crate) fn keep(&mut self, at: ByteOffset, bytes: &[u8]) -> Result<(), CoreError> {
        let zeros = bytes.iter().all(|byte| *byte == 0);
        let mut record = Vec::with_capacity(SAVED_RECORD_BYTES);
        record.extend_from_slice(&at.0.to_le_bytes());
        record.extend_from_slice(&u32::try_from(bytes.len()).unwrap_or(u32::MAX).to_le_bytes());
        record.extend_from_slice(&u32::from(!zeros).to_le_bytes());
        let mut sum = crc32fast::Hasher::new();
        sum.update(&record);
        if !zeros {
            sum.update(bytes);
        }
        record.extend_from_slice(&sum.finalize().to_le_bytes());
        let path = &self.path;
        self.file.write_all(&record).map_err(file_error("write", path))?;
        if !zeros {
            self.file.write_all(bytes).map_err(file_error("write", path))?;
        }
        self.kept.add(ByteRange::sized(at, bytes.len() as u64));
        Ok(())
    }

    /// Makes everything kept durable: only then may the drive be touched there.
    pub(crate) fn flush(&mut self) -> Result<(), CoreError> {
        self.file.flush().map_err(file_error("write", &self.path))?;
        self.file.get_ref().sync_data().map_err(file_error("flush", &self.path))
    }
}

/// What a file begins with.
struct Head {
    key: String,
    bytes: u64,
    print: Print,
    /// Where its records begin.
    len: u64,
}

fn number(bytes: &[u8]) -> u64 {
    bytes.iter().rev().fold(0u64, |value, byte| value << 8 | u64::from(*byte))
}

fn head(path: &Path, file: &mut impl Read) -> Result<Head, CoreError> {
    let refused = |reason| CoreError::Saved { path: path.into(), reason };
    let mut head = [0; SAVED_HEADER_BYTES];
    file.read_exact(&mut head).map_err(|_| refused("it is cut off"))?;
    let version = number(&head[8..12]);
    if &head[..8] != SAVED_MAGIC || !(1..=u64::from(SAVED_VERSION)).contains(&version) {
        return Err(refused("it does not begin like one of a version known here"));
    }
    let (mut print, mut len) = (Print::default(), SAVED_HEADER_BYTES as u64);
    if version > 1 {
        let mut count = [0; 4];
        file.read_exact(&mut count).map_err(|_| refused("it is cut off"))?;
        len += 4;
        for _ in 0..number(&count).min(MOST_SAMPLES) {
            let mut sample = [0; 16];
            file.read_exact(&mut sample).map_err(|_| refused("it is cut off"))?;
            print.0.push(Sample { at: number(&sample[..8]), hash: number(&sample[8..]) });
            len += 16;
        }
    }
    let (key, bytes) = (String::from_utf8_lossy(&head[24..]).into_owned(), number(&head[16..24]));
    Ok(Head { key, bytes, print, len })
}

/// False for a file of a probe that was killed before it touched the drive: it keeps nothing. One that is damaged may keep something.
pub(crate) fn touched_anything(path: &Path) -> bool {
    let Ok(mut file) = File::open(path) else { return true };
    let len = file.metadata().map_or(0, |about| about.len());
    match head(path, &mut file) {
        Ok(head) => len > head.len,
        // The head is flushed before anything is kept: cut inside of it, nothing was.
        Err(CoreError::Saved { reason: "it is cut off", .. }) => false,
        Err(_) => true,
    }
}

/// True unless the drive that the file is of holds something else than `source` outside of what the probe touched.
pub(crate) fn is_of(path: &Path, source: &SharedSource) -> bool {
    let Ok((head, records)) = records(path) else { return true };
    let mut touched = RangeSet::default();
    records.iter().for_each(|record| touched.add(record.range));
    // On a drive that lies what was touched at one place shows at others as well, and says there that it is the probe's.
    let tagged = |at: u64| {
        let mut bytes = [0; SAMPLE];
        source.read_once(ByteOffset(at), &mut bytes).is_ok() && bytes.chunks(SMALLEST).any(tag::is_one)
    };
    let shown = head.print.0.iter().filter(|sample| tagged(sample.at));
    shown.for_each(|sample| touched.add(ByteRange::sized(ByteOffset(sample.at), SAMPLE as u64)));
    // Of all else only a drive that holds hardly anything of it is another.
    let named = head.key == source.identity().key() && head.bytes == source.identity().bytes;
    named && head.print.may_be(source, &touched)
}

/// Reads the records of the file at `path`, up to the first one that is cut or damaged: the drive was not touched there.
fn records(path: &Path) -> Result<(Head, Vec<Record>), CoreError> {
    let mut file = BufReader::new(File::open(path).map_err(file_error("open", path))?);
    let head = head(path, &mut file)?;
    let bytes = head.bytes;
    let (mut records, mut place, mut buf) = (Vec::new(), head.len, Vec::new());
    loop {
        let mut fixed = [0; SAVED_RECORD_BYTES];
        if file.read_exact(&mut fixed).is_err() {
            break;
        }
        place += SAVED_RECORD_BYTES as u64;
        let (at, len, kind) = (number(&fixed[..8]), number(&fixed[8..12]), number(&fixed[12..16]));
        if len > LONGEST || at.checked_add(len).is_none_or(|end| end > bytes) || kind > 1 {
            break;
        }
        buf.resize(if kind == 1 { usize::try_from(len).unwrap_or(0) } else { 0 }, 0);
        if file.read_exact(&mut buf).is_err() {
            break;
        }
        let mut sum = crc32fast::Hasher::new();
        sum.update(&fixed[..16]);
        sum.update(&buf);
        if u64::from(sum.finalize()) != number(&fixed[16..]) {
            break;
        }
        records.push(Record { range: ByteRange::sized(ByteOffset(at), len), at: (kind == 1).then_some(place) });
        place += buf.len() as u64;
    }
    Ok((head, records))
}

/// Writes back everything that the file at `path` keeps of the drive behind `target`: what was kept last first, so that the
/// oldest knowledge of a place wins. `true_end` is where the drive's own storage ends; behind it nothing is verified. The
/// file is removed when everything stands as before. A sector that takes no write took none before and stands as it stood:
/// the comparison at the end tells.
///
/// # Errors
/// [`CoreError::Saved`] when the file is none or belongs to another drive; [`CoreError::Source`] when the drive does not open
/// or flush: the file stays, and the next call begins anew.
pub(crate) fn restore(
    open: &mut dyn FnMut() -> Result<Box<dyn WriteTarget>, SourceError>,
    identity: &Identity,
    path: &Path,
    true_end: u64,
    each: &mut dyn FnMut(u64, u64),
) -> Result<Restored, CoreError> {
    let (head, records) = records(path)?;
    if head.key != identity.key() || head.bytes != identity.bytes {
        return Err(CoreError::Saved { path: path.into(), reason: "it belongs to another drive" });
    }
    let total: u64 = records.iter().map(|record| record.range.len()).sum();
    let mut file = File::open(path).map_err(file_error("open", path))?;
    let (mut buf, mut now) = (Vec::new(), Vec::new());
    let mut target = open()?;
    let mut fetch = |record: &Record, buf: &mut Vec<u8>| -> Result<(), CoreError> {
        buf.clear();
        buf.resize(usize::try_from(record.range.len()).unwrap_or(0), 0);
        let Some(at) = record.at else { return Ok(()) };
        file.seek(SeekFrom::Start(at)).and_then(|_| file.read_exact(buf)).map_err(file_error("read", path))
    };
    let mut restored = Restored::default();
    for record in records.iter().rev() {
        fetch(record, &mut buf)?;
        if target.write_at(record.range.start, &buf).is_err() {
            // A failed write closes the target.
            for (index, sector) in buf.chunks(SMALLEST).enumerate() {
                drop(target);
                target = open()?;
                let _ = target.write_at(record.range.start + (index * SMALLEST) as u64, sector);
            }
            drop(target);
            target = open()?;
        }
        restored.bytes += record.range.len();
        each(restored.bytes, total * 2);
    }
    target.flush()?;
    target.forget();
    restored.whole = true;
    // The oldest record of a place is the one that counts.
    let mut seen = RangeSet::default();
    for record in &records {
        let reach = ByteRange::new(record.range.start, record.range.end.min(ByteOffset(true_end)));
        if reach.is_empty() || seen.lacking(reach) != [reach] {
            continue;
        }
        fetch(record, &mut buf)?;
        now.clear();
        now.resize(usize::try_from(reach.len()).unwrap_or(0), 0);
        let read = target.read_back(reach.start, &mut now).is_ok();
        for (former, now) in buf.chunks(SMALLEST).zip(now.chunks(SMALLEST)) {
            // A place that was one with another had a tag already when it was kept: the other record counts.
            if super::tag::is_one(former) {
                continue;
            }
            let same = read && former == now;
            restored.whole &= same;
            restored.verified_bytes += if same { now.len() as u64 } else { 0 };
        }
        seen.add(record.range);
        each(restored.bytes + restored.verified_bytes, total * 2);
    }
    if restored.whole && (restored.verified_bytes > 0 || restored.bytes == 0) {
        fs::remove_file(path).map_err(file_error("remove", path))?;
    }
    Ok(restored)
}

/// Lays the file aside once all of it was written back: what could not be compared (behind the end of a drive that lies, or
/// on a drive that fails) must not stand in the way of the next probe, and is not thrown away either.
pub(crate) fn set_aside(path: &Path) -> Result<(), CoreError> {
    let stamp = crate::case::now().replace(':', "-");
    if path.exists() {
        fs::rename(path, path.with_extension(format!("{stamp}.kept"))).map_err(file_error("rename", path))
    } else {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use keel_source::LinkKind;

    use super::*;

    /// Restores over `before`; what stands there then.
    fn restored_over(before: Vec<u8>, identity: &Identity, path: &Path) -> Result<(Vec<u8>, Restored), CoreError> {
        let file = tempfile::NamedTempFile::new().unwrap();
        fs::write(file.path(), before).unwrap();
        let source = keel_source::open(file.path(), keel_source::OpenOptions::default()).unwrap();
        let leave = keel_source::Leave::without_code(source.identity()).unwrap();
        let restored = restore(&mut || source.open_target(&leave), identity, path, 8192, &mut |_, _| {})?;
        Ok((fs::read(file.path()).unwrap(), restored))
    }

    fn bytes(seed: u8) -> Vec<u8> {
        (0..8192u32).map(|at| (at as u8).wrapping_mul(seed)).collect()
    }

    #[test]
    fn what_was_kept_first_wins_and_a_cut_file_restores_what_is_whole() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.ykfathom");
        let before = bytes(3);
        let source: SharedSource = std::sync::Arc::new(keel_source::MemorySource::new("m", before.clone(), 512));
        let identity = source.identity().clone();
        let mut saved = Saved::create(&path, &source).unwrap();
        saved.keep(ByteOffset(512), &before[512..1536]).unwrap();
        saved.keep(ByteOffset(4096), &[0; 512]).unwrap();
        // Kept again under another address after it was changed.
        saved.keep(ByteOffset(512), &[9; 512]).unwrap();
        saved.flush().unwrap();
        let lacking = saved.lacking(ByteRange::sized(ByteOffset(0), 8192));
        assert_eq!(
            lacking.iter().map(|range| (range.start.0, range.len())).collect::<Vec<_>>(),
            [(0, 512), (1536, 2560), (4608, 3584)]
        );
        let whole = fs::read(&path).unwrap();
        let (now, restored) = restored_over(bytes(7), &identity, &path).unwrap();
        assert!(restored.whole && !path.exists());
        assert_eq!((&now[512..1536], &now[4096..4608]), (&before[512..1536], &[0; 512][..]));
        assert_eq!(now[..512], bytes(7)[..512]);
        fs::write(&path, &whole[..whole.len() - 540]).unwrap();
        let (now, _) = restored_over(bytes(7), &identity, &path).unwrap();
        assert!(now[512..1536] == before[512..1536]);
        fs::write(&path, &whole).unwrap();
        let other = Identity::bare("other", 8192, LinkKind::Image);
        assert!(restored_over(bytes(7), &other, &path).unwrap_err().to_string().contains("another drive"));
        for cut in 0..SAVED_HEADER_BYTES {
            fs::write(&path, &whole[..cut]).unwrap();
            assert!(restored_over(bytes(7), &identity, &path).is_err());
        }
    }

    /// A drive of 4 MiB of which every block of 4 KiB holds what `what` makes of its place.
    fn drive(what: &dyn Fn(u64, &mut [u8])) -> SharedSource {
        let mut bytes = vec![0u8; 4 << 20];
        for (index, block) in bytes.chunks_mut(SAMPLE).enumerate() {
            what((index * SAMPLE) as u64, block);
        }
        std::sync::Arc::new(keel_source::MemorySource::new("reader", bytes, 512))
    }

    #[test]
    fn what_a_probe_wrote_under_another_address_does_not_make_its_drive_another_one() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("probe.yksaved");
        let noise = |salt: u64| {
            move |at: u64, block: &mut [u8]| {
                block.iter_mut().zip(0u64..).for_each(|(byte, index)| *byte = (index.wrapping_mul(at + salt) >> 3) as u8);
            }
        };
        let before = drive(&noise(4099));
        Saved::create(&path, &before).unwrap();
        assert!(is_of(&path, &before));
        // Wherever a sample was taken stands what the probe wrote under an address that leads there too.
        assert!(is_of(&path, &drive(&|at, block| tag::put_all(7, at + (60 << 30), block, 512))));
        assert!(!is_of(&path, &drive(&noise(7919))), "another card");
    }
}
