//! A draft: the table as it shall be, changed a step at a time. Nothing is read of volumes here and nothing is written.

use std::ops::Range;

use keel_format::registry;
use keel_format::table::gpt::make::array_sectors;
use keel_format::table::{Role, Scheme, TableReading, TypeCode};
use keel_source::{Lba, SectorCount, SectorSize, SharedSource, size_decimal};

use super::Size;
use super::entry::{Content, Drafted, NotDrafted, whole};
use super::step::Wish;

/// Entries that an MBR holds by itself.
const PRIMARIES: u32 = 4;
/// Number of the first logical.
const FIRST_LOGICAL: u32 = 5;
/// Sectors behind the last that an MBR can address.
const MBR_END: u64 = 1 << 32;
/// Free ground of fewer steps of alignment is used to its last sector.
const SPARED_FROM: u64 = 16;

/// A draft of a drive's table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Draft {
    /// The scheme; none for a drive that one volume takes, or with no table yet.
    pub scheme: Option<Scheme>,
    /// The entries, by number; of a drive without a table the one volume.
    pub entries: Vec<Drafted>,
    /// True when the table is made anew: new identifiers, no code in sector 0.
    pub is_fresh: bool,
    /// True when the signature and the identifier of sector 0 are written anew.
    pub is_marked: bool,
    /// True when its entries come from a table of another scheme.
    pub is_converted: bool,
    /// First sectors of the entries of the present table.
    pub former: Vec<Lba>,
    /// EBRs of the present table.
    pub former_ebrs: Vec<Lba>,
    /// What the steps lead to beside what was asked, as sentences.
    pub told: Vec<String>,
    /// Logical sector.
    pub sector: SectorSize,
    /// Sectors of the drive.
    pub drive: u64,
    /// Sectors of a step of alignment.
    pub align: u64,
    /// What is wrong with the present table, where steps cannot rest on it.
    pub(super) unsound: Option<String>,
    pub(super) array: (u32, u32),
}

impl Draft {
    /// The drive as its table states it, with new entries aligned to `align` bytes.
    #[must_use]
    pub fn of(source: &SharedSource, table: &TableReading, align: u64) -> Self {
        let sector = source.sector_size();
        let drive = source.len() / sector.bytes();
        let is_made_here = matches!(table.scheme, Some(Scheme::Gpt | Scheme::Mbr));
        let stands = |first: Lba| registry::boot_sector(source.as_ref(), first.offset(sector));
        let entry = |old: &keel_format::table::Partition| Drafted {
            number: Some(old.slot),
            slot: old.slot,
            role: old.role,
            type_code: old.type_code,
            first: old.first,
            sectors: old.sectors,
            name: old.name.clone().unwrap_or_default(),
            unique: old.unique,
            attributes: old.attributes,
            ebr: (old.role == Role::Logical).then(|| old.entry_at.lba(sector)),
            stands: stands(old.first),
            content: Content::Stands,
            fits: None,
            is_chosen: false,
        };
        let mut entries: Vec<Drafted> = table.partitions.iter().filter(|_| is_made_here).map(entry).collect();
        entries.sort_by_key(|entry| entry.slot);
        if table.scheme.is_none()
            && let Some(geometry) = stands(Lba(0)).filter(|_| drive > 0)
        {
            entries.push(Drafted { stands: Some(geometry), ..whole(drive) });
        }
        let wrong = table.findings.iter().find(|finding| finding.severity == keel_format::Severity::Broken);
        Self {
            scheme: table.scheme,
            former: entries.iter().map(|entry| entry.first).collect(),
            former_ebrs: entries.iter().filter_map(|entry| entry.ebr).collect(),
            entries,
            is_fresh: false,
            is_marked: false,
            is_converted: false,
            told: Vec::new(),
            sector,
            drive,
            align: (align / sector.bytes()).max(1),
            unsound: wrong.filter(|_| table.scheme.is_some()).map(|finding| finding.what.clone()),
            array: crate::layout::scheme::array_shape(table),
        }
    }

    /// Changes an entry; what it answers is told.
    pub(super) fn changed(
        &mut self,
        at: usize,
        change: impl FnOnce(&mut Drafted) -> Result<Vec<String>, NotDrafted>,
    ) -> Result<(), NotDrafted> {
        let told = self.entries.get_mut(at).map_or(Ok(Vec::new()), change)?;
        self.told.extend(told);
        Ok(())
    }

