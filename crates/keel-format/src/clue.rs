//! Clues: what single sectors of a surface look like. Collecting them is the hot loop of the sweep.

use keel_source::ByteOffset;

use crate::registry;
pub use crate::registry::Clues;

/// The most clues of one sort that are kept. A surface of nothing but such sectors must not fill memory.
pub const MOST_CLUES: usize = 65_536;

/// The most clues of one sort that volumes are tried from: each costs reads all over the drive.
pub(crate) const MOST_LEADS: usize = 1024;

/// What one format saw on a surface: lists of places, each with what single sectors say there.
pub trait FormatClues {
    /// Sorts, removes doubles and joins what continues.
    fn tidy(&mut self);

    /// Holds the clues that volumes begin with to as many as can be tried.
    fn thin_leads(&mut self);

    /// How many clues there are.
    fn count(&self) -> usize;

    /// How many clues a new volume could begin with.
    fn leads(&self) -> usize;
}

/// Makes a struct of lists what [`FormatClues`] asks for: `all` its lists, those that volumes are `tried` from, and how many clues a new
/// volume could begin with.
macro_rules! clue_lists {
    ($clues:ident { all: $($list:ident),+; tried: $($tried:ident),+; leads: |$lists:ident| $leads:expr }) => {
        impl $clues {
            /// Adds what another worker saw, as it comes.
            pub fn append(&mut self, other: Self) {
                $($crate::clue::append(&mut self.$list, other.$list);)+
            }
        }

        impl $crate::clue::FormatClues for $clues {
            fn tidy(&mut self) {
                $($crate::clue::tidy(&mut self.$list);)+
            }

            fn thin_leads(&mut self) {
                $($crate::clue::thin(&mut self.$tried, $crate::clue::MOST_LEADS);)+
            }

            fn count(&self) -> usize {
                [$(self.$list.len()),+].iter().sum()
            }

            fn leads(&self) -> usize {
                let $lists = self;
                $leads
            }
        }
    };
}
pub(crate) use clue_lists;

/// Whose structures stand somewhere: one bit for tables, and one for each format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash)]
pub struct Marks(u32);

impl Marks {
    /// What a sector stands for, by a look at its marks alone; nothing where it stands for no structure.
    #[must_use]
    pub fn of(sector: &[u8; 512]) -> Self {
        let format = registry::FORMATS.iter().position(|format| (format.is_marked)(sector));
        match format {
            Some(index) => Self::bit(index + 1),
            None if is_marked(sector) => Self::bit(0),
            None => Self::default(),
        }
    }

    fn bit(index: usize) -> Self {
        Self(1_u32.checked_shl(u32::try_from(index).unwrap_or(u32::MAX)).unwrap_or(0))
    }

    /// Both.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// True where nothing stands.
    #[must_use]
    pub fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// The words for them: `table`, and those of the formats' kinds.
    #[must_use]
    pub fn words(self) -> Vec<&'static str> {
        let has = |index: usize| self.0 & Self::bit(index).0 != 0;
        let table = has(0).then_some("table").into_iter();
        let formats = registry::FORMATS.iter().enumerate().filter(|(index, _)| has(index + 1));
        table.chain(formats.map(|(_, format)| word(format))).collect()
    }

    /// The marks of such words; a word that is not known is none.
    #[must_use]
    pub fn named<'a>(words: impl IntoIterator<Item = &'a str>) -> Self {
        let known = |own: &str| match own {
            "table" => Some(0),
            _ => registry::FORMATS.iter().position(|format| word(format) == own).map(|index| index + 1),
        };
        words.into_iter().filter_map(known).fold(Self::default(), |all, index| all.and(Self::bit(index)))
    }

    /// Two letters, where all of it is of one format.
    #[must_use]
    pub fn letters(self) -> Option<&'static str> {
        let index = (self.0.count_ones() == 1).then(|| self.0.trailing_zeros())?;
        let format = registry::FORMATS.get(usize::try_from(index).ok()?.checked_sub(1)?)?;
        // Of many kinds none is the one that it is.
        let own = format.kinds.first().filter(|_| word(format) != MANY)?;
        Some(own.letters())
    }
}

/// The word for a format: what the names of its kinds have in common, or that there are many.
fn word(format: &registry::Format) -> &'static str {
    let Some(first) = format.kinds.first().map(|kind| kind.word()) else { return MANY };
    let alike = |other: &str| first.bytes().zip(other.bytes()).take_while(|(one, other)| one == other).count();
    let common = format.kinds.iter().map(|kind| alike(kind.word())).min().unwrap_or(0);
    first.get(..common).filter(|word| word.len() > 1).unwrap_or(MANY)
}

/// The word for a format of many kinds.
const MANY: &str = "another kind";

/// True where a sector stands for a structure of a table or of one of the formats: a look at its marks alone.
#[must_use]
pub fn is_marked(sector: &[u8; 512]) -> bool {
    sector.ends_with(&[0x55, 0xAA]) || sector.starts_with(b"EFI PART") || registry::is_marked(sector)
}

