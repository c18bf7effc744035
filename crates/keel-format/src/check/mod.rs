//! Checking a whole volume rule by rule: what each rule asks, what was found, and how it can be mended. Reading only.

#[cfg(test)]
mod tests;

use std::collections::BTreeMap;

use keel_source::{ByteOffset, ByteRange, printable};
use serde::Serialize;

use crate::{Extent, Finding, Repair, Severity, Take, Volume};

/// The most units of allocation that are cross-checked: two maps of 64 MiB.
const MOST_UNITS: u64 = 1 << 29;
/// The most findings that one rule reports.
const MOST_FINDINGS: usize = 50;
/// The most units held twice whose owners are looked for.
const MOST_SHARED: usize = 4096;

/// One rule, run over a volume.
#[derive(Debug, Clone, Serialize)]
pub struct Checked {
    /// Name of the rule.
    pub rule: &'static str,
    /// What it asks, as a sentence.
    pub asks: &'static str,
    /// What is not so. Offsets count from the start of the volume.
    pub findings: Vec<Finding>,
    /// How it can be mended.
    pub mending: Option<Mending>,
}

/// How a rule is made to hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Mending {
    /// What is written.
    #[serde(skip)]
    pub repairs: Vec<Repair>,
    /// What is done, as a sentence.
    pub does: String,
    /// What is lost by it, as a sentence.
    pub loses: String,
    /// False where something is lost: it is staged only when it is asked for.
    pub is_safe: bool,
}

impl Checked {
    /// A rule with what it found.
    #[must_use]
    pub fn new(rule: &'static str, asks: &'static str, findings: Vec<Finding>) -> Self {
        Self { rule, asks, findings, mending: None }
    }

    /// With a way to mend it; none where nothing was found or nothing is to be written.
    #[must_use]
    pub fn mended_by(mut self, mending: Option<Mending>) -> Self {
        let joined = |mending: Mending| Mending { repairs: joined(mending.repairs), ..mending };
        self.mending = mending.map(joined).filter(|mending| !self.findings.is_empty() && !mending.repairs.is_empty());
        self
    }

    /// The worst that was found.
    #[must_use]
    pub fn worst(&self) -> Option<Severity> {
        self.findings.iter().map(|finding| finding.severity).max()
    }
}

/// The largest repair that neighbours are joined to, in bytes.
const LARGEST_JOINED: usize = 1 << 20;

/// Repairs of one structure that stand side by side, as one: a table that is rewritten sector by sector is one change.
fn joined(repairs: Vec<Repair>) -> Vec<Repair> {
    let mut out: Vec<Repair> = Vec::with_capacity(repairs.len().min(1024));
    for repair in repairs {
        let fits = |last: &&mut Repair| {
            let alike = last.name == repair.name && last.reason == repair.reason && last.from == repair.from;
            alike
                && last.is_main == repair.is_main
                && last.copy == repair.copy
                && last.at + last.bytes.len() as u64 == repair.at
                && last.bytes.len() + repair.bytes.len() <= LARGEST_JOINED
        };
        match out.last_mut().filter(fits) {
            Some(last) => last.bytes.extend(repair.bytes),
            None => out.push(repair),
        }
    }
    out
}

impl Mending {
    /// A mending by which nothing is lost.
    #[must_use]
    pub fn safe(does: impl Into<String>, repairs: Vec<Repair>) -> Self {
        Self { repairs, does: does.into(), loses: "nothing is lost".into(), is_safe: true }
    }

    /// A mending that costs something.
    #[must_use]
    pub fn costly(does: impl Into<String>, loses: impl Into<String>, repairs: Vec<Repair>) -> Self {
        Self { repairs, does: does.into(), loses: loses.into(), is_safe: false }
    }
}

impl Repair {
    /// Bytes that a check computed.
    #[must_use]
    pub fn computed(name: impl Into<String>, at: ByteOffset, bytes: Vec<u8>, reason: impl Into<String>) -> Self {
        Self { name: name.into(), at, bytes, from: Take::Computed, copy: None, is_main: true, reason: reason.into() }
    }
}

/// Which bit of a byte counts the first unit.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BitOrder {
    /// The least significant.
    LowFirst,
    /// The most significant.
    HighFirst,
}

