//! Mapping pairs: where a non-resident attribute lies.

use crate::{FormatError, View};

/// The most runs one attribute record may hold: its bytes allow no more, and a value of more parts than this does not
/// fit any attribute list.
const MOST_RUNS: usize = 1 << 20;

/// A stretch of clusters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// First virtual cluster.
    pub vcn: u64,
    /// First logical cluster; `None` for a hole.
    pub lcn: Option<u64>,
    /// Count of clusters.
    pub clusters: u64,
}

/// Decodes the mapping pairs that fill `view`, the first of them at virtual cluster `lowest_vcn`. Runs must lie below
/// cluster `limit` of the volume.
///
/// # Errors
/// [`FormatError`] at the first pair that cannot be; bounded by the bytes there are.
pub(crate) fn decode(view: View<'_>, lowest_vcn: u64, limit: u64) -> Result<Vec<Run>, FormatError> {
    let mut runs = Vec::new();
    let mut offset = 0;
    let mut vcn = lowest_vcn;
    let mut lcn = 0i64;
    while runs.len() < MOST_RUNS {
        let head = view.u8(offset, "mapping pair")?;
        if head == 0 {
            break;
        }
        let (length_bytes, lcn_bytes) = (usize::from(head & 15), usize::from(head >> 4));
        if length_bytes == 0 || length_bytes > 8 || lcn_bytes > 8 {
            return Err(view.wrong(offset, "mapping pair", u64::from(head), "1 to 8 length bytes, 0 to 8 LCN bytes"));
        }
        let clusters = number(view.slice(offset + 1, length_bytes, "run length")?, false).cast_unsigned();
        let delta = view.slice(offset + 1 + length_bytes, lcn_bytes, "run LCN")?;
        let end = vcn.checked_add(clusters).filter(|end| clusters > 0 && *end <= 1 << 48);
        let Some(end) = end else {
            return Err(view.wrong(offset, "run length", clusters, "1 to 2^48 clusters"));
        };
        let place = if lcn_bytes == 0 {
            None
        } else {
            lcn = lcn.wrapping_add(number(delta, true));
            let first = u64::try_from(lcn).ok().filter(|first| first.checked_add(clusters).is_some_and(|end| end <= limit));
            let Some(first) = first else {
                return Err(view.wrong(offset, "run LCN", lcn.cast_unsigned(), "clusters of the volume"));
            };
            Some(first)
        };
        runs.push(Run { vcn, lcn: place, clusters });
        vcn = end;
        offset += 1 + length_bytes + lcn_bytes;
    }
    Ok(runs)
}

/// A little-endian number of 0 to 8 bytes; `signed` extends its sign.
fn number(bytes: &[u8], signed: bool) -> i64 {
    let mut wide = [if signed && bytes.last().is_some_and(|top| top & 0x80 != 0) { 0xFF } else { 0 }; 8];
    for (slot, byte) in wide.iter_mut().zip(bytes) {
        *slot = *byte;
    }
    i64::from_le_bytes(wide)
}

/// Sorts runs of several attribute records and checks that they follow one another without a gap from 0 on; what lies
/// behind a gap is dropped. True when nothing was.
pub(crate) fn join(runs: &mut Vec<Run>) -> bool {
    runs.sort_by_key(|run| run.vcn);
    let mut next = 0;
    let whole = runs.iter().position(|run| {
        let gap = run.vcn != next;
        next = run.vcn + run.clusters;
        gap
    });
    match whole {
        Some(keep) => {
            runs.truncate(keep);
            false
        }
        None => true,
    }
}
