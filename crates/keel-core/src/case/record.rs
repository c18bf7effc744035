//! The case of a client's drive: `case.toml`, read and written whole, and the journal beside it.

use std::fs::{self, File};
use std::path::{Path, PathBuf};

use keel_source::{ByteOffset, Identity, printable};
use rustix::fs::{FlockOperation, flock};
use serde::{Deserialize, Serialize};

use super::journal::{self, Seal, now};
use super::standing::Standing;
use super::{deeds, state_folder, write_whole};
use crate::CoreError;
use crate::error::file_error;
use crate::intake::{self, Cause, Outcome};

/// Version of the format.
pub const CASE_VERSION: u32 = 1;
/// The longest text that a case takes, in bytes.
const LONGEST_TEXT: usize = 4000;

/// A check that was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CheckMade {
    /// Its id.
    pub check: String,
    /// What came of it.
    pub outcome: Outcome,
    /// When, in UTC.
    pub at: String,
    /// What was noted with it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub note: String,
}

/// What the client told.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Told {
    /// Ids of symptoms.
    pub symptoms: Vec<String>,
    /// Texts: error messages as pasted, and notes.
    pub texts: Vec<String>,
}

/// `case.toml`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CaseRecord {
    /// [`CASE_VERSION`].
    pub version: u32,
    /// Name of the case: its folder's.
    pub name: String,
    /// Whose drive it is.
    #[serde(default)]
    pub client: String,
    /// Path of the drive.
    pub source: PathBuf,
    /// When it was opened, in UTC.
    pub opened: String,
    /// When it was closed, in UTC; none while there is work on it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closed: Option<String>,
    /// The copy that the stages work on, where there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub copy: Option<PathBuf>,
    /// What the client told.
    #[serde(default)]
    pub told: Told,
    /// Checks made outside the computer, the last result of each.
    #[serde(default)]
    pub checks: Vec<CheckMade>,
    /// Places of the drive that were marked, by their bytes.
    #[serde(default)]
    pub marks: Vec<Mark>,
    /// What the drive said of itself when it answered last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub identity: Option<Identity>,
    /// The journal's end.
    pub journal: Seal,
}

/// A place of the drive with a note.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mark {
    /// Byte of the drive.
    pub at: ByteOffset,
    /// What was noted.
    pub note: String,
}

/// An opened case.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Case {
    /// Its folder.
    pub folder: PathBuf,
    /// What `case.toml` says.
    pub record: CaseRecord,
}

fn cut(text: &str) -> String {
    let lines: Vec<String> = text.lines().map(printable).collect();
    let mut text = lines.join("\n").trim().to_string();
    while text.len() > LONGEST_TEXT {
        text.pop();
    }
    text
}

impl Case {
    /// The folder that holds all cases.
    #[must_use]
    pub fn all_in() -> PathBuf {
        state_folder().join("cases")
    }

    /// Opens a case for the drive at `source`, or the one that it has already.
    ///
    /// # Errors
    /// [`CoreError::File`] when it cannot be written, [`CoreError::Case`] when the one that is there is damaged.
    pub fn open(source: &Path, identity: Option<&Identity>, client: &str) -> Result<Self, CoreError> {
        let path = std::path::absolute(source).map_err(file_error("find", source))?;
        let path = path.canonicalize().unwrap_or(path);
        if let Some(mut case) = Self::of(&path, identity)? {
            if !client.is_empty() && case.record.client != client {
                let client = cut(client);
                case.change("client", &serde_json::json!({ "client": client }), |record| record.client.clone_from(&client))?;
            }
            return Ok(case);
        }
        let stem = printable(&path.file_name().unwrap_or_default().to_string_lossy());
        let stem =
            stem.split('.').next().unwrap_or_default().chars().filter(|sign| sign.is_alphanumeric() || "-_".contains(*sign));
        let stem: String = stem.take(60).collect();
        let stem = if stem.is_empty() { "drive".to_string() } else { stem };
        let free = (1u32..10_000).map(|number| if number == 1 { stem.clone() } else { format!("{stem}-{number}") });
        let Some(name) = free.into_iter().find(|name| !Self::all_in().join(name).exists()) else {
            return Err(CoreError::Nothing("there are too many cases of this name"));
        };
        let folder = Self::all_in().join(&name);
        fs::create_dir_all(&folder).map_err(file_error("create", &folder))?;
        let record = CaseRecord {
            version: CASE_VERSION,
            name,
            client: cut(client),
            source: path,
            opened: now(),
            closed: None,
            copy: None,
            marks: Vec::new(),
            told: Told::default(),
            checks: Vec::new(),
            identity: identity.cloned(),
            journal: Seal::default(),
        };
        let mut case = Self { folder, record };
        case.write_down(
            "opened",
            &serde_json::json!({ "source": case.record.source, "client": case.record.client, "drive": identity }),
        )?;
        Ok(case)
    }