/// Which units of a volume are in use, as the volume itself counts them.
#[derive(Debug, Clone)]
pub struct Allocation {
    /// What a unit is called.
    pub unit: &'static str,
    /// Bytes of a unit.
    pub unit_bytes: u64,
    /// Where the first unit stands, in bytes of the volume.
    pub first_at: ByteOffset,
    /// The number of the first unit in the format's own counting.
    pub first_number: u64,
    /// Count of units.
    pub units: u64,
    /// A bit for each unit.
    pub bits: Vec<u8>,
    /// The order of the bits.
    pub order: BitOrder,
    /// Where the bytes of `bits` stand; empty where they do not stand as such.
    pub places: Vec<Extent>,
    /// True when everything that holds units is among the claims, so that what nothing holds is lost.
    pub knows_all: bool,
}

/// The bit of `unit` in a byte.
fn mask(order: BitOrder, unit: u64) -> u8 {
    match order {
        BitOrder::LowFirst => 1 << (unit % 8),
        BitOrder::HighFirst => 0x80 >> (unit % 8),
    }
}

fn index(unit: u64) -> usize {
    usize::try_from(unit / 8).unwrap_or(usize::MAX)
}

impl Allocation {
    /// True when the volume counts `unit` (from 0) as used.
    #[must_use]
    pub fn is_used(&self, unit: u64) -> bool {
        self.bits.get(index(unit)).is_some_and(|byte| byte & mask(self.order, unit) != 0)
    }

    /// The units that the volume counts as used, in ranges, ascending.
    #[must_use]
    pub fn used(&self) -> Vec<std::ops::Range<u64>> {
        let mut ranges = Ranges::default();
        let whole_byte = |unit: u64| self.bits.get(index(unit)).copied();
        let mut unit = 0;
        while unit < self.units {
            if unit % 8 == 0 && whole_byte(unit) == Some(0) {
                unit += 8;
                continue;
            }
            if self.is_used(unit) {
                ranges.push(unit);
            }
            unit += 1;
        }
        ranges.0
    }

    /// The units that `extent` touches.
    fn units_of(&self, extent: &Extent) -> std::ops::Range<u64> {
        let Some(at) = extent.volume_at.filter(|at| *at >= self.first_at) else { return 0..0 };
        let first = (at - self.first_at) / self.unit_bytes.max(1);
        let end = (at - self.first_at).saturating_add(extent.bytes).div_ceil(self.unit_bytes.max(1));
        first.min(self.units)..end.min(self.units)
    }

    /// The bytes that `units` take in the volume.
    #[must_use]
    pub fn range(&self, units: &std::ops::Range<u64>) -> ByteRange {
        ByteRange::sized(self.first_at + units.start * self.unit_bytes, (units.end - units.start) * self.unit_bytes)
    }

    /// The sectors of the bitmap in which `units` are counted as used, or as free.
    #[must_use]
    pub fn marked(&self, units: &[std::ops::Range<u64>], used: bool) -> Vec<Repair> {
        const SECTOR: u64 = 512;
        let mut sectors: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
        for unit in units.iter().flat_map(Clone::clone) {
            let byte = unit / 8;
            let first = byte / SECTOR * SECTOR;
            let sector = sectors.entry(first).or_insert_with(|| {
                let from = usize::try_from(first).unwrap_or(usize::MAX);
                let to = from.saturating_add(512).min(self.bits.len());
                self.bits.get(from..to).unwrap_or_default().to_vec()
            });
            let Some(slot) = usize::try_from(byte - first).ok().and_then(|inside| sector.get_mut(inside)) else { continue };
            if used { *slot |= mask(self.order, unit) } else { *slot &= !mask(self.order, unit) }
        }
        let place = |byte: u64| {
            let extent = self.places.iter().find(|extent| (extent.stream_at..extent.stream_at + extent.bytes).contains(&byte))?;
            Some(extent.volume_at? + (byte - extent.stream_at))
        };
        let word = if used { "used" } else { "free" };
        let repair = |(first, bytes): (u64, Vec<u8>)| {
            Some(Repair::computed("allocation bitmap", place(first)?, bytes, format!("{}s are counted as {word}", self.unit)))
        };
        sectors.into_iter().filter_map(repair).collect()
    }
}

/// Ranges of units, joined as they come.
#[derive(Default)]
struct Ranges(Vec<std::ops::Range<u64>>);

