//! Tables that every volume holds the same: which attributes there are, and the upper case of each unit.

use crate::up_case;

/// Attributes: name, type, flags, least and most bytes. All are compared as bytes.
const ATTRIBUTES: &[(&str, u32, u32, u64, u64)] = &[
    ("$STANDARD_INFORMATION", 0x10, RESIDENT, 0x30, 0x48),
    ("$ATTRIBUTE_LIST", 0x20, OUTSIDE, 0, u64::MAX),
    ("$FILE_NAME", 0x30, RESIDENT | INDEXED, 0x44, 0x242),
    ("$OBJECT_ID", 0x40, RESIDENT, 0, 0x100),
    ("$SECURITY_DESCRIPTOR", 0x50, OUTSIDE, 0, u64::MAX),
    ("$VOLUME_NAME", 0x60, RESIDENT, 2, 0x100),
    ("$VOLUME_INFORMATION", 0x70, RESIDENT, 12, 12),
    ("$DATA", 0x80, 0, 0, u64::MAX),
    ("$INDEX_ROOT", 0x90, RESIDENT, 0, u64::MAX),
    ("$INDEX_ALLOCATION", 0xA0, OUTSIDE, 0, u64::MAX),
    ("$BITMAP", 0xB0, OUTSIDE, 0, u64::MAX),
    ("$REPARSE_POINT", 0xC0, OUTSIDE, 0, 0x4000),
    ("$EA_INFORMATION", 0xD0, RESIDENT, 8, 8),
    ("$EA", 0xE0, 0, 0, 0x1_0000),
    ("$LOGGED_UTILITY_STREAM", 0x100, OUTSIDE, 0, 0x1_0000),
];
/// May be indexed.
const INDEXED: u32 = 2;
/// Always in the record.
const RESIDENT: u32 = 0x40;
/// May lie outside of it.
const OUTSIDE: u32 = 0x80;
/// Bytes of a name.
const NAME_BYTES: usize = 128;

/// What the tables of newer systems say otherwise than the one that exFAT recommends.
const NEWER: &[up_case::Run] = &[
    (570, 570, 1, 0),
    (574, 574, 1, 0),
    (592, 592, 1, 10783),
    (593, 593, 1, 10780),
    (625, 625, 1, 10749),
    (881, 883, 2, -1),
    (887, 887, 1, -1),
    (962, 962, 1, 0),
    (983, 983, 1, -8),
    (1301, 1315, 2, -1),
    (7545, 7545, 1, 35332),
    (7931, 7935, 2, -1),
    (8131, 8131, 1, 9),
    (8140, 8140, 1, 0),
    (8179, 8179, 1, 9),
    (8188, 8188, 1, 0),
    (11365, 11365, 1, -10795),
    (11366, 11366, 1, -10792),
    (11379, 11379, 1, -1),
    (42561, 42591, 2, -1),
    (42595, 42605, 2, -1),
    (42625, 42647, 2, -1),
    (42787, 42799, 2, -1),
    (42803, 42863, 2, -1),
    (42874, 42876, 2, -1),
    (42879, 42887, 2, -1),
    (42892, 42892, 1, -1),
];

/// The content of `$AttrDef`.
pub(super) fn attribute_definitions() -> Vec<u8> {
    let mut bytes = Vec::new();
    for (name, type_code, flags, least, most) in ATTRIBUTES {
        let mut entry: Vec<u8> = name.encode_utf16().flat_map(u16::to_le_bytes).collect();
        entry.resize(NAME_BYTES, 0);
        // Behind the type: how it is shown and how it is compared.
        entry.extend([*type_code, 0, 0, *flags].iter().flat_map(|word| word.to_le_bytes()));
        entry.extend([*least, *most].iter().flat_map(|word| word.to_le_bytes()));
        bytes.extend(entry);
    }
    // An empty entry ends them.
    bytes.resize(bytes.len() + NAME_BYTES + 32, 0);
    bytes
}

/// The content of `$UpCase`.
pub(super) fn up_case() -> Vec<u8> {
    up_case::table(NEWER).iter().flat_map(|unit| unit.to_le_bytes()).collect()
}
