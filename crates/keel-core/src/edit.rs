//! A change of a drive: what stands there, what will, and what it is for.

use keel_source::{ByteOffset, ByteRange, Payload};
use serde::{Deserialize, Serialize};

/// What an edit is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Intent {
    /// Something that stands gets back what it lacks: nothing may stand lower by it than it does.
    #[default]
    Repair,
    /// Something new is made: what stood on its ground was asked to go, and what is made has to be whole.
    Create,
    /// What stands there goes: nothing on its ground may be whole afterwards.
    Erase,
}

/// Whether an edit writes a copy or the primary structure. Copies are written first: while a primary is being written
/// its copy is whole.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Order {
    /// A backup structure.
    Copy,
    /// The structure that operating systems read first.
    Primary,
}

/// What an edit belongs to: what it is written with, or not at all.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
pub struct Belongs {
    /// The name of the edits that make one thing: `table/primary GPT`, `n2/FAT32 boot sector`. They are dropped together.
    pub group: String,
    /// Groups on which it rests: without them it is nothing.
    pub needs: Vec<String>,
}

impl Belongs {
    /// To the edits of this name, resting on nothing else.
    #[must_use]
    pub fn to(group: impl Into<String>) -> Self {
        Self { group: group.into(), needs: Vec::new() }
    }
}

/// One staged change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edit {
    /// The structure it changes, in the standard's words.
    pub structure: String,
    /// First byte.
    pub at_byte: ByteOffset,
    /// What stands there now; empty where it cannot be read, and where a long run is written: then it is read, and saved, when that
    /// is done.
    pub before: Vec<u8>,
    /// What will stand there.
    pub after: Payload,
    /// What it is for.
    pub intent: Intent,
    /// What it is written with.
    pub belongs: Belongs,
    /// Copy or primary.
    pub order: Order,
    /// Why, in plain words.
    pub reason: String,
}

fn hex(bytes: &[u8]) -> String {
    let digit = |value: u8| char::from_digit(u32::from(value), 16).unwrap_or('0');
    bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect()
}

impl Edit {
    /// The ground it changes.
    #[must_use]
    pub fn range(&self) -> ByteRange {
        ByteRange::sized(self.at_byte, self.after.len())
    }

    /// True when what stands there is known, or will be before it is written over.
    #[must_use]
    pub fn can_be_undone(&self) -> bool {
        self.after.held().is_none_or(|after| after.len() == self.before.len())
    }
}

/// As a plan shows it: bytes in hexadecimal, a long run by its name.
impl Serialize for Edit {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        use serde::ser::SerializeStruct;
        let mut edit = serializer.serialize_struct("Edit", 11)?;
        edit.serialize_field("structure", &self.structure)?;
        edit.serialize_field("at_byte", &self.at_byte)?;
        edit.serialize_field("bytes", &self.after.len())?;
        edit.serialize_field("intent", &self.intent)?;
        edit.serialize_field("before", &hex(&self.before))?;
        edit.serialize_field("after", &hex(self.after.held().unwrap_or_default()))?;
        edit.serialize_field("run", &self.after.run().map(keel_source::Generate::name))?;
        edit.serialize_field("order", &self.order)?;
        edit.serialize_field("group", &self.belongs.group)?;
        edit.serialize_field("needs", &self.belongs.needs)?;
        edit.serialize_field("reason", &self.reason)?;
        edit.end()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn edit(after: Payload) -> Edit {
        Edit {
            structure: "MBR".into(),
            at_byte: ByteOffset(512),
            before: vec![1; 4],
            after,
            intent: Intent::Repair,
            belongs: Belongs::to("table/MBR"),
            order: Order::Primary,
            reason: "it is gone".into(),
        }
    }

    #[test]
    fn bytes_are_shown_and_a_long_run_is_named_with_its_length() {
        let held = edit(Payload::from(vec![0xAB, 0, 0xFF, 1]));
        assert_eq!((held.range().start, held.range().len()), (ByteOffset(512), 4));
        let shown = serde_json::to_value(&held).unwrap();
        assert_eq!((shown["after"].as_str(), shown["before"].as_str()), (Some("ab00ff01"), Some("01010101")));
        assert_eq!((shown["bytes"].as_u64(), &shown["run"]), (Some(4), &serde_json::Value::Null));
        assert_eq!((shown["intent"].as_str(), shown["order"].as_str()), (Some("repair"), Some("primary")));
        let run = Edit { before: Vec::new(), intent: Intent::Erase, ..edit(Payload::zeros(1 << 40)) };
        let shown = serde_json::to_value(&run).unwrap();
        assert_eq!(
            (shown["after"].as_str(), shown["bytes"].as_u64(), shown["run"].as_str()),
            (Some(""), Some(1 << 40), Some("zeros"))
        );
    }

    #[test]
    fn what_is_written_over_has_to_be_known() {
        assert!(edit(Payload::from(vec![0; 4])).can_be_undone());
        assert!(!edit(Payload::from(vec![0; 5])).can_be_undone(), "one byte of it was not read");
        let run = Edit { before: Vec::new(), ..edit(Payload::zeros(1 << 40)) };
        assert!(run.can_be_undone(), "a run is saved as it is written");
    }
}
