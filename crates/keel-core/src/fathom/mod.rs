//! Fathom: how much a drive can really store. A *probe* writes tagged sectors at chosen places and puts back what stood
//! there; a *fill* writes everything; an *estimate* only reads.

mod bench;
mod estimate;
mod fill;
mod probe;

pub use crate::saved::{Restored, SAVED_HEADER_BYTES, SAVED_MAGIC, SAVED_RECORD_BYTES, SAVED_VERSION};
pub use crate::saved::{interrupted, interrupted_of, saved_path};
pub use estimate::estimate;
pub use fill::fill;
pub use probe::{ProbeOptions, probe, restore_interrupted};

use std::path::PathBuf;

use keel_source::{ByteOffset, ByteRange, Identity, Leave, SharedSource, Stored, size_decimal};
use serde::{Deserialize, Serialize};

use crate::case;
use crate::error::CoreError;
use crate::leave::{Confirmation, Purpose, leave};
use crate::whose::{self, Samples};

/// How the capacity was measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Method {
    /// Tagged sectors at chosen places.
    Probe,
    /// Tagged sectors everywhere.
    Fill,
    /// Content that repeats; nothing was written.
    Estimate,
}

impl Method {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Probe => "probe",
            Self::Fill => "fill",
            Self::Estimate => "estimate",
        }
    }
}

/// How a drive behaves behind its true end, or what kept it from being measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "is")]
pub enum Nature {
    /// Keeps what is written, up to its claimed end.
    Honest,
    /// Addresses behind the true end lead back, modulo so many bytes.
    Wraps {
        /// The modulus in bytes.
        modulus: u64,
    },
    /// What is written behind the true end is lost.
    Drops,
    /// Everything behind the true end is one and the same sector.
    RepeatsLast,
    /// No lie, but places that do not read back.
    FailsReads,
    /// No lie, but places that take no write.
    FailsWrites,
    /// Takes no write at all, or keeps none.
    TakesNoWrites,
    /// Not told apart.
    Unknown,
}

impl Nature {
    /// True for a drive that claims more than it stores.
    #[must_use]
    pub fn is_lie(self) -> bool {
        matches!(self, Self::Wraps { .. } | Self::Drops | Self::RepeatsLast)
    }

    /// In words.
    #[must_use]
    pub fn word(self) -> String {
        match self {
            Self::Honest => "keeps what is written, up to its end".into(),
            Self::Wraps { modulus } => format!("wraps around: addresses lead back modulo {modulus} bytes"),
            Self::Drops => "drops what is written behind its true end".into(),
            Self::RepeatsLast => "answers with one and the same sector behind its true end".into(),
            Self::FailsReads => "does not lie; places do not read back".into(),
            Self::FailsWrites => "does not lie; places take no write".into(),
            Self::TakesNoWrites => "keeps nothing that is written".into(),
            Self::Unknown => "could not be told".into(),
        }
    }
}

/// How sure a verdict is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Sureness {
    /// Content that repeats could have another reason.
    Weak,
    /// Every chosen place was written and read back.
    Strong,
    /// Every sector was, or the true end is known to the sector from both sides.
    Certain,
}

impl Sureness {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Weak => "weak",
            Self::Strong => "strong",
            Self::Certain => "certain",
        }
    }
}

/// What came of one address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Seen {
    /// What was written to it.
    Own,
    /// What was written to another address.
    Other(ByteOffset),
    /// Nothing that was written.
    Nothing,
    /// It did not read.
    Unreadable,
    /// It took no write.
    Unwritable,
}

/// One point of the plot: the address that was written, and what was read there.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlotPoint {
    /// The address.
    pub at: ByteOffset,
    /// What it held.
    pub seen: Seen,
}

/// Speed over a part of the surface.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pace {
    /// The first byte of the part.
    pub at: ByteOffset,
    /// Bytes per second, written.
    pub write: u64,
    /// Bytes per second, read back; 0 before it was.
    pub read: u64,
}

/// What was measured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fathomed {
    /// How.
    pub method: Method,
    /// Key of the drive's identity.
    pub drive: String,
    /// Bytes that the drive claims.
    pub claimed_bytes: u64,
    /// Bytes from the start that are taken to be stored.
    pub proven_bytes: u64,
    /// True when the end of them is known to the sector.
    pub exact: bool,
    /// How the drive behaves.
    pub nature: Nature,
    /// How sure that is.
    pub sureness: Sureness,
    /// Why, in sentences.
    pub reasons: Vec<String>,
    /// Places that did not read back, the first ones.
    pub unreadable: Vec<ByteRange>,
    /// Places that took no write, the first ones.
    pub unwritable: Vec<ByteRange>,
    /// What was put back; none where nothing was to be.
    pub restored: Option<Restored>,
    /// Address written against address read.
    pub plot: Vec<PlotPoint>,
    /// Speed over the surface, of a fill.
    pub pace: Vec<Pace>,
    /// How long it took, by the drive's own clock where it keeps one.
    pub took_ms: u64,
    /// True when it was stopped before its end.
    pub cancelled: bool,
}

impl Fathomed {
    /// A verdict that says nothing yet.
    fn begun(source: &SharedSource, method: Method) -> Self {
        Self {
            method,
            drive: source.identity().key(),
            claimed_bytes: source.len(),
            proven_bytes: 0,
            exact: false,
            nature: Nature::Unknown,
            sureness: Sureness::Weak,
            reasons: Vec::new(),
            unreadable: Vec::new(),
            unwritable: Vec::new(),
            restored: None,
            plot: Vec::new(),
            pace: Vec::new(),
            took_ms: 0,
            cancelled: false,
        }
    }

