//! Records without files: what is left of a volume's metadata still names what lies adrift. A file that begins exactly where a record says one
//! began gets that one's name; one that is cut, and whose pieces the record knows, is judged by them.

use std::collections::HashMap;
use std::ops::ControlFlow;

use keel_adrift::{Ground, KINDS, State, judge};
use keel_format::{Deleted, NodeKind};
use keel_source::{ByteOffset, ByteRange, SharedSource, Source};

use super::Adrift;
use super::join::Pieces;
use crate::files;
use crate::find::Find;
use crate::job::Cancel;

/// Entries of one volume that are looked at.
const MOST_ENTRIES: u64 = 4_000_000;
/// Bytes that are walked for one file whose pieces a record knows.
const MOST_WALKED: u64 = 4 << 30;

/// Length and suffix of what was found, by its first byte.
type Starts = HashMap<ByteOffset, (u64, &'static str)>;

/// What a record says.
struct Record {
    find: String,
    path: String,
    /// True where its file is as long as the one that was found.
    is_exact: bool,
    pieces: Vec<(ByteOffset, u64)>,
}

/// Gives `files` the names that records of any volume, present or older, deleted or not, have for what begins where they do: a record of the
/// same length, else the first one whose name ends as files of that kind do. Another record led to what stood there before.
pub(super) fn name_by_records(source: &SharedSource, finds: &[Find], files: &mut [Adrift], cancel: &Cancel) {
    let mut records: HashMap<ByteOffset, Record> = HashMap::new();
    let starts: Starts = files.iter().map(|file| (file.at_byte, (file.bytes, file.kind))).collect();
    for find in finds.iter().filter(|_| !starts.is_empty()) {
        if cancel.is_cancelled() {
            return;
        }
        read_records(source, find, &starts, &mut records, cancel);
    }
    for file in files {
        let Some(record) = records.remove(&file.at_byte) else { continue };
        let name = record.path.rsplit('/').next().unwrap_or_default();
        if name.trim().is_empty() {
            continue;
        }
        file.name = files::safe_component(name);
        if file.state == State::Cut && record.pieces.len() > 1 {
            by_pieces(source.as_ref(), file, &record, cancel);
        }
        file.path = Some(record.path);
        file.recorded_by = Some(record.find);
    }
}

fn read_records(source: &SharedSource, find: &Find, starts: &Starts, records: &mut HashMap<ByteOffset, Record>, cancel: &Cancel) {
    let Ok(volume) = files::open(source, find) else { return };
    let mut seen = 0;
    // What a damaged tree hands on until it breaks counts.
    let _ = volume.walk(Deleted::Show, &mut |found| {
        seen += 1;
        if seen > MOST_ENTRIES || cancel.is_cancelled() {
            return ControlFlow::Break(());
        }
        if found.entry.kind != NodeKind::File || found.entry.bytes == 0 {
            return ControlFlow::Continue(());
        }
        let extents = volume.extents(found.entry.id).unwrap_or_default();
        let on_drive = |at: ByteOffset| find.start_byte.checked_add(at.0);
        let Some(at) = extents.first().and_then(|extent| extent.volume_at).and_then(on_drive) else {
            return ControlFlow::Continue(());
        };
        let Some((bytes, suffix)) = starts.get(&at) else { return ControlFlow::Continue(()) };
        let is_exact = found.entry.bytes == *bytes;
        let is_better = match records.get(&at) {
            Some(known) => is_exact && !known.is_exact,
            None => is_exact || ends_as(&found.entry.name, suffix),
        };
        if is_better {
            let mut left = found.entry.bytes;
            let pieces: Option<Vec<(ByteOffset, u64)>> = extents
                .iter()
                .map(|extent| {
                    let bytes = extent.bytes.min(left);
                    left -= bytes;
                    Some((on_drive(extent.volume_at?)?, bytes))
                })
                .collect();
            let pieces = pieces.unwrap_or_default().into_iter().filter(|(_, bytes)| *bytes > 0).collect();
            records.insert(at, Record { find: find.id.clone(), path: found.path(), is_exact, pieces });
        }
        ControlFlow::Continue(())
    });
}

/// True where a name ends as those of files with this suffix do.
fn ends_as(name: &str, suffix: &str) -> bool {
    let ending = name.rsplit_once('.').map(|(_, ending)| ending.to_ascii_lowercase()).unwrap_or_default();
    let alike =
        [("jpeg", "jpg"), ("tiff", "tif"), ("htm", "html"), ("mpeg", "mpg"), ("text", "txt"), ("aif", "aiff"), ("midi", "mid")];
    let ending = alike.iter().find(|(other, _)| *other == ending).map_or(ending.as_str(), |(_, own)| own);
    ending == suffix || KINDS.iter().any(|kind| kind.suffix == suffix && kind.makes(ending))
}

/// Judges a file that is cut by the pieces that its record knows, and takes them where it holds further with them.
fn by_pieces(source: &dyn Source, file: &mut Adrift, record: &Record, cancel: &Cancel) {
    let Some(kind) = KINDS.iter().find(|kind| kind.makes(file.kind)) else { return };
    let pieces: Vec<ByteRange> = record.pieces.iter().map(|(at, bytes)| ByteRange::sized(*at, *bytes)).collect();
    let whole = Pieces::new(source, pieces);
    let ground = Ground { source: &whole, end: ByteOffset(whole.len()), most_read: MOST_WALKED, cancel };
    let Some(judged) = judge(ground, kind, ByteOffset(0)).file.filter(|judged| judged.state != State::Cut) else { return };
    let mut left = judged.bytes;
    file.extents = record
        .pieces
        .iter()
        .map(|(at, bytes)| {
            let own = (*bytes).min(left);
            left -= own;
            (*at, own)
        })
        .filter(|(_, bytes)| *bytes > 0)
        .collect();
    file.why = format!("in the pieces that its record names; {}", judged.why);
    (file.state, file.bytes, file.kind, file.pixels) = (judged.state, judged.bytes, judged.suffix, judged.facts.pixels);
    (file.made, file.by) = (judged.facts.made, judged.facts.by);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_record_of_another_kind_led_to_what_stood_there_before() {
        for (name, suffix, ends) in [
            ("rota.JPG", "jpg", true),
            ("rota.jpeg", "jpg", true),
            ("rota.docx", "zip", true),
            ("rota.jpg", "png", false),
            ("rota", "txt", false),
            ("jpg", "jpg", false),
            ("letter.htm", "html", true),
        ] {
            assert_eq!(ends_as(name, suffix), ends, "{name} {suffix}");
        }
    }
}