    /// The case of the drive at `source`: by its path, or by model and serial where it has moved.
    ///
    /// # Errors
    /// [`CoreError::Case`] when it is damaged.
    pub fn of(source: &Path, identity: Option<&Identity>) -> Result<Option<Self>, CoreError> {
        let path = source.canonicalize().unwrap_or_else(|_| source.to_path_buf());
        let mut folders: Vec<PathBuf> =
            fs::read_dir(Self::all_in()).into_iter().flatten().flatten().map(|entry| entry.path()).collect();
        folders.sort();
        let mut moved = None;
        for folder in folders.into_iter().filter(|folder| folder.join("case.toml").is_file()) {
            // A damaged case of another drive must not stand in the way of this one.
            let Ok(case) = Self::load(&folder) else { continue };
            if case.record.source == path || case.record.copy.as_ref() == Some(&path) {
                return Ok(Some(case));
            }
            let same = |known: &Identity| {
                identity.is_some_and(|own| own.serial.is_some() && known.serial == own.serial && known.model == own.model)
            };
            if case.record.identity.as_ref().is_some_and(same) && !case.record.source.exists() {
                moved = Some(case);
            }
        }
        Ok(moved)
    }

    /// The case in `folder`.
    ///
    /// # Errors
    /// [`CoreError::File`] when it cannot be read, [`CoreError::Case`] when it is none.
    pub fn load(folder: &Path) -> Result<Self, CoreError> {
        let path = folder.join("case.toml");
        let text = fs::read_to_string(&path).map_err(file_error("read", &path))?;
        let record: CaseRecord =
            toml::from_str(&text).map_err(|error| CoreError::Case { path: path.clone(), reason: error.message().to_string() })?;
        if record.version != CASE_VERSION {
            return Err(CoreError::Case { path, reason: format!("version {} is not known", record.version) });
        }
        Ok(Self { folder: folder.to_path_buf(), record })
    }

    /// Notes an event in the journal, and keeps the case.
    ///
    /// # Errors
    /// [`CoreError::File`] when one of the two cannot be written.
    pub fn write_down(&mut self, event: &str, detail: &serde_json::Value) -> Result<(), CoreError> {
        self.change(event, detail, |_| {})
    }

    /// Changes the case as it stands on disk by now, notes the event, and keeps both: of several programs that work on one case each
    /// finds what the others wrote.
    fn change(&mut self, event: &str, detail: &serde_json::Value, change: impl FnOnce(&mut CaseRecord)) -> Result<(), CoreError> {
        let path = self.folder.join("case.lock");
        let lock = File::create(&path).map_err(file_error("create", &path))?;
        // File systems without locks (some network mounts) still take a case.
        let _ = flock(&lock, FlockOperation::LockExclusive);
        if self.folder.join("case.toml").is_file() {
            self.record = Self::load(&self.folder)?.record;
        }
        change(&mut self.record);
        self.record.journal = journal::append(&self.folder.join("journal.jsonl"), event, detail)?;
        self.keep()
    }

    fn keep(&self) -> Result<(), CoreError> {
        let path = self.folder.join("case.toml");
        let text =
            toml::to_string(&self.record).map_err(|error| CoreError::Case { path: path.clone(), reason: error.to_string() })?;
        write_whole(&path, text.as_bytes())
    }

    /// Notes that the client sees this symptom, or takes it back.
    ///
    /// # Errors
    /// [`CoreError::Unknown`] for an id that is none; as [`Case::write_down`].
    pub fn set_symptom(&mut self, id: &str, seen: bool) -> Result<(), CoreError> {
        if intake::symptom(id).is_none() {
            return Err(CoreError::Unknown { what: "symptom", name: printable(id) });
        }
        self.change("symptom", &serde_json::json!({ "symptom": id, "seen": seen }), |record| {
            record.told.symptoms.retain(|own| own != id);
            record.told.symptoms.extend(seen.then(|| id.to_string()));
        })
    }