    /// The verdict in a line.
    #[must_use]
    pub fn line(&self) -> String {
        let (claimed, proven) = (size_decimal(self.claimed_bytes), size_decimal(self.proven_bytes));
        match self.nature {
            Nature::Honest if self.sureness == Sureness::Weak => format!("claims {claimed}; nothing speaks against it"),
            Nature::Honest => format!("claims {claimed} and stores it"),
            nature if nature.is_lie() && self.method == Method::Estimate => format!("claims {claimed}, seems to store {proven}"),
            nature if nature.is_lie() => format!("claims {claimed}, stores {proven}"),
            nature => format!("claims {claimed}; {}", nature.word()),
        }
    }
}

/// How far a measurement is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FathomProgress {
    /// What is done now.
    pub phase: Phase,
    /// Bytes done of this phase.
    pub done: u64,
    /// Bytes of this phase.
    pub total: u64,
    /// Where the drive works.
    pub at: ByteOffset,
    /// Points seen since the last report.
    pub points: Vec<PlotPoint>,
    /// Bytes per second, by the drive's clock.
    pub rate: u64,
}

/// A part of a measurement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Phase {
    /// What stands at the chosen places is kept.
    Keep,
    /// Tags are written.
    Write,
    /// More is written, to push the tags out of the drive's cache.
    Push,
    /// Tags are read back.
    Read,
    /// The true end is closed in on.
    Close,
    /// What stood there is put back.
    Restore,
    /// Content is compared.
    Compare,
}

impl Phase {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Keep => "keeping what stands there",
            Self::Write => "writing tags",
            Self::Push => "pushing them out of the cache",
            Self::Read => "reading them back",
            Self::Close => "closing in on the true end",
            Self::Restore => "putting everything back",
            Self::Compare => "comparing content",
        }
    }
}

/// Where the last verdict on a drive is kept.
#[must_use]
pub fn verdict_path(identity: &Identity) -> PathBuf {
    case::drive_folder(identity).join("fathom.json")
}

/// Keeps a verdict for the later stages. A weaker method does not replace a stronger one.
///
/// # Errors
/// [`CoreError::File`] when it cannot be written.
pub fn keep(source: &SharedSource, verdict: &Fathomed) -> Result<(), CoreError> {
    if verdict.cancelled
        || (verdict.method == Method::Estimate && known(source).is_some_and(|known| known.method != Method::Estimate))
    {
        return Ok(());
    }
    // After a fill the drive holds nothing but tags, until somebody uses it.
    let samples = if verdict.method == Method::Fill { Samples::None } else { Samples::Taken };
    whose::keep(&verdict_path(source.identity()), source, verdict, samples)
}

/// Notes in the journal of the drive's case what a measurement came to.
fn note(source: &SharedSource, verdict: &Fathomed) {
    let detail = serde_json::json!({
        "method": verdict.method, "nature": verdict.nature, "claimed_bytes": verdict.claimed_bytes, "proven_bytes": verdict.proven_bytes,
        "sureness": verdict.sureness, "restored": verdict.restored, "cancelled": verdict.cancelled,
    });
    case::note(source.as_ref(), "fathom", &detail);
}

/// As [`note`], of one that writes: also where it failed on the way.
fn note_writing(source: &SharedSource, method: Method, measured: &Result<Fathomed, CoreError>) {
    match measured {
        Ok(verdict) => note(source, verdict),
        // Without leave nothing was written, and there is nothing to note.
        Err(CoreError::Refused(_)) => {}
        Err(error) => {
            case::note(source.as_ref(), "fathom", &serde_json::json!({ "method": method, "error": crate::chain(error) }));
        }
    }
}

/// The kept verdict on a drive that calls itself so, and whether it is of this very one: of another one the content differs.
fn kept(source: &SharedSource) -> Option<(Fathomed, bool)> {
    let identity = source.identity();
    let kept = whose::kept::<Fathomed>(&verdict_path(identity), source);
    kept.filter(|(verdict, _)| verdict.drive == identity.key() && verdict.claimed_bytes == identity.bytes)
}

/// The kept verdict on a drive.
#[must_use]
pub fn known(source: &SharedSource) -> Option<Fathomed> {
    kept(source).filter(|(_, own)| *own).map(|(verdict, _)| verdict)
}

/// A kept verdict that a drive which calls itself so is a lie, where this one holds something else: it was used since, or it is another.
#[must_use]
pub fn doubted(source: &SharedSource) -> Option<Fathomed> {
    kept(source).filter(|(verdict, own)| !own && verdict.nature.is_lie()).map(|(verdict, _)| verdict)
}

/// `source` as far as it stores, where a measurement that wrote has shown that it claims more.
#[must_use]
pub fn as_stored(source: SharedSource) -> SharedSource {
    let known = known(&source).filter(|verdict| verdict.nature.is_lie() && verdict.method != Method::Estimate);
    match known {
        Some(verdict) if verdict.proven_bytes < source.len() => std::sync::Arc::new(Stored::new(source, verdict.proven_bytes)),
        _ => source,
    }
}

/// The rules that stand before every writing measurement.
fn allowed(source: &SharedSource, confirmation: &Confirmation, purpose: Purpose) -> Result<Leave, CoreError> {
    if source.is_empty() {
        return Err(CoreError::Nothing("the drive reports 0 bytes: there is nothing to measure"));
    }
    if !source.missing().is_empty() {
        return Err(CoreError::Nothing("a copy has no capacity of its own: measure the drive"));
    }
    leave(source, confirmation, purpose)
}