impl Ranges {
    fn push(&mut self, unit: u64) {
        match self.0.last_mut() {
            Some(last) if last.end == unit => last.end += 1,
            _ => self.0.push(unit..unit + 1),
        }
    }

    fn count(&self) -> u64 {
        self.0.iter().map(|range| range.end - range.start).sum()
    }
}

/// What a cross-check of claims and allocation found.
#[derive(Debug, Default)]
pub struct Ground {
    /// Units that two files hold.
    shared: Vec<u64>,
    /// Units that a file holds and the volume counts as free.
    uncounted: Vec<std::ops::Range<u64>>,
    /// Units that the volume counts as used and nothing holds.
    pub unclaimed: Vec<std::ops::Range<u64>>,
}

/// A bit for each unit that some file holds, and what came to light while they were set.
struct Claimed<'a> {
    allocation: &'a Allocation,
    /// The first unit is the lowest bit of the first byte.
    bits: Vec<u8>,
    shared: Vec<u64>,
    uncounted: Ranges,
}

impl Claimed<'_> {
    /// The bits of byte `index` that are counted as used, the first unit lowest.
    fn used(&self, index: usize) -> u8 {
        let byte = self.allocation.bits.get(index).copied().unwrap_or(0);
        if self.allocation.order == BitOrder::HighFirst { byte.reverse_bits() } else { byte }
    }

    /// Sets the bits of `units`, eight at a time.
    fn take(&mut self, units: std::ops::Range<u64>) {
        for index in units.start / 8..units.end.div_ceil(8) {
            let (low, high) = (units.start.max(index * 8) % 8, units.end - index * 8);
            let wanted = u8::MAX << low & if high < 8 { (1u8 << high) - 1 } else { u8::MAX };
            let index = usize::try_from(index).unwrap_or(usize::MAX);
            let used = self.used(index);
            let Some(slot) = self.bits.get_mut(index) else { return };
            let (twice, uncounted) = (*slot & wanted, wanted & !*slot & !used);
            *slot |= wanted;
            for bit in (0..8).filter(|bit| (twice | uncounted) >> bit & 1 == 1) {
                let unit = index as u64 * 8 + bit;
                if twice >> bit & 1 == 1 && self.shared.len() < MOST_SHARED {
                    self.shared.push(unit);
                }
                if uncounted >> bit & 1 == 1 {
                    self.uncounted.push(unit);
                }
            }
        }
    }

    /// Units that are counted as used and were not taken.
    fn unclaimed(&self) -> Ranges {
        let mut left = Ranges::default();
        for (index, taken) in self.bits.iter().enumerate() {
            let lost = self.used(index) & !taken;
            let first = index as u64 * 8;
            let bits = (0..8).filter(|bit| lost >> bit & 1 == 1).map(|bit| first + bit);
            bits.filter(|unit| *unit < self.allocation.units).for_each(|unit| left.push(unit));
        }
        left
    }
}

/// Compares what the files of `volume` hold with what its `allocation` counts.
///
/// # Errors
/// Why that could not be done to the end, as a sentence: too many units, or files whose ground was not seen.
pub fn ground(volume: &dyn Volume, allocation: &Allocation) -> Result<Ground, String> {
    if allocation.units > MOST_UNITS {
        return Err(format!("{} {}s are more than is held in memory (at most {MOST_UNITS})", allocation.units, allocation.unit));
    }
    let bits = vec![0u8; index(allocation.units.div_ceil(8) * 8)];
    let mut claimed = Claimed { allocation, bits, shared: Vec::new(), uncounted: Ranges::default() };
    let mut spent = None;
    let seen = volume.claims(&mut |_, extents| {
        for units in extents.iter().map(|extent| allocation.units_of(extent)) {
            // Many files may claim all there is.
            if spent.is_none() {
                spent = volume.spend(1 + (units.end - units.start) / 64).err();
            }
            if spent.is_none() {
                claimed.take(units);
            }
        }
    });
    if let Some(why) = seen.err().map(|error| error.to_string()).or(spent.map(|spent| spent.why().to_string())) {
        return Err(format!("the ground of all files was not seen: {why}"));
    }
    let unclaimed = if allocation.knows_all { claimed.unclaimed() } else { Ranges::default() };
    Ok(Ground { shared: claimed.shared, uncounted: claimed.uncounted.0, unclaimed: unclaimed.0 })
}