    /// The entry with this number in the present table.
    pub(super) fn entry(&self, number: u32) -> Result<usize, NotDrafted> {
        let found = self.entries.iter().position(|entry| entry.number == Some(number) && self.scheme.is_some());
        found.ok_or_else(|| {
            let numbers: Vec<String> = self.entries.iter().filter_map(|entry| Some(entry.number?.to_string())).collect();
            let there = if numbers.is_empty() || self.scheme.is_none() {
                "the table has none".into()
            } else {
                format!("there are {}", numbers.join(", "))
            };
            NotDrafted(format!("there is no entry {number}: {there}"))
        })
    }

    pub(super) fn mark(&mut self) -> Result<(), NotDrafted> {
        if self.scheme != Some(Scheme::Mbr) {
            let has = self.scheme.map_or("no table", Scheme::word);
            return Err(NotDrafted(format!("the signature alone is written anew on an MBR; this drive has {has}")));
        }
        self.is_marked = true;
        Ok(())
    }

    pub(super) fn anew(&mut self, scheme: Option<Scheme>) -> Result<(), NotDrafted> {
        if scheme == Some(Scheme::Apm) {
            return Err(NotDrafted("an Apple partition map is read and not made here: a GPT serves the same computers".into()));
        }
        self.scheme = scheme;
        self.entries.clear();
        self.is_fresh = true;
        self.unsound = None;
        self.array = (128, 128);
        if self.usable().is_empty() {
            return Err(NotDrafted(format!("{} sectors are too few for a table and a volume", self.drive)));
        }
        if scheme == Some(Scheme::Mbr) && self.drive > MBR_END {
            let reach = size_decimal(MBR_END * self.sector.bytes());
            let lost = size_decimal((self.drive - MBR_END) * self.sector.bytes());
            self.told.push(format!(
                "an MBR counts sectors with 32 bits: it reaches {reach} of this drive, and {lost} behind them stay unused; a GPT reaches all"
            ));
        }
        Ok(())
    }

    /// What is wrong with the present table, where nothing can rest on it.
    #[must_use]
    pub fn unsound(&self) -> Option<&str> {
        self.unsound.as_deref()
    }

    /// Sectors in which entries may lie.
    #[must_use]
    pub fn usable(&self) -> Range<u64> {
        match self.scheme {
            None => 0..self.drive,
            Some(Scheme::Gpt) => {
                let array = array_sectors(self.array.0, self.array.1, self.sector);
                2 + array..self.drive.saturating_sub(1 + array)
            }
            Some(Scheme::Mbr | Scheme::Apm) => 1..self.drive.min(MBR_END),
        }
    }

    /// Stretches of sectors that no entry claims, ascending.
    #[must_use]
    pub fn free(&self) -> Vec<Range<u64>> {
        let mut claims: Vec<Range<u64>> = self.entries.iter().map(Drafted::claim).collect();
        claims.sort_by_key(|claim| claim.start);
        let usable = self.usable();
        let mut free = Vec::new();
        let mut next = usable.start;
        for claim in claims {
            if claim.start > next {
                free.push(next..claim.start.min(usable.end));
            }
            next = next.max(claim.end);
        }
        free.push(next..usable.end);
        free.retain(|stretch| stretch.start < stretch.end);
        free
    }

    pub(super) fn add(&mut self, wish: &Wish) -> Result<(), NotDrafted> {
        let Some(scheme) = self.scheme else { return self.take_whole(wish) };
        if scheme == Scheme::Apm {
            return Err(NotDrafted("entries are added to a GPT or an MBR; this drive has an Apple partition map".into()));
        }
        let (role, slot) = self.room_in_table(wish)?;
        // The EBR of a logical stands one step of alignment before it.
        let before = if role == Role::Logical { self.align } else { 0 };
        let place = self.place(wish, before)?;
        let bytes = (place.end - place.start) * self.sector.bytes();
        self.entries.push(Drafted {
            number: None,
            slot,
            role,
            type_code: TypeCode::for_volume(scheme, wish.kind, bytes),
            first: Lba(place.start),
            sectors: SectorCount(place.end - place.start),
            name: if scheme == Scheme::Gpt { wish.label.clone() } else { String::new() },
            unique: None,
            attributes: 0,
            ebr: (role == Role::Logical).then(|| Lba(place.start.saturating_sub(before.max(1)))),
            stands: None,
            content: Content::New(wish.clone()),
            fits: None,
            is_chosen: false,
        });
        self.entries.sort_by_key(|entry| entry.slot);
        Ok(())
    }

