//! Widen: a drive that was told to show less than it has is told to show all of it, for as long as it has power or for good, and can be
//! told back. Nothing on its medium is written by it.

use std::path::PathBuf;

use keel_source::{
    ByteOffset, ByteRange, EndMeans, EndOrder, Identity, Lasts, LinkKind, SharedSource, Source, counted, size_decimal,
};
use serde::{Deserialize, Serialize};

use crate::case::{self, drive_folder};
use crate::error::{CoreError, Refusal};
use crate::ground::Holds;
use crate::leave::{Confirmation, Purpose, leave};

/// Places of what was hidden that are looked at.
const LOOKED_AT: u64 = 256;
/// What the code for good is made with, beside the drive's key.
const FOR_GOOD: &str = "its end is set for good";

/// What could be shown beyond the end that a drive shows.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Opening {
    /// Bytes that it shows.
    pub shown_bytes: u64,
    /// Bytes that it would show.
    pub whole_bytes: u64,
    /// By which means it shows less.
    pub means: EndMeans,
    /// True where it can be told until its power is cut; else it remembers.
    pub can_pass: bool,
    /// The code of the drive, which opens it until its power is cut.
    pub code: String,
    /// The code that opens it for good.
    pub lasting_code: String,
}

impl Opening {
    /// Bytes that are hidden.
    #[must_use]
    pub fn hidden_bytes(&self) -> u64 {
        self.whole_bytes - self.shown_bytes
    }

    /// What is hidden and what opening it means, a sentence a line.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        let hidden = self.hidden_bytes();
        let mut words = vec![format!(
            "{} of {} are hidden ({hidden} bytes), by its {}",
            size_decimal(hidden),
            size_decimal(self.whole_bytes),
            self.means.word()
        )];
        if !self.can_pass {
            words.push("by these means the drive remembers what it is told: it can be opened for good only".into());
        }
        words.push("nothing on its medium is written; it can be told its former end again".into());
        if self.means == EndMeans::DeviceConfiguration {
            words.push("other things that its configuration turned off are turned on by it as well, and stay on".into());
        }
        if self.means == EndMeans::HostProtected {
            words.push("many drives take it for good once only until their power is cut".into());
        }
        words
    }
}

/// What the drive shows less than it could; `None` where nothing is hidden, as far as it tells.
#[must_use]
pub fn opening(source: &dyn Source) -> Option<Opening> {
    let identity = source.identity();
    let further = source.own_size().further.into_iter().find(|end| end.bytes > identity.bytes)?;
    Some(Opening {
        shown_bytes: identity.bytes,
        whole_bytes: further.bytes,
        means: further.means,
        can_pass: further.means.can_pass(),
        code: identity.code(),
        lasting_code: identity.code_for(FOR_GOOD),
    })
}

/// What is kept of a drive that was widened, to tell it back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Former {
    /// Bytes that it showed.
    pub bytes: u64,
    /// Bytes that it was told to show.
    pub whole_bytes: u64,
    /// By which means.
    pub means: EndMeans,
    /// For how long it was told.
    pub lasts: Lasts,
    /// When.
    pub at: String,
}

impl Former {
    /// In words.
    #[must_use]
    pub fn words(&self) -> String {
        format!("the drive showed {} ({} bytes) before it was told to show all that it has", size_decimal(self.bytes), self.bytes)
    }
}

/// What is said where there is nothing to open.
pub const NOTHING_HIDDEN: &str = "the drive shows all that it has, as far as it tells";
/// What is said where there is nothing to tell back.
pub const NOT_WIDENED: &str = "the drive was not widened, or shows its former end";

fn kept_at(identity: &Identity) -> PathBuf {
    drive_folder(identity).join("end.json")
}

/// The end that the drive had before it was widened; none where it was not, or is not any more.
#[must_use]
pub fn former(identity: &Identity) -> Option<Former> {
    let former: Former = serde_json::from_slice(&std::fs::read(kept_at(identity)).ok()?).ok()?;
    (former.whole_bytes == identity.bytes && former.bytes < identity.bytes).then_some(former)
}

/// The code that [`back`] wants of the drive of `identity`.
#[must_use]
pub fn code_back(identity: &Identity, former: &Former) -> String {
    match former.lasts {
        Lasts::UntilPowerIsCut => identity.code(),
        Lasts::ForGood => identity.code_for(FOR_GOOD),
    }
}

/// What came of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Widened {
    /// Bytes that it showed.
    pub was_bytes: u64,
    /// Bytes that it was told to show.
    pub told_bytes: u64,
    /// Bytes that the system shows of it now.
    pub shown_bytes: u64,
    /// For how long.
    pub lasts: Lasts,
    /// What lies where it was hidden: places that were looked at, by what they hold.
    pub holds: Vec<(Holds, u64)>,
    /// Places there that did not read.
    pub failed: u64,
}