/// Runs every rule over `volume`: its core, the rules of its format, and who holds which ground. Reads all metadata;
/// writes nothing.
#[must_use]
pub fn check(volume: &dyn Volume) -> Vec<Checked> {
    let core = Checked::new("core", "what every reading needs can be read and holds", volume.examine());
    [vec![core], volume.rules(), ground_rules(volume)].concat()
}

/// The rules about ground: nothing is held twice, what is held is counted, what is counted is held.
fn ground_rules(volume: &dyn Volume) -> Vec<Checked> {
    const ONCE: (&str, &str) = ("held once", "no two files hold the same ground");
    const COUNTED: (&str, &str) = ("counted as used", "what files hold is counted as used, so that nothing is written over it");
    const HELD: (&str, &str) = ("held by a file", "what is counted as used is held by a file");
    let Some(allocation) = volume.allocation() else { return Vec::new() };
    let ground = match ground(volume, &allocation) {
        Ok(ground) => ground,
        Err(why) => {
            let finding = Finding::of_all(Severity::Note, "not cross-checked: nothing is said of who holds what", why);
            return vec![Checked::new(COUNTED.0, COUNTED.1, vec![finding])];
        }
    };
    let once = Checked::new(ONCE.0, ONCE.1, shared_findings(volume, &allocation, &ground.shared));
    let found = |ranges: &[std::ops::Range<u64>], severity, says: &str| {
        let count: u64 = ranges.iter().map(|range| range.end - range.start).sum();
        let first = ranges.first().map(|range| allocation.range(range).start)?;
        let number = ranges.first().map_or(0, |range| range.start + allocation.first_number);
        let what = format!("{count} {}s {says}, the first is number {number}", allocation.unit);
        Some(Finding::at(severity, first, what, "the maps of all files against the volume's own count"))
    };
    let counted = found(&ground.uncounted, Severity::Broken, "are held by files and counted as free");
    let repairs = if counted.is_some() { volume.mark(&allocation, &ground.uncounted, true) } else { Vec::new() };
    let counted = Checked::new(COUNTED.0, COUNTED.1, counted.into_iter().collect())
        .mended_by(Some(Mending::safe("they are counted as used", repairs)));
    let mut rules = vec![once, counted];
    if allocation.knows_all {
        let held = found(&ground.unclaimed, Severity::Note, "are counted as used and held by no file");
        let repairs = if held.is_some() { volume.mark(&allocation, &ground.unclaimed, false) } else { Vec::new() };
        let loses = "what they hold, which has no name: take it out first (ykeel check --lost-to DIR)";
        rules.push(Checked::new(HELD.0, HELD.1, held.into_iter().collect()).mended_by(Some(Mending::costly(
            "they are counted as free",
            loses,
            repairs,
        ))));
    }
    rules
}

/// Names the files that hold the same units.
fn shared_findings(volume: &dyn Volume, allocation: &Allocation, shared: &[u64]) -> Vec<Finding> {
    let mut owners: BTreeMap<u64, Vec<String>> = shared.iter().map(|unit| (*unit, Vec::new())).collect();
    if owners.is_empty() {
        return Vec::new();
    }
    // They were all seen a moment ago.
    let _ = volume.claims(&mut |path, extents| {
        for range in extents.iter().map(|extent| allocation.units_of(extent)) {
            for (_, names) in owners.range_mut(range) {
                if names.len() < 4 && names.last().is_none_or(|last| last != path) {
                    names.push(path.to_string());
                }
            }
        }
    });
    let mut by_owners: BTreeMap<Vec<String>, Ranges> = BTreeMap::new();
    for (unit, names) in owners {
        by_owners.entry(names).or_default().push(unit);
    }
    let finding = |(names, units): (Vec<String>, Ranges)| {
        let names: Vec<String> = names.iter().map(|name| printable(name)).collect();
        let at = units.0.first().map(|range| allocation.range(range).start).unwrap_or_default();
        let what = format!("{} {}s are held by {} alike", units.count(), allocation.unit, names.join(" and "));
        Finding::at(Severity::Broken, at, what, "the maps of all files; only one of them can be right")
    };
    by_owners.into_iter().take(MOST_FINDINGS).map(finding).collect()
}
