//! What fails on the surface of a simulated drive: places that never read, read sometimes, read late, or go bad while they
//! are read. The same in every run.

use std::collections::HashMap;
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};

use serde::Deserialize;

use crate::memory::blank_out;
use crate::{ByteOffset, ByteRange, SectorSize};

/// The most sectors whose tries are counted apart: a bound on memory.
const MOST_COUNTED: usize = 1 << 20;

/// When a request for a flaky sector fails.
#[derive(Debug, Clone, Copy)]
pub(super) enum Fails {
    /// Until it was asked for so often.
    Until(u32),
    /// By chance: this share, of 65536.
    Share { of_65536: u64, seed: u64 },
}

/// A place that reads sometimes.
#[derive(Debug, Clone, Copy)]
pub(super) struct Flaky {
    pub(super) range: ByteRange,
    pub(super) fails: Fails,
}

/// A place that takes its time: `ms` for a sector, and `grows_ms` more with each request that touched the place before.
#[derive(Debug, Clone, Copy)]
pub(super) struct Slow {
    pub(super) range: ByteRange,
    pub(super) ms: u64,
    pub(super) grows_ms: u64,
}

/// What a dead head leaves: the first `width` of every `every` bytes of `range`.
#[derive(Debug, Clone, Copy)]
pub(super) struct Stripes {
    pub(super) range: ByteRange,
    pub(super) every: u64,
    pub(super) width: u64,
}

/// Places that go bad while the drive is read: after `after_reads` requests, one in `one_in` leaves `sectors` dead ones.
#[derive(Deserialize, Debug, Clone, Copy)]
#[serde(deny_unknown_fields)]
pub(super) struct Grown {
    #[serde(default)]
    pub(super) after_reads: u64,
    pub(super) one_in: u64,
    pub(super) sectors: u64,
    #[serde(default)]
    pub(super) seed: u64,
}

/// All that fails, and what came of it so far.
pub(super) struct Faults {
    /// Ascending.
    bad: Vec<ByteRange>,
    unwritable: Vec<ByteRange>,
    /// Ascending.
    flaky: Vec<Flaky>,
    slow: Vec<(Slow, AtomicU64)>,
    stripes: Vec<Stripes>,
    grown_rule: Option<Grown>,
    grown: Mutex<Vec<ByteRange>>,
    tried: Mutex<HashMap<u64, u32>>,
    unit: u64,
}

impl Faults {
    pub(super) fn new(
        bad: Vec<ByteRange>,
        unwritable: Vec<ByteRange>,
        flaky: Vec<Flaky>,
        slow: Vec<Slow>,
        stripes: Vec<Stripes>,
        grown_rule: Option<Grown>,
        sector: SectorSize,
    ) -> Self {
        let slow = slow.into_iter().map(|slow| (slow, AtomicU64::new(0))).collect();
        let (grown, tried) = (Mutex::default(), Mutex::default());
        Self { bad, unwritable, flaky, slow, stripes, grown_rule, grown, tried, unit: sector.bytes() }
    }

    /// The dead places in `wanted`, ascending, blanked in `buf`. Request number `number` may leave new ones.
    pub(super) fn dead(&self, wanted: ByteRange, buf: &mut [u8], number: u64) -> Vec<ByteRange> {
        if let (Some(rule), Ok(mut grown)) = (self.grown_rule, self.grown.lock())
            && number >= rule.after_reads
            && scattered(rule.seed, number).is_multiple_of(rule.one_in)
        {
            // Somewhere in what was just read.
            let sectors = (wanted.len() / self.unit).max(1);
            let first = wanted.start.0 / self.unit + scattered(rule.seed ^ 0x6d75_6420, number) % sectors;
            grown.push(ByteRange::sized(ByteOffset(first * self.unit), rule.sectors * self.unit));
        }
        let mut places: Vec<ByteRange> = near(&self.bad, wanted).to_vec();
        places.extend(self.stripes.iter().flat_map(|stripes| stripes.within(wanted)));
        if let Ok(grown) = self.grown.lock() {
            places.extend(grown.iter().filter(|range| range.overlap(wanted).is_some()));
        }
        places.sort_by_key(|range| range.start);
        blank_out(&places, wanted, buf)
    }

