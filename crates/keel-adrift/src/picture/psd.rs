//! Layered drawings (`8BPS`): sections by their lengths, the picture by the lengths of its rows.

use crate::judged::{Facts, Read};
use crate::walk::{Step, Walk, wrong};

/// Walks a drawing, also of the large form.
pub(crate) fn read(walk: &mut Walk<'_>) -> Step<Read> {
    let large = walk.be16(4)? == 2;
    let (channels, height, width, depth) = (walk.be16(12)?, walk.be32(14)?, walk.be32(18)?, walk.be16(22)?);
    let is_sane = (1..=56).contains(&channels) && matches!(depth, 1 | 8 | 16 | 32) && (1..=300_000).contains(&height);
    if !is_sane || !(1..=300_000).contains(&width) {
        return wrong("its header is none");
    }
    let mut at = 26;
    for section in 0..3 {
        let wide = large && section == 2;
        let len = if wide { walk.be64(at)? } else { u64::from(walk.be32(at)?) };
        at = at.saturating_add(if wide { 8 } else { 4 }).saturating_add(len);
        walk.reaches(at)?;
        walk.hold(at);
    }
    let rows = u64::from(channels) * u64::from(height);
    let row = (u64::from(width) * u64::from(depth)).div_ceil(8);
    let end = match walk.be16(at)? {
        0 => at + 2 + rows * row,
        1 => {
            let each = if large { 4 } else { 2 };
            let (mut packed, mut rest) = (0u64, Vec::new());
            walk.pieces(at + 2, at + 2 + rows * each, &mut |piece| {
                rest.extend_from_slice(piece);
                let whole = rest.len() / each as usize * each as usize;
                packed += rest.drain(..whole).as_slice().chunks_exact(each as usize).map(be).sum::<u64>();
            })?;
            at + 2 + rows * each + packed
        }
        _ => return wrong("its picture is packed in a way that is not known"),
    };
    walk.reaches(end)?;
    walk.trust(u64::MAX);
    walk.hold(end);
    let facts = Facts { pixels: Some((width, height)), ..Facts::default() };
    Ok(Read::to(end, "its sections and rows lead to its end").named(if large { "psb" } else { "psd" }).telling(facts))
}

fn be(bytes: &[u8]) -> u64 {
    bytes.iter().fold(0, |all, byte| all << 8 | u64::from(*byte))
}