    /// The one volume of a drive without a table.
    fn take_whole(&mut self, wish: &Wish) -> Result<(), NotDrafted> {
        if !self.is_fresh {
            return Err(NotDrafted("this drive has no table: make one first (--table gpt or mbr), or --table none".into()));
        }
        if !self.entries.is_empty() {
            return Err(NotDrafted("a drive without a table holds one volume: a second one wants a table".into()));
        }
        if wish.at.is_some_and(|at| at.0 > 0) || !matches!(wish.size, None | Some(Size::Rest)) {
            return Err(NotDrafted(
                "a volume without a table takes the whole drive: neither a size nor a start can be chosen".into(),
            ));
        }
        self.entries.push(Drafted { content: Content::New(wish.clone()), number: None, ..whole(self.drive) });
        Ok(())
    }

    /// Role and number of a new entry.
    fn room_in_table(&self, wish: &Wish) -> Result<(Role, u32), NotDrafted> {
        let is_free = |slot: &u32| self.entries.iter().all(|entry| entry.slot != *slot);
        if self.scheme == Some(Scheme::Gpt) {
            let slot = (1..=self.array.0).find(is_free);
            return slot
                .map(|slot| (Role::Gpt, slot))
                .ok_or_else(|| NotDrafted(format!("all {} entries of the GPT are in use", self.array.0)));
        }
        let logicals: Vec<&Drafted> = self.entries.iter().filter(|entry| entry.role == Role::Logical).collect();
        let extended = u32::from(!logicals.is_empty());
        let primaries = self.entries.iter().filter(|entry| entry.role == Role::Primary).count();
        let spare = PRIMARIES.saturating_sub(u32::try_from(primaries).unwrap_or(PRIMARIES) + extended);
        // The last entry of the four is kept for an extended one, unless the volume takes what is left.
        let takes_all = matches!(wish.size, None | Some(Size::Rest)) && wish.at.is_none();
        let logical = extended == 1 || (spare == 1 && !takes_all);
        let slot = (1..=PRIMARIES).find(is_free);
        match (logical, slot) {
            (true, _) => {
                let last = logicals.iter().map(|entry| entry.slot).max().unwrap_or(FIRST_LOGICAL - 1);
                Ok((Role::Logical, last + 1))
            }
            (false, Some(slot)) if spare > 0 => Ok((Role::Primary, slot)),
            _ => Err(NotDrafted("all four entries of the MBR are in use: delete one, or convert to a GPT".into())),
        }
    }

    /// Sectors for a new volume, `before` more of them free before it.
    fn place(&self, wish: &Wish, before: u64) -> Result<Range<u64>, NotDrafted> {
        let free = self.free();
        let whole = |sectors: u64| size_decimal(sectors * self.sector.bytes());
        let wanted = match wish.size {
            Some(Size::Least) => return Err(NotDrafted("a new volume has no least size: say how large it shall be".into())),
            size => size.and_then(|size| size.sectors(self.drive, self.sector)),
        };
        let aligned = |stretch: &Range<u64>| {
            let first = (stretch.start + before).next_multiple_of(self.align);
            first..stretch.end.max(first)
        };
        let stretch = match wish.at {
            Some(at) => {
                let around = free.iter().find(|stretch| stretch.start + before.min(1) <= at.0 && at.0 < stretch.end);
                let around = around.ok_or_else(|| NotDrafted(format!("sector {} is not free", at.0)))?;
                if !at.0.is_multiple_of(self.align) {
                    return self.fitted(at.0..around.end, wanted, wish);
                }
                at.0..around.end
            }
            None => {
                let mut all = free.iter().map(aligned).filter(|stretch| !stretch.is_empty());
                let found = match wanted {
                    Some(wanted) => all.find(|stretch| stretch.end - stretch.start >= wanted),
                    None => all.max_by_key(|stretch| stretch.end - stretch.start),
                };
                found.ok_or_else(|| {
                    let largest = free.iter().map(aligned).map(|stretch| stretch.end - stretch.start).max().unwrap_or(0);
                    match wanted {
                        Some(wanted) => NotDrafted(format!(
                            "{} are wanted in one piece, and the largest free piece has {}",
                            whole(wanted),
                            whole(largest)
                        )),
                        None => NotDrafted("no ground is free".into()),
                    }
                })?
            }
        };
        self.fitted(stretch, wanted, wish)
    }