    /// The sectors of flaky places in `wanted` that fail this time, blanked in `buf`; each comes nearer to reading. With
    /// `once` the first one only.
    pub(super) fn not_yet(&self, wanted: ByteRange, buf: &mut [u8], once: bool) -> Vec<ByteRange> {
        let unit = self.unit;
        let mut failing = Vec::new();
        let Ok(mut tried) = self.tried.lock() else { return failing };
        for flaky in &self.flaky {
            let Some(both) = flaky.range.overlap(wanted).filter(|_| !once || failing.is_empty()) else { continue };
            for sector in both.start.0 / unit..both.end.0.div_ceil(unit) {
                if tried.len() >= MOST_COUNTED {
                    tried.clear();
                }
                let count = tried.entry(sector).or_default();
                let fails = match flaky.fails {
                    Fails::Until(tries) => *count < tries,
                    Fails::Share { of_65536, seed } => scattered(seed ^ sector, u64::from(*count)) % 65536 < of_65536,
                };
                *count = count.saturating_add(1);
                if fails {
                    failing.push(ByteRange::sized(ByteOffset(sector * unit), unit));
                    if once {
                        break;
                    }
                }
            }
        }
        blank_out(&failing, wanted, buf)
    }

    /// Virtual milliseconds that reading `wanted` costs beside the rest.
    pub(super) fn slowness(&self, wanted: ByteRange) -> u64 {
        let cost = |(slow, times): &(Slow, AtomicU64)| {
            let sectors = slow.range.overlap(wanted)?.len().div_ceil(self.unit);
            let more = if slow.grows_ms > 0 { times.fetch_add(1, Ordering::Relaxed).saturating_mul(slow.grows_ms) } else { 0 };
            Some(sectors.saturating_mul(slow.ms).saturating_add(more))
        };
        self.slow.iter().filter_map(cost).sum()
    }

    /// The first place in `wanted` that takes no write.
    pub(super) fn unwritable(&self, wanted: ByteRange) -> Option<ByteOffset> {
        let stripes = self.stripes.iter().flat_map(|stripes| stripes.within(wanted));
        let lists = self.bad.iter().chain(&self.unwritable).copied();
        lists.chain(stripes).filter_map(|range| range.overlap(wanted)).map(|hit| hit.start).min()
    }

    /// Sectors that went bad since the drive was opened.
    pub(super) fn grown_sectors(&self) -> u64 {
        let bytes: u64 = self.grown.lock().map_or(0, |grown| grown.iter().map(|range| range.len()).sum());
        bytes / self.unit
    }

    /// The next dead place at or after `from`, of those that do not change.
    pub(super) fn next_dead(&self, from: ByteOffset) -> Option<ByteRange> {
        let index = self.bad.partition_point(|range| range.end <= from);
        let listed = self.bad.get(index).map(|range| ByteRange::new(range.start.max(from), range.end));
        let striped = self.stripes.iter().filter_map(|stripes| stripes.next(from));
        listed.into_iter().chain(striped).min_by_key(|range| range.start)
    }
}

/// The part of `ranges`, ascending, that reaches into `wanted`.
fn near(ranges: &[ByteRange], wanted: ByteRange) -> &[ByteRange] {
    let from = ranges.partition_point(|range| range.end <= wanted.start);
    let rest = ranges.get(from..).unwrap_or_default();
    rest.get(..rest.partition_point(|range| range.start < wanted.end)).unwrap_or_default()
}

impl Stripes {
    fn next(&self, from: ByteOffset) -> Option<ByteRange> {
        let place = from.max(self.range.start) - self.range.start;
        let turn = place / self.every;
        let inside = place % self.every < self.width;
        let start = if inside { place } else { (turn + 1).saturating_mul(self.every) };
        let end = (start / self.every).saturating_mul(self.every).saturating_add(self.width);
        ByteRange::new(self.range.start + start, self.range.start + end).overlap(self.range)
    }

    fn within(&self, wanted: ByteRange) -> impl Iterator<Item = ByteRange> {
        let mut at = wanted.start;
        std::iter::from_fn(move || {
            let next = self.next(at)?.overlap(wanted)?;
            at = next.end;
            Some(next)
        })
    }
}