impl Clues {
    /// Looks at the first `len` bytes of `bytes`, which were read at byte `at` (a multiple of 512), sector by sector.
    /// What lies behind `len` is only seen by structures that begin before it. Two cache lines of each sector are
    /// touched unless it is worth a closer look.
    pub fn look(&mut self, at: ByteOffset, bytes: &[u8], len: usize) {
        let sectors = bytes.as_chunks::<512>().0;
        for (index, sector) in sectors.iter().take(len.div_ceil(512)).enumerate() {
            let [.., five, a] = *sector;
            let gpt = sector.starts_with(b"EFI PART");
            if (five, a) != (0x55, 0xAA) && !gpt && !registry::is_marked(sector) {
                continue;
            }
            let offset = index * 512;
            // Structures larger than a sector see as much behind it as the chunk holds.
            let behind = bytes.get(offset..).unwrap_or_default();
            if gpt {
                keep(&mut self.gpt_headers, at + offset as u64);
            }
            for format in registry::FORMATS {
                (format.look)(self, at + offset as u64, behind);
            }
        }
    }

    /// Sorts, removes doubles and joins what continues: the same clues then compare equal, in whatever order they came.
    pub fn tidy(&mut self) {
        self.formats_mut().for_each(FormatClues::tidy);
        tidy(&mut self.gpt_headers);
    }

    /// Holds the clues that volumes begin with to as many as can be tried.
    pub fn thin_leads(&mut self) {
        self.formats_mut().for_each(FormatClues::thin_leads);
    }

    /// How many clues are of the sort that a new volume begins with: when this grows, inferring again is worth it.
    #[must_use]
    pub fn leads(&self) -> usize {
        self.formats().map(FormatClues::leads).sum()
    }

    /// How many clues there are.
    #[must_use]
    pub fn count(&self) -> usize {
        self.formats().map(FormatClues::count).sum::<usize>() + self.gpt_headers.len()
    }
}

/// Where a clue says that something begins.
pub(crate) trait Placed {
    /// Byte of the drive at which a volume would begin that has the clue at its start.
    fn place(&self) -> ByteOffset;
}

impl Placed for ByteOffset {
    fn place(&self) -> ByteOffset {
        *self
    }
}

/// Keeps the `most` of `list` whose places are aligned best, in the order in which they stand: volumes begin at multiples of a megabyte,
/// a track or at least a cluster, and what claims to be one at every sector is no volume. Nothing is cut off at the end for the sake of
/// what came first.
pub(crate) fn thin<T: Placed>(list: &mut Vec<T>, most: usize) {
    if list.len() <= most {
        return;
    }
    // A track of 63 sectors is where older systems began.
    let rank = |clue: &T| {
        let at = clue.place().0;
        let track = if at.is_multiple_of(63 * 512) { 20 } else { 0 };
        at.trailing_zeros().max(track)
    };
    let mut ranks: Vec<u32> = list.iter().map(rank).collect();
    ranks.sort_unstable_by_key(|rank| std::cmp::Reverse(*rank));
    let least = ranks.get(most.saturating_sub(1)).copied().unwrap_or(0);
    let better = ranks.iter().take_while(|rank| **rank > least).count();
    // Of those that are aligned alike some are taken from all over.
    let alike = ranks.iter().filter(|rank| **rank == least).count();
    let (wanted, mut met) = (most - better, 0usize);
    list.retain(|clue| match rank(clue).cmp(&least) {
        std::cmp::Ordering::Greater => true,
        std::cmp::Ordering::Less => false,
        std::cmp::Ordering::Equal => {
            met += 1;
            met * wanted / alike > (met - 1) * wanted / alike
        }
    });
}

/// Sorts, removes doubles and holds the cap.
pub(crate) fn tidy<T: Ord + Placed>(list: &mut Vec<T>) {
    list.sort_unstable();
    list.dedup();
    thin(list, MOST_CLUES);
}

/// Adds all of `more`, up to the cap.
pub(crate) fn append<T: Placed>(list: &mut Vec<T>, more: Vec<T>) {
    list.extend(more);
    if list.len() > 2 * MOST_CLUES {
        thin(list, MOST_CLUES);
    }
}

/// Adds `clue`; when there are too many, those are let go that say the least.
pub(crate) fn keep<T: Placed>(list: &mut Vec<T>, clue: T) {
    if list.len() >= 2 * MOST_CLUES {
        thin(list, MOST_CLUES);
    }
    list.push(clue);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_crowd_of_clues_hides_none_that_is_aligned_and_keeps_some_from_all_over() {
        let mut list = Vec::new();
        let real = ByteOffset(900 << 30);
        let track = ByteOffset(63 * 512 * 100_003);
        for number in 0..400_000u64 {
            keep(&mut list, ByteOffset(512 + number * 512));
        }
        keep(&mut list, real);
        keep(&mut list, track);
        tidy(&mut list);
        assert_eq!(list.len(), MOST_CLUES);
        assert!(list.contains(&real) && list.contains(&track));
        assert!(list.is_sorted() && list.iter().any(|at| at.0 < 20_000_000) && list.iter().any(|at| at.0 > 180_000_000));
        thin(&mut list, 100);
        assert!(list.len() == 100 && list.contains(&real));
    }
}
