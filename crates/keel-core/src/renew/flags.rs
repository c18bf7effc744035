//! Marks of entries, and what of them each scheme can say.

use keel_format::table::{TypeCode, gpt, mbr};

use super::entry::{Drafted, NotDrafted};
use super::step::Flag;

/// `BootIndicator` of an active entry.
pub(super) const BOOT_INDICATOR: u64 = 0x80;
/// `OSType` bit of hidden types.
pub(super) const HIDDEN_TYPE: u8 = 0x10;

fn bit(flag: Flag) -> u64 {
    match flag {
        Flag::Active => gpt::LEGACY_BOOTABLE,
        Flag::Hidden => gpt::HIDDEN,
        Flag::ReadOnly => gpt::READ_ONLY,
        Flag::NoAutomaticMount => gpt::NO_AUTOMATIC_MOUNT,
        Flag::Required => gpt::REQUIRED,
    }
}

/// The marks of an entry.
#[must_use]
pub fn of(entry: &Drafted) -> Vec<Flag> {
    let has = |flag: &Flag| match entry.type_code {
        TypeCode::Gpt(_) => entry.attributes & bit(*flag) != 0,
        TypeCode::Mbr(code) => match flag {
            Flag::Active => entry.attributes & BOOT_INDICATOR != 0,
            Flag::Hidden => mbr::hidden_form(code).is_some(),
            Flag::ReadOnly | Flag::NoAutomaticMount | Flag::Required => false,
        },
        TypeCode::Apm(_) => false,
    };
    Flag::ALL.into_iter().filter(has).collect()
}

/// Sets just these marks; answers what systems make of them.
pub(super) fn set(entry: &mut Drafted, flags: &[Flag]) -> Result<Vec<String>, NotDrafted> {
    let has = |flag: Flag| flags.contains(&flag);
    match entry.type_code {
        TypeCode::Gpt(guid) => {
            let all = Flag::ALL.into_iter().map(bit).fold(0, |all, bit| all | bit);
            let wanted = flags.iter().map(|flag| bit(*flag)).fold(0, |all, bit| all | bit);
            entry.attributes = entry.attributes & !all | wanted;
            let of_data = has(Flag::Hidden) || has(Flag::ReadOnly) || has(Flag::NoAutomaticMount);
            let told = (of_data && guid != gpt::BASIC_DATA).then(|| {
                format!("entry {}: hidden, read-only and no-automatic-mount are marks of basic data; other types may be shown all the same", entry.slot)
            });
            Ok(told.into_iter().collect())
        }
        TypeCode::Mbr(code) => {
            if let Some(flag) = [Flag::ReadOnly, Flag::NoAutomaticMount, Flag::Required].into_iter().find(|flag| has(*flag)) {
                return Err(NotDrafted(format!("an MBR has no mark {}: a GPT has", flag.word())));
            }
            let plain = mbr::hidden_form(code).unwrap_or(code);
            let hidden = plain | HIDDEN_TYPE;
            if has(Flag::Hidden) && mbr::hidden_form(hidden).is_none() {
                return Err(NotDrafted(format!("type 0x{plain:02X} has no hidden form on an MBR")));
            }
            entry.type_code = TypeCode::Mbr(if has(Flag::Hidden) { hidden } else { plain });
            entry.attributes = if has(Flag::Active) { BOOT_INDICATOR } else { 0 };
            Ok(Vec::new())
        }
        TypeCode::Apm(_) => Err(NotDrafted("entries of an Apple partition map are not changed here".into())),
    }
}