impl Widened {
    /// In words, a sentence a line.
    #[must_use]
    pub fn words(&self) -> Vec<String> {
        let for_long = match self.lasts {
            Lasts::UntilPowerIsCut => "until its power is cut",
            Lasts::ForGood => "for good",
        };
        let mut words =
            vec![format!("the drive was told to show {} ({} bytes) {for_long}", size_decimal(self.told_bytes), self.told_bytes)];
        if self.shown_bytes != self.told_bytes {
            words.push(match self.lasts {
                Lasts::ForGood => "the system still shows the former size: unplug the drive and plug it in again".into(),
                Lasts::UntilPowerIsCut => format!(
                    "the system shows {}: its adapter reset the drive, or keeps the size that it read first; on another port or adapter it may come",
                    size_decimal(self.shown_bytes)
                ),
            });
            return words;
        }
        if self.told_bytes > self.was_bytes {
            let looked: u64 = self.holds.iter().map(|(_, count)| count).sum();
            let kinds =
                self.holds.iter().map(|(holds, count)| format!("{count} {}", holds.word())).collect::<Vec<_>>().join(", ");
            words.push(match looked {
                0 => "nothing of what was hidden reads".into(),
                _ => format!("what was hidden, in {}: {kinds}", counted(looked as usize, "place", "places")),
            });
            if self.failed > 0 && looked > 0 {
                words.push(format!("{} of it did not read", counted(self.failed as usize, "place", "places")));
            }
            if self.holds.iter().any(|(holds, _)| *holds != Holds::Zeros) {
                words.push("sweep it: volumes may reach there, or lie there".into());
            }
        }
        words
    }
}

/// Widens the drive for as long as `lasts` says: for good with the code that is made for that alone. The source is to be opened anew.
///
/// # Errors
/// [`CoreError::Nothing`] where nothing is hidden, or not in that way; [`CoreError::Refused`] without the right code, and while an apply
/// or a probe waits to be finished; [`CoreError::Source`] with what the drive answers.
pub fn widen(source: &SharedSource, lasts: Lasts, confirmation: &Confirmation) -> Result<Widened, CoreError> {
    let opening = opening(source.as_ref()).ok_or(CoreError::Nothing(NOTHING_HIDDEN))?;
    if lasts == Lasts::UntilPowerIsCut && !opening.can_pass {
        return Err(CoreError::Nothing("by these means the drive remembers what it is told: only --lasting opens it"));
    }
    let former =
        Former { bytes: opening.shown_bytes, whole_bytes: opening.whole_bytes, means: opening.means, lasts, at: case::now() };
    let confirmation = allowed(source, lasts, confirmation)?;
    // The way back is kept before the drive is told.
    let whole = Identity { bytes: opening.whole_bytes, ..source.identity().clone() };
    let kept = serde_json::to_vec(&former).map_err(|_| CoreError::Nothing("the way back cannot be kept"))?;
    case::same_drive(source.identity(), &whole)?;
    case::write_whole(&kept_at(source.identity()), &kept)?;
    tell(source, (opening.whole_bytes, opening.means, lasts), &confirmation)
}

/// Tells the drive the end again that it had before [`widen`].
///
/// # Errors
/// As [`widen`].
pub fn back(source: &SharedSource, confirmation: &Confirmation) -> Result<Widened, CoreError> {
    let former = former(source.identity()).ok_or(CoreError::Nothing(NOT_WIDENED))?;
    let confirmation = allowed(source, former.lasts, confirmation)?;
    let widened = tell(source, (former.bytes, former.means, former.lasts), &confirmation)?;
    let _ = std::fs::remove_file(kept_at(source.identity()));
    Ok(widened)
}

/// The confirmation as the door to writing takes it: what is set for good wants a code of its own.
fn allowed(source: &SharedSource, lasts: Lasts, confirmation: &Confirmation) -> Result<Confirmation, CoreError> {
    let identity = source.identity();
    match (lasts, confirmation) {
        (Lasts::ForGood, Confirmation::Code(typed)) => {
            let wanted = identity.code_for(FOR_GOOD);
            let right = typed.trim().eq_ignore_ascii_case(&wanted);
            right.then(|| Confirmation::Code(identity.code())).ok_or_else(|| Refusal::LastingCode.into())
        }
        (Lasts::ForGood, Confirmation::Yes) if identity.link == LinkKind::BlockDevice => Err(Refusal::LastingCode.into()),
        _ => Ok(confirmation.clone()),
    }
}

fn tell(
    source: &SharedSource,
    (bytes, means, lasts): (u64, EndMeans, Lasts),
    confirmation: &Confirmation,
) -> Result<Widened, CoreError> {
    let leave = leave(source, confirmation, Purpose::End)?;
    let was_bytes = source.identity().bytes;
    let shown_bytes = source.set_end(EndOrder { bytes, means, lasts }, &leave)?;
    let mut widened = Widened { was_bytes, told_bytes: bytes, shown_bytes, lasts, holds: Vec::new(), failed: 0 };
    // As it is now; where it is not found again, what lies there is not known.
    if shown_bytes > was_bytes
        && let Ok(whole) = source.look_up_anew()
    {
        look(&whole, was_bytes, &mut widened);
    }
    case::note(source.as_ref(), "end", &serde_json::json!(widened));
    Ok(widened)
}

/// Looks at places spread over what was hidden: its first and its last sector among them.
fn look(whole: &SharedSource, from: u64, widened: &mut Widened) {
    let range = ByteRange::new(ByteOffset(from), ByteOffset(whole.len()));
    let sectors = range.len() / 512;
    let count = LOOKED_AT.min(sectors);
    for index in 0..count {
        let at = range.start + index * (sectors - 1) / (count - 1).max(1) * 512;
        let mut sector = [0; 512];
        if whole.read_at(at, &mut sector).is_err() {
            widened.failed += 1;
            continue;
        }
        let holds = Holds::of(&sector);
        match widened.holds.iter_mut().find(|(known, _)| *known == holds) {
            Some((_, count)) => *count += 1,
            None => widened.holds.push((holds, 1)),
        }
    }
    widened.holds.sort();
}

#[cfg(test)]
mod tests;
