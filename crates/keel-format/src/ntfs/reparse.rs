//! Reparse points: symbolic links and mount points, and files whose content is kept elsewhere. Source: [MS-FSCC] 2.1.2, little-endian.

use super::wof::Packing;
use crate::View;

/// `IO_REPARSE_TAG_MOUNT_POINT`.
const MOUNT_POINT: u32 = 0xA000_0003;
/// `IO_REPARSE_TAG_SYMLINK`.
const SYMLINK: u32 = 0xA000_000C;

/// `IO_REPARSE_TAG_LX_SYMLINK`: four bytes of a version, and the target as UTF-8.
const LX_SYMLINK: u32 = 0xA000_001D;
/// `IO_REPARSE_TAG_WOF`.
const WOF: u32 = 0x8000_0017;
/// `IO_REPARSE_TAG_DEDUP`.
const DEDUP: u32 = 0x8000_0013;
/// `IO_REPARSE_TAG_CLOUD`, of which one of the digits counts kinds.
const CLOUD: u32 = 0x9000_001A;
const CLOUD_MASK: u32 = 0xFFFF_0FFF;

/// `FILE_ATTRIBUTE_REPARSE_POINT`.
pub(super) const ATTRIBUTE: u32 = 0x400;

/// True for a tag of a link: a symbolic link of either system, or a mount point. Other tags change what a file holds, not what it is.
pub(super) fn is_link(tag: u32) -> bool {
    matches!(tag, MOUNT_POINT | SYMLINK | LX_SYMLINK)
}

/// How the content of a file with this reparse point is packed in a stream of its own.
pub(super) fn packing(view: View<'_>) -> Option<Packing> {
    (view.u32(0, "ReparseTag").ok()? == WOF).then(|| Packing::parse(view))?
}

/// Why the main stream of a file with this reparse point holds nothing but holes; none where it should hold its content.
pub(super) fn content_elsewhere(view: View<'_>) -> Option<&'static str> {
    match view.u32(0, "ReparseTag").ok()? {
        WOF => Some("the content is packed in an archive or in a way that is not known here; this stream holds only zeros"),
        DEDUP => {
            Some("the content is kept once for many files in the System Volume Information folder; this one holds only zeros")
        }
        tag if tag & CLOUD_MASK == CLOUD => {
            Some("the content was never on this drive: a service holds it, and only its name and size stand here")
        }
        _ => None,
    }
}

/// Where the reparse point in `view` leads: its print name, or the substitute name where it has none; `\\` as `/`. None for
/// other tags.
pub(super) fn target(view: View<'_>) -> Option<String> {
    let buffer = match view.u32(0, "ReparseTag").ok()? {
        MOUNT_POINT => 16,
        SYMLINK => 20,
        LX_SYMLINK => {
            let len = usize::from(view.u16(4, "ReparseDataLength").ok()?).checked_sub(4)?;
            let text = String::from_utf8_lossy(view.slice(12, len, "Target").ok()?).into_owned();
            return Some(text).filter(|text| !text.is_empty());
        }
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
    fn a_link_of_the_other_system_is_text_and_a_cut_off_one_is_none() {
        let mut bytes = [&LX_SYMLINK.to_le_bytes()[..], &[12, 0, 0, 0], &2u32.to_le_bytes(), b"../berth"].concat();
        assert_eq!(target(View::new("reparse point", ByteOffset(0), &bytes)).as_deref(), Some("../berth"));
        bytes.truncate(15);
        assert_eq!(target(View::new("reparse point", ByteOffset(0), &bytes)), None);
    }

    #[test]
    fn content_that_is_kept_elsewhere_is_told_by_its_tag() {
        let told = |tag: u32| content_elsewhere(View::new("reparse point", ByteOffset(0), &tag.to_le_bytes()));
        assert!(told(WOF).unwrap().contains("packed") && told(DEDUP).is_some());
        assert!(told(0x9000_601A).unwrap().contains("never on this drive"));
        assert_eq!((told(SYMLINK), told(0x8000_001B)), (None, None));
        assert_eq!(content_elsewhere(View::new("reparse point", ByteOffset(0), &[1])), None);
    }

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