    /// Keeps a text of the client, and the symptoms of the error messages in it; what was recognised comes back.
    ///
    /// # Errors
    /// As [`Case::write_down`].
    pub fn tell(&mut self, text: &str) -> Result<Vec<&'static intake::KnownError>, CoreError> {
        let text = cut(text);
        let known = intake::recognise(&text);
        let means = known.iter().map(|known| known.means).collect::<Vec<_>>();
        self.change("told", &serde_json::json!({ "text": text, "means": means }), |record| {
            for error in &known {
                if !record.told.symptoms.iter().any(|own| own == error.symptom) {
                    record.told.symptoms.push(error.symptom.into());
                }
            }
            record.told.texts.push(text.clone());
        })?;
        Ok(known)
    }

    /// Notes what came of a check; `None` takes it back.
    ///
    /// # Errors
    /// [`CoreError::Unknown`] for an id that is none; as [`Case::write_down`].
    pub fn set_check(&mut self, id: &str, outcome: Option<Outcome>, note: &str) -> Result<(), CoreError> {
        if intake::check(id).is_none() {
            return Err(CoreError::Unknown { what: "check", name: printable(id) });
        }
        let note = cut(note);
        self.change("check", &serde_json::json!({ "check": id, "outcome": outcome, "note": note }), |record| {
            record.checks.retain(|own| own.check != id);
            let made = outcome.map(|outcome| CheckMade { check: id.into(), outcome, at: now(), note: note.clone() });
            record.checks.extend(made);
        })
    }

    /// The checks that were made, as the intake takes them.
    #[must_use]
    pub fn made(&self) -> Vec<(&str, Outcome)> {
        self.record.checks.iter().map(|made| (made.check.as_str(), made.outcome)).collect()
    }

    /// What may still be at fault.
    #[must_use]
    pub fn remaining(&self) -> std::collections::BTreeSet<Cause> {
        intake::remaining(self.record.told.symptoms.iter().map(String::as_str), &self.made())
    }

    /// The next check to make.
    #[must_use]
    pub fn next_check(&self) -> Option<&'static intake::Check> {
        intake::next_check(&self.remaining(), &self.made())
    }

    /// Names the copy that the stages work on from now on.
    ///
    /// # Errors
    /// As [`Case::write_down`].
    pub fn work_on(&mut self, copy: &Path) -> Result<(), CoreError> {
        self.change("work on", &serde_json::json!({ "copy": copy }), |record| record.copy = Some(copy.to_path_buf()))
    }

    /// Marks a place of the drive with a note; an empty one takes the mark away.
    ///
    /// # Errors
    /// As [`Case::write_down`].
    pub fn set_mark(&mut self, at: ByteOffset, note: &str) -> Result<(), CoreError> {
        let note = cut(note);
        self.change("mark", &serde_json::json!({ "at": at, "note": note }), |record| {
            record.marks.retain(|own| own.at != at);
            record.marks.extend((!note.is_empty()).then(|| Mark { at, note: note.clone() }));
            record.marks.sort_by_key(|mark| mark.at);
        })
    }

    /// True where the journal tells that the drive was changed.
    #[must_use]
    pub fn has_changed_drive(&self) -> bool {
        journal::lines(&self.folder).is_ok_and(|lines| deeds::changed(&lines))
    }

    /// Closes the case, with the layout that the drive has now, where that was read ([`yard::close`](crate::yard::close)).
    ///
    /// # Errors
    /// As [`Case::write_down`].
    pub fn close(&mut self, stands: Option<&Standing>) -> Result<(), CoreError> {
        let detail = stands.map_or(serde_json::Value::Null, |stands| serde_json::json!({ "stands": stands }));
        self.change("close", &detail, |record| record.closed = Some(now()))
    }

    /// Opens a closed case again.
    ///
    /// # Errors
    /// As [`Case::write_down`].
    pub fn open_again(&mut self) -> Result<(), CoreError> {
        self.change("open again", &serde_json::Value::Null, |record| record.closed = None)
    }

    /// Whose drive it is.
    ///
    /// # Errors
    /// As [`Case::write_down`].
    pub fn set_client(&mut self, client: &str) -> Result<(), CoreError> {
        let client = cut(client);
        self.change("client", &serde_json::json!({ "client": client }), |record| record.client.clone_from(&client))
    }

    /// Keeps what the drive says of itself, where that is news.
    ///
    /// # Errors
    /// As [`Case::write_down`].
    pub fn identify(&mut self, identity: &Identity) -> Result<(), CoreError> {
        if self.record.identity.as_ref() == Some(identity) {
            return Ok(());
        }
        let former = self.record.identity.as_ref().map(|former| former.bytes);
        self.change("identity", &serde_json::json!({ "drive": identity, "before": former }), |record| {
            record.identity = Some(identity.clone());
        })
    }
}
