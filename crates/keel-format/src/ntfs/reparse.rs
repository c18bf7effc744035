//! Reparse points: symbolic links and mount points. Source: [MS-FSCC] 2.1.2, little-endian.

use crate::View;

/// `IO_REPARSE_TAG_MOUNT_POINT`.
const MOUNT_POINT: u32 = 0xA000_0003;
/// `IO_REPARSE_TAG_SYMLINK`.
const SYMLINK: u32 = 0xA000_000C;

/// Where the reparse point in `view` leads: its print name, or the substitute name where it has none; `\\` as `/`. None for
/// other tags.
pub(super) fn target(view: View<'_>) -> Option<String> {
    let buffer = match view.u32(0, "ReparseTag").ok()? {
        MOUNT_POINT => 16,
        SYMLINK => 20,
        _ => return None,
    };
    let name = |offset: usize| {
        let (at, len) = (view.u16(offset, "offset").ok()?, view.u16(offset + 2, "length").ok()?);
        let bytes = view.slice(buffer + usize::from(at), usize::from(len), "name").ok()?;
        let text = super::utf16_text(bytes.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair)));
        (!text.is_empty()).then_some(text)
    };
    // SubstituteName stands at 8, PrintName at 12.
    let text = name(12).or_else(|| name(8))?;
    Some(text.trim_start_matches("\\??\\").replace('\\', "/"))
}

#[cfg(test)]
mod tests {
    use keel_source::ByteOffset;

    use super::*;

    #[test]
    fn a_symbolic_link_leads_where_its_print_name_says() {
        let units: Vec<u8> = "..\\Timetables".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let mut bytes = SYMLINK.to_le_bytes().to_vec();
        bytes.extend([0; 4]);
        let len = u16::try_from(units.len()).unwrap().to_le_bytes();
        bytes.extend([0, 0]);
        bytes.extend(len);
        bytes.extend([0, 0]);
        bytes.extend(len);
        bytes.extend(1u32.to_le_bytes());
        bytes.extend(&units);
        assert_eq!(target(View::new("reparse point", ByteOffset(0), &bytes)).as_deref(), Some("../Timetables"));
        bytes[0] = 0x99;
        assert_eq!(target(View::new("reparse point", ByteOffset(0), &bytes)), None);
        assert_eq!(target(View::new("reparse point", ByteOffset(0), &[3, 0, 0, 0xA0, 1])), None);
    }
}