    /// The first `wanted` sectors of `stretch`, or all of it, in whole steps of alignment where there is room for them.
    fn fitted(&self, stretch: Range<u64>, wanted: Option<u64>, wish: &Wish) -> Result<Range<u64>, NotDrafted> {
        let room = stretch.end - stretch.start;
        let sectors = match wanted {
            Some(wanted) => wanted.next_multiple_of(if wanted >= self.align { self.align } else { 1 }).min(room).max(wanted),
            None if room >= self.align * SPARED_FROM => {
                // The last sectors stay free: a GPT wants them one day.
                let ends = if stretch.end == self.drive { 1 + array_sectors(128, 128, self.sector) } else { 0 };
                (room - ends) / self.align * self.align
            }
            None => room,
        };
        if sectors == 0 || sectors > room {
            return Err(NotDrafted(format!(
                "a volume of {} does not fit into the {} that are free from sector {} on ({})",
                size_decimal(sectors * self.sector.bytes()),
                size_decimal(room * self.sector.bytes()),
                stretch.start,
                wish.kind.word()
            )));
        }
        Ok(stretch.start..stretch.start + sectors)
    }

    pub(super) fn format(&mut self, number: u32, wish: &Wish) -> Result<(), NotDrafted> {
        let at = self.entry(number)?;
        if wish.size.is_some() || wish.at.is_some() {
            return Err(NotDrafted(format!(
                "entry {number} keeps its place when it is formatted: neither size nor start can be chosen"
            )));
        }
        let (scheme, sector) = (self.scheme, self.sector);
        self.changed(at, |entry| {
            entry.content = Content::New(wish.clone());
            entry.fits = None;
            if let Some(scheme) = scheme
                && !entry.type_code.fits(wish.kind)
            {
                entry.type_code = TypeCode::for_volume(scheme, wish.kind, entry.sectors.bytes(sector));
            }
            Ok(Vec::new())
        })
    }

    pub(super) fn named(&mut self, at: usize, name: &str) -> Result<(), NotDrafted> {
        if self.scheme != Some(Scheme::Gpt) {
            return Err(NotDrafted("entries of an MBR have no names: the label of the volume is shown".into()));
        }
        if name.encode_utf16().count() > 36 || name.chars().any(char::is_control) {
            return Err(NotDrafted("the name of an entry has 36 signs at the most, and none that steers".into()));
        }
        self.changed(at, |entry| {
            entry.name = name.into();
            Ok(Vec::new())
        })
    }

    pub(super) fn ordered(&mut self, numbers: &[u32]) -> Result<(), NotDrafted> {
        let movable = |entry: &&Drafted| entry.role != Role::Logical && entry.number.is_some();
        let mut known: Vec<u32> = self.entries.iter().filter(movable).filter_map(|entry| entry.number).collect();
        let mut asked = numbers.to_vec();
        known.sort_unstable();
        asked.sort_unstable();
        if self.scheme.is_none() || known != asked {
            let known: Vec<String> = known.iter().map(u32::to_string).collect();
            return Err(NotDrafted(format!("an order names each of these entries once: {}", known.join(", "))));
        }
        for entry in self.entries.iter_mut().filter(|entry| entry.role != Role::Logical) {
            if let Some(place) = numbers.iter().position(|number| Some(*number) == entry.number) {
                entry.slot = u32::try_from(place + 1).unwrap_or(entry.slot);
            }
        }
        self.entries.sort_by_key(|entry| entry.slot);
        Ok(())
    }

    /// That a table can state the entries.
    pub(super) fn holds(&self) -> Result<(), NotDrafted> {
        let usable = self.usable();
        for (index, entry) in self.entries.iter().enumerate() {
            let (own, others) = (entry.claim(), self.entries.get(index + 1..).unwrap_or_default());
            let is_new = matches!(entry.content, Content::New(_)) && entry.number.is_none();
            if is_new && (own.start < usable.start || own.end > usable.end) {
                let reach = usable.end;
                return Err(NotDrafted(format!(
                    "sectors {} to {} do not lie within what the table can state (up to {reach})",
                    own.start, own.end
                )));
            }
            let meets = |other: &&Drafted| other.claim().start < own.end && own.start < other.claim().end;
            if let Some(other) = others.iter().find(meets).filter(|other| is_new || other.number.is_none()) {
                return Err(NotDrafted(format!(
                    "entry {} would lie over entry {} (sectors {} to {})",
                    entry.slot, other.slot, own.start, own.end
                )));
            }
        }
        // Logicals lie side by side: no primary between the first and the last.
        let logicals = || self.entries.iter().filter(|entry| entry.role == Role::Logical);
        let (first, last) = (logicals().map(|entry| entry.claim().start).min(), logicals().map(|entry| entry.claim().end).max());
        if let (Some(first), Some(last)) = (first, last) {
            let between = |entry: &&Drafted| entry.role == Role::Primary && entry.first.0 < last && first < entry.ground().end;
            if let Some(primary) = self.entries.iter().find(between) {
                return Err(NotDrafted(format!(
                    "entry {} lies between logical partitions, which have to lie side by side in the extended one",
                    primary.slot
                )));
            }
        }
        Ok(())
    }
}
