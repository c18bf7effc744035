//! What is typed where the table or an entry of it is shown: `new gpt`, `grow rest`, `format ntfs,label=QUAY`.

use keel_format::table::{Scheme, TypeCode};
use keel_source::{SectorSize, printable};

use super::Size;
use super::step::{NewTable, Step, StepWrong, Wish, flags};

/// What can be typed for the table, for whoever is asked.
pub const TABLE_WORDS: &str = "new gpt, new mbr, new none (one volume takes the whole drive), mark (signature and identifier of sector 0 \
                               alone), convert gpt, convert mbr (no volume moves)";
/// What can be typed for an entry.
pub const ENTRY_WORDS: &str = "format KIND[,label=TEXT][,cluster=BYTES], grow SIZE or rest, shrink SIZE or least, flag active, hidden, \
                               read-only, no-automatic-mount, required or none, type 0x07 or a GUID, name TEXT, delete";

fn scheme(word: &str) -> Option<Scheme> {
    match word {
        "gpt" => Some(Scheme::Gpt),
        "mbr" => Some(Scheme::Mbr),
        _ => None,
    }
}

/// The step that is typed for the table.
///
/// # Errors
/// [`StepWrong::Table`] for anything else.
pub fn of_table(text: &str) -> Result<Step, StepWrong> {
    let plain = text.trim().to_ascii_lowercase();
    let (word, rest) = plain.split_once(' ').map_or((plain.as_str(), ""), |(word, rest)| (word, rest.trim()));
    let step = match (word, rest, scheme(rest)) {
        ("new", "none", _) => Some(Step::Table(NewTable::None)),
        ("new", _, Some(scheme)) => Some(Step::Table(NewTable::Of(scheme))),
        ("convert", _, Some(scheme)) => Some(Step::Convert(scheme)),
        ("mark", "", _) => Some(Step::Table(NewTable::Mark)),
        _ => None,
    };
    step.ok_or_else(|| StepWrong::Table(printable(text)))
}

/// The step of a line of a recipe: `add` and a wish, or what is typed for the table.
///
/// # Errors
/// [`StepWrong`] with what is wrong of it.
pub fn of_line(text: &str, sector: SectorSize) -> Result<Step, StepWrong> {
    match text.trim().split_once(' ') {
        Some((word, wish)) if word.eq_ignore_ascii_case("add") => Ok(Step::Add(Wish::typed(wish.trim(), sector)?)),
        _ => of_table(text),
    }
}

/// The step that is typed for entry `number`.
///
/// # Errors
/// [`StepWrong`] with what is wrong of it.
pub fn of_entry(number: u32, text: &str, sector: SectorSize) -> Result<Step, StepWrong> {
    let plain = text.trim();
    let (word, rest) = plain.split_once(' ').map_or((plain, ""), |(word, rest)| (word, rest.trim()));
    match word.to_ascii_lowercase().as_str() {
        "format" => Ok(Step::Format(number, Wish::typed(rest, sector)?)),
        "grow" => Ok(Step::Grow(number, Size::typed(rest, sector)?)),
        "shrink" => Ok(Step::Shrink(number, Size::typed(rest, sector)?)),
        "flag" => Ok(Step::Flags(number, flags(rest)?)),
        "type" => TypeCode::parse(rest).map(|code| Step::Type(number, code)).ok_or_else(|| StepWrong::Type(printable(rest))),
        "name" => Ok(Step::Name(number, rest.into())),
        "delete" if rest.is_empty() => Ok(Step::Delete(number)),
        _ => Err(StepWrong::Entry(printable(text))),
    }
}

#[cfg(test)]
mod tests {
    use keel_format::VolumeKind;

    use super::*;
    use crate::renew::Flag;

    #[test]
    fn what_is_typed_for_table_and_entries_becomes_a_step_or_is_named() {
        assert_eq!(of_table(" New GPT"), Ok(Step::Table(NewTable::Of(Scheme::Gpt))));
        assert_eq!(of_table("new none"), Ok(Step::Table(NewTable::None)));
        assert_eq!(of_table("mark"), Ok(Step::Table(NewTable::Mark)));
        assert_eq!(of_table("convert mbr"), Ok(Step::Convert(Scheme::Mbr)));
        for text in ["", "gpt", "new", "new apm", "convert none", "mark gpt"] {
            assert!(of_table(text).unwrap_err().to_string().contains("new gpt"), "{text}");
        }
        let entry = |text: &str| of_entry(3, text, SectorSize(512));
        let wish = Wish { label: "QUAY".into(), ..Wish::plain(VolumeKind::ExFat) };
        assert_eq!(entry("format exfat,label=QUAY"), Ok(Step::Format(3, wish)));
        assert_eq!(entry("grow rest"), Ok(Step::Grow(3, Size::Rest)));
        assert_eq!(entry("shrink 20 MB"), Ok(Step::Shrink(3, Size::Bytes(20_000_000))));
        assert_eq!(entry("shrink least"), Ok(Step::Shrink(3, Size::Least)));
        assert_eq!(entry("flag hidden,read-only"), Ok(Step::Flags(3, vec![Flag::Hidden, Flag::ReadOnly])));
        assert_eq!(entry("name Night crossings"), Ok(Step::Name(3, "Night crossings".into())));
        assert_eq!(entry("delete"), Ok(Step::Delete(3)));
        for text in ["", "remove", "delete 4", "grow", "grow much", "type", "flag bold", "format", "format xfs"] {
            assert!(entry(text).is_err(), "{text}");
        }
    }
}
