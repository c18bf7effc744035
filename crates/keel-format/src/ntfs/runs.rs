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

/// The mapping pairs of `runs`, which follow one another from virtual cluster 0 on, with the zero that ends them.
#[must_use]
pub(crate) fn encode(runs: &[Run]) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut before = 0i64;
    for run in runs {
        let length = shortest(run.clusters.cast_signed());
        let place = run.lcn.map(|lcn| {
            let delta = lcn.cast_signed().wrapping_sub(before);
            before = lcn.cast_signed();
            shortest(delta)
        });
        let place = place.unwrap_or_default();
        bytes.push(u8::try_from(place.len() << 4 | length.len()).unwrap_or(0));
        bytes.extend(length);
        bytes.extend(place);
    }
    bytes.push(0);
    bytes
}

/// The fewest bytes that hold a signed number, little-endian.
fn shortest(number: i64) -> Vec<u8> {
    let wide = number.to_le_bytes();
    let fits = |count: &usize| {
        let shift = 64 - u32::try_from(*count).unwrap_or(8) * 8;
        number << shift >> shift == number
    };
    let count = (1..8).find(fits).unwrap_or(8);
    wide.iter().take(count).copied().collect()
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

#[cfg(test)]
mod tests {
    use keel_source::ByteOffset;

    use super::*;

    #[test]
    fn pairs_that_are_written_read_the_same() {
        let mut vcn = 0;
        let places = [Some(4u64), None, Some(786_432), Some(3), Some(0x7F), Some(0x80), Some(1 << 40)];
        let runs: Vec<Run> = places
            .into_iter()
            .zip([1u64, 127, 128, 65_535, 1 << 20, 3, 40])
            .map(|(lcn, clusters)| {
                let run = Run { vcn, lcn, clusters };
                vcn += clusters;
                run
            })
            .collect();
        let bytes = encode(&runs);
        assert_eq!(decode(View::new("pairs", ByteOffset(0), &bytes), 0, 1 << 48).unwrap(), runs);
        assert_eq!(encode(&[]), [0]);
    }
}
