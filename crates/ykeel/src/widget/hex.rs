//! Bytes as a table of hexadecimal numbers and characters.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::put;
use crate::theme::Theme;

/// Columns that a line of sixteen bytes takes.
pub(crate) const WIDTH: u16 = 12 + 16 * 3 + 2 + 16;

/// One line of sixteen bytes at offset `at`; those for which `marked` says so stand out.
pub(crate) fn line(buf: &mut Buffer, area: Rect, y: u16, at: u64, bytes: &[u8], theme: Theme, marked: impl Fn(usize) -> bool) {
    put(buf, area, 0, y, &format!("{at:>11x}"), theme.dim());
    for (index, byte) in bytes.iter().take(16).enumerate() {
        let column = u16::try_from(index).unwrap_or(0);
        let style = match (marked(index), *byte) {
            (true, _) => theme.staged(),
            (false, 0) => theme.dim(),
            _ => theme.text(),
        };
        put(buf, area, 13 + column * 3, y, &format!("{byte:02x}"), style);
        let sign = if (0x20..0x7F).contains(byte) { char::from(*byte) } else { '·' };
        put(buf, area, 14 + 48 + column, y, &sign.to_string(), style);
    }
}
