//! What was taken out before, by manifests of earlier extractions: what is told again is what is new since.

use std::collections::{HashMap, HashSet};
use std::fs::File;
use std::io::{self, BufRead, BufReader, Read};
use std::path::Path;

use keel_source::Source;
use serde::Deserialize;

use super::{Adrift, each_piece};
use crate::error::{CoreError, file_error};
use crate::job::Cancel;

/// The longest first line of a manifest of files adrift, in bytes.
const LONGEST_HEAD: u64 = 64 << 10;

/// Contents that are known: BLAKE3 by length.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Known(HashMap<u64, HashSet<blake3::Hash>>);

/// A line of either manifest, as far as it is asked for.
#[derive(Deserialize)]
struct Line {
    bytes: u64,
    blake3: Option<String>,
}

/// The document beside the files of a volume.
#[derive(Deserialize)]
struct Document {
    files: Vec<Line>,
}

impl Known {
    /// Reads a manifest, of files adrift or of the files of a volume, and adds what it names.
    ///
    /// # Errors
    /// [`CoreError::File`] when it cannot be read, or is no manifest.
    pub fn read(&mut self, manifest: &Path) -> Result<(), CoreError> {
        let open = || File::open(manifest).map(BufReader::new).map_err(file_error("read", manifest));
        if let Ok(document) = serde_json::from_reader::<_, Document>(open()?) {
            document.files.into_iter().for_each(|line| self.add(&line));
            return Ok(());
        }
        let (mut reader, mut head) = (open()?, Vec::new());
        // What is no manifest may have no line at all.
        (&mut reader).take(LONGEST_HEAD).read_until(b'\n', &mut head).map_err(file_error("read", manifest))?;
        if !head.starts_with(br#"{"adrift_of":"#) {
            let wrong = io::Error::new(io::ErrorKind::InvalidData, "it is no manifest of an extraction");
            return Err(file_error("read", manifest)(wrong));
        }
        for line in reader.lines() {
            let line = line.map_err(file_error("read", manifest))?;
            // A line that a crash cut names nothing.
            serde_json::from_str::<Line>(&line).iter().for_each(|line| self.add(line));
        }
        Ok(())
    }

    fn add(&mut self, line: &Line) {
        if let Some(hash) = line.blake3.as_deref().and_then(|hash| blake3::Hash::from_hex(hash).ok()) {
            self.0.entry(line.bytes).or_default().insert(hash);
        }
    }

    /// True where the content of `file` is known; only what has the length of a known one is read. What does not read is not.
    #[must_use]
    pub fn has(&self, source: &dyn Source, file: &Adrift, cancel: &Cancel) -> bool {
        let Some(hashes) = self.0.get(&file.bytes) else { return false };
        let mut hasher = blake3::Hasher::new();
        let whole = each_piece(source, &file.extents, &mut |piece, is_read| {
            hasher.update(piece);
            is_read && !cancel.is_cancelled()
        });
        whole && hashes.contains(&hasher.finalize())
    }
}