/// A number for each request that looks like chance and is the same in every run.
pub(super) fn scattered(seed: u64, number: u64) -> u64 {
    let mixed = seed.wrapping_add(number.wrapping_mul(0x9E37_79B9_7F4A_7C15));
    let mixed = (mixed ^ (mixed >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    (mixed ^ (mixed >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB) >> 8
}

#[cfg(test)]
mod tests {
    use super::*;

    fn range(start: u64, end: u64) -> ByteRange {
        ByteRange::new(ByteOffset(start), ByteOffset(end))
    }

    fn faults(change: impl FnOnce(&mut Faults)) -> Faults {
        let mut all = Faults::new(Vec::new(), Vec::new(), Vec::new(), Vec::new(), Vec::new(), None, SectorSize(512));
        change(&mut all);
        all
    }

    #[test]
    fn dead_places_are_blanked_and_named_within_what_is_wanted() {
        let all = faults(|all| all.bad = vec![range(512, 1024), range(4096, 8192)]);
        let mut buf = [9; 1024];
        assert_eq!(all.dead(range(768, 1792), &mut buf, 0), [range(768, 1024)]);
        assert!(buf[..256] == [0; 256] && buf[256] == 9);
        assert_eq!(all.next_dead(ByteOffset(0)), Some(range(512, 1024)));
        assert_eq!(all.next_dead(ByteOffset(600)), Some(range(600, 1024)));
        assert_eq!(all.next_dead(ByteOffset(8192)), None);
        assert_eq!(all.unwritable(range(0, 4000)), Some(ByteOffset(512)), "what is dead takes no write either");
    }

    #[test]
    fn stripes_of_a_dead_head_come_again_and_again_and_end_with_their_range() {
        let all = faults(|all| all.stripes = vec![Stripes { range: range(1000, 5000), every: 1000, width: 100 }]);
        let mut buf = vec![1; 6000];
        let dead = all.dead(range(0, 6000), &mut buf, 0);
        assert_eq!(dead, [range(1000, 1100), range(2000, 2100), range(3000, 3100), range(4000, 4100)]);
        assert_eq!(all.next_dead(ByteOffset(4100)), None);
        assert_eq!(all.dead(range(1100, 2000), &mut [1; 900], 0), []);
    }

    #[test]
    fn a_flaky_place_reads_after_so_many_tries_sector_by_sector() {
        let all = faults(|all| all.flaky = vec![Flaky { range: range(512, 2048), fails: Fails::Until(2) }]);
        let mut buf = [1; 4096];
        assert_eq!(all.not_yet(range(0, 4096), &mut buf, false).len(), 3);
        // Asked for once: the request ends at the first sector that fails.
        assert_eq!(all.not_yet(range(0, 4096), &mut buf, true), [range(512, 1024)]);
        assert_eq!(all.not_yet(range(512, 1024), &mut [1; 512], false), [], "its third try");
        assert_eq!(all.not_yet(range(1024, 2048), &mut [1; 1024], false).len(), 2);
        assert_eq!(all.not_yet(range(0, 4096), &mut buf, false), []);
    }

    #[test]
    fn chance_is_the_same_in_every_run_and_keeps_its_share() {
        let failed = || {
            let all = faults(|all| {
                all.flaky = vec![Flaky { range: range(0, 512 * 4000), fails: Fails::Share { of_65536: 16_384, seed: 3 } }];
            });
            let mut buf = vec![1; 512 * 4000];
            all.not_yet(range(0, 512 * 4000), &mut buf, false)
        };
        let first = failed();
        assert_eq!(first, failed());
        let sectors: u64 = first.iter().map(|range| range.len() / 512).sum();
        assert!((900..1100).contains(&sectors), "a quarter of 4000: {sectors}");
        assert_ne!(scattered(1, 1), scattered(2, 1));
    }

    #[test]
    fn slow_places_cost_by_the_sector_and_more_each_time_they_are_touched() {
        let all = faults(|all| {
            all.slow = vec![(Slow { range: range(0, 5120), ms: 10, grows_ms: 100 }, AtomicU64::new(0))];
        });
        assert_eq!(all.slowness(range(0, 1024)), 20);
        assert_eq!(all.slowness(range(0, 1024)), 120);
        assert_eq!(all.slowness(range(5120, 9000)), 0);
        assert_eq!(all.slowness(range(4608, 9000)), 210);
    }

    #[test]
    fn a_drive_that_dies_while_it_is_read_loses_sectors_where_it_was_read() {
        let rule = Grown { after_reads: 10, one_in: 1, sectors: 2, seed: 5 };
        let all = faults(|all| all.grown_rule = Some(rule));
        let wanted = range(1 << 20, 2 << 20);
        let mut buf = vec![1; 1 << 20];
        assert_eq!(all.dead(wanted, &mut buf, 9), [], "not yet");
        let dead = all.dead(wanted, &mut buf, 10);
        assert_eq!(all.grown_sectors(), 2);
        assert!(dead.iter().all(|range| wanted.overlap(*range).is_some()));
        assert_eq!(all.next_dead(ByteOffset(0)), None, "what may still change is not told beforehand");
    }
}
