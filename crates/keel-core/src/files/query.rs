//! What is searched for among files: words and patterns of names, sorts, sizes, dates, and what they are.

use keel_format::{Entry, Existence, NodeKind};

use super::sort::Sort;
use crate::place::size_named;

/// Why a query is none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum QueryWrong {
    /// A size that is none.
    #[error("`{0}` is no size: type >10M, <4K, >1.5G")]
    Size(String),
    /// A date that is none.
    #[error("`{0}` is no date: type since:2024, since:2024-05, until:2024-05-31")]
    Date(String),
    /// Two numbers that are none.
    #[error("`{0}` is no width and height: type pixels:640x480")]
    Pixels(String),
    /// A sort or state that is not known.
    #[error("`{0}` is not known: {1}")]
    Unknown(String, &'static str),
}

/// What is known of a file beside what its volume tells: of one that was found by its content.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Told<'a> {
    /// How far it is proven: `whole`, `plausible`, `cut`.
    pub state: &'a str,
    /// Width and height of a picture.
    pub pixels: Option<(u32, u32)>,
    /// The find on whose ground it lies.
    pub volume: Option<&'a str>,
    /// Its first byte on the drive.
    pub at: u64,
}

/// Says what is known of an entry beside what its volume tells.
pub type Tells<'a, 'b> = &'b dyn Fn(&Entry) -> Option<Told<'a>>;

/// What `state:` may be followed by.
const PROOFS: &str = "state:whole, state:plausible, state:cut";
/// What `is:` may be followed by.
const STATES: &str = "is:file, is:folder, is:link, is:deleted, is:named, is:present";
/// What `sort:` may be followed by.
const SORTS: &str = "sort:pictures, films, sound, documents, mail, text, archives, databases, disk, programs, other";

/// One term; all of them have to be met.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Term {
    /// The name holds this word.
    Word(String),
    /// The whole name fits this pattern.
    Pattern(Vec<char>),
    /// It is of this sort.
    Sort(Sort),
    /// It is more bytes long.
    More(u64),
    /// It is fewer bytes long.
    Fewer(u64),
    /// It was changed at this time or later, in the order of dates as they are written.
    Since(String),
    /// It was changed before the end of this year, month or day.
    Until(String),
    /// It is this.
    Kind(NodeKind),
    /// It is still there, only its name is, or it is deleted.
    Existence(Existence),
    /// It is proven so far.
    State(&'static str),
    /// It is a picture of at least so many pixels either way.
    Pixels(u32, u32),
    /// It lies on the ground of this find; of none.
    Volume(Option<String>),
    /// It begins at this byte of the drive or behind it.
    From(u64),
    /// It begins before this byte of the drive.
    Before(u64),
    /// The term is none of these: nothing meets it.
    Not(Box<Term>),
}

/// What is searched for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Query {
    terms: Vec<Term>,
}

impl Query {
    /// The query that was typed: words (`boat`), patterns of whole names (`*.jpg`), `sort:pictures`, `>10M`, `<4K`, `since:2024-05`,
    /// `until:2024-06-30`, `is:deleted`; of files that were found by their content `state:whole`, `pixels:640x480` (at least so large),
    /// `volume:n2` or `volume:none`, and `from:10G`, `before:20G` (places of the drive). A `!` before a term turns it around. All of them
    /// have to be met.
    ///
    /// # Errors
    /// [`QueryWrong`] naming the term that is none.
    pub fn typed(text: &str) -> Result<Self, QueryWrong> {
        Ok(Self { terms: text.split_whitespace().map(term).collect::<Result<_, _>>()? })
    }

    /// True where nothing is searched for.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.terms.is_empty()
    }

    /// True where deleted entries are asked for by name.
    #[must_use]
    pub fn wants_deleted(&self) -> bool {
        self.terms.contains(&Term::Existence(Existence::Deleted))
    }

    /// True where `entry` meets all of it.
    #[must_use]
    pub fn meets(&self, entry: &Entry) -> bool {
        self.meets_told(entry, None)
    }

    /// The same, where more is `told` of it.
    #[must_use]
    pub fn meets_told(&self, entry: &Entry, told: Option<Told<'_>>) -> bool {
        if self.terms.is_empty() {
            return true;
        }
        let name = entry.name.to_lowercase();
        self.terms.iter().all(|term| meets(term, &name, (entry, told)))
    }
}

fn meets(term: &Term, name: &str, (entry, told): (&Entry, Option<Told<'_>>)) -> bool {
    match term {
        Term::State(state) => told.is_some_and(|told| told.state == *state),
        Term::Pixels(wide, high) => told.and_then(|told| told.pixels).is_some_and(|(own, tall)| own >= *wide && tall >= *high),
        Term::Volume(volume) => told.is_some_and(|told| told.volume == volume.as_deref()),
        Term::From(at) => told.is_some_and(|told| told.at >= *at),
        Term::Before(at) => told.is_some_and(|told| told.at < *at),
        Term::Word(word) => name.contains(word.as_str()),
        Term::Pattern(pattern) => fits(name, pattern),
        Term::Sort(sort) => entry.kind == NodeKind::File && Sort::of(name) == *sort,
        Term::More(bytes) => entry.kind == NodeKind::File && entry.bytes > *bytes,
        Term::Fewer(bytes) => entry.kind == NodeKind::File && entry.bytes < *bytes,
        // A date is as exact as it was typed.
        Term::Since(date) => entry.times.modified.is_some_and(|time| begin(&time.to_string(), date) >= date.as_str()),
        Term::Until(date) => entry.times.modified.is_some_and(|time| begin(&time.to_string(), date) <= date.as_str()),
        Term::Kind(kind) => entry.kind == *kind,
        Term::Existence(existence) => entry.existence == *existence,
        Term::Not(term) => !meets(term, name, (entry, told)),
    }
}

/// The part of a time that a date of this length is compared with.
fn begin<'a>(time: &'a str, date: &str) -> &'a str {
    time.get(..date.len()).unwrap_or(time)
}

fn term(text: &str) -> Result<Term, QueryWrong> {
    let bare = text.trim_start_matches('!');
    if bare.len() < text.len() && !bare.is_empty() {
        let plain = term(bare)?;
        // Turned around twice it is itself.
        return Ok(if (text.len() - bare.len()).is_multiple_of(2) { plain } else { Term::Not(Box::new(plain)) });
    }
    let size = |rest: &str| size_named(rest).ok_or_else(|| QueryWrong::Size(text.into()));
    let lower = text.to_lowercase();
    Ok(match lower.split_once(':') {
        Some(("since", date)) => Term::Since(dated(date).ok_or_else(|| QueryWrong::Date(text.into()))?),
        Some(("until", date)) => Term::Until(dated(date).ok_or_else(|| QueryWrong::Date(text.into()))?),
        Some(("sort", word)) => Term::Sort(sort(word).ok_or_else(|| QueryWrong::Unknown(text.into(), SORTS))?),
        Some(("state", word)) => proof(word).ok_or_else(|| QueryWrong::Unknown(text.into(), PROOFS))?,
        Some(("pixels", size)) => pixels(size).ok_or_else(|| QueryWrong::Pixels(text.into()))?,
        Some(("volume", find)) => Term::Volume((find != "none").then(|| find.to_string())),
        Some(("from", place)) => Term::From(size(place)?),
        Some(("before", place)) => Term::Before(size(place)?),
        Some(("is", word)) => state(word).ok_or_else(|| QueryWrong::Unknown(text.into(), STATES))?,
        _ if lower.starts_with('>') => Term::More(size(&lower[1..])?),
        _ if lower.starts_with('<') => Term::Fewer(size(&lower[1..])?),
        _ if lower.contains(['*', '?']) => Term::Pattern(lower.chars().collect()),
        _ => Term::Word(lower),
    })
}

/// How far a file is proven, by the beginning of the word.
fn proof(word: &str) -> Option<Term> {
    ["whole", "plausible", "cut"].into_iter().find(|state| !word.is_empty() && state.starts_with(word)).map(Term::State)
}

fn pixels(size: &str) -> Option<Term> {
    let (wide, high) = size.split_once('x')?;
    Some(Term::Pixels(wide.parse().ok()?, high.parse().ok()?))
}

/// The sort whose word begins so.
fn sort(word: &str) -> Option<Sort> {
    Sort::ALL.into_iter().find(|sort| !word.is_empty() && sort.word().starts_with(word))
}

fn state(word: &str) -> Option<Term> {
    Some(match word {
        "file" | "files" => Term::Kind(NodeKind::File),
        "folder" | "folders" => Term::Kind(NodeKind::Directory),
        "link" | "links" => Term::Kind(NodeKind::Link),
        "deleted" => Term::Existence(Existence::Deleted),
        "named" => Term::Existence(Existence::Named),
        "present" => Term::Existence(Existence::Present),
        _ => return None,
    })
}

/// A year, a month or a day, as it begins a time that is written down.
fn dated(text: &str) -> Option<String> {
    let parts: Vec<&str> = text.split('-').collect();
    let number = |part: &str, digits: usize, most: u32| {
        let fits = part.len() == digits && part.bytes().all(|byte| byte.is_ascii_digit());
        fits && part.parse::<u32>().is_ok_and(|number| (1..=most).contains(&number))
    };
    let fits = match parts.as_slice() {
        [year] => number(year, 4, 9999),
        [year, month] => number(year, 4, 9999) && number(month, 2, 12),
        [year, month, day] => number(year, 4, 9999) && number(month, 2, 12) && number(day, 2, 31),
        _ => false,
    };
    fits.then(|| text.to_string())
}

/// True where `name` fits a pattern: `*` stands for any run of signs, `?` for one.
fn fits(name: &str, pattern: &[char]) -> bool {
    let name: Vec<char> = name.chars().collect();
    let (mut at, mut met) = (0, 0);
    // The last `*`, and where what it stands for ends so far.
    let mut star: Option<(usize, usize)> = None;
    while at < name.len() {
        match pattern.get(met) {
            Some('*') => {
                star = Some((met, at));
                met += 1;
            }
            Some(sign) if *sign == '?' || *sign == name[at] => {
                (at, met) = (at + 1, met + 1);
            }
            _ => {
                let Some((place, end)) = star else { return false };
                star = Some((place, end + 1));
                (at, met) = (end + 1, place + 1);
            }
        }
    }
    pattern.get(met..).unwrap_or_default().iter().all(|sign| *sign == '*')
}

#[cfg(test)]
mod tests {
    use keel_format::{NodeId, Stamp, Times};
    use proptest::prelude::*;

    use super::*;

    fn entry(name: &str, bytes: u64, changed: i64) -> Entry {
        Entry {
            id: NodeId(1),
            name: name.into(),
            kind: NodeKind::File,
            bytes,
            times: Times { modified: Stamp::from_unix(changed, 0), ..Times::default() },
            existence: Existence::Present,
        }
    }

    #[test]
    fn names_are_found_by_words_and_by_patterns() {
        for (wanted, found) in [
            ("", true),
            ("boat", true),
            ("jpg boat", true),
            ("*.JPG", true),
            ("boat-??.jpg", true),
            ("*-*", true),
            ("boat*jpg", true),
            ("*", true),
            ("*.png", false),
            ("!*.png", true),
            ("boat-?.jpg", false),
            ("harbour", false),
            ("boat *.png", false),
            ("!boat", false),
        ] {
            assert_eq!(Query::typed(wanted).unwrap().meets(&entry("Boat-07.jpg", 5, 0)), found, "{wanted}");
        }
        // Many stars take no longer than the name times the pattern.
        let pattern: Vec<char> = format!("{}b", "*a".repeat(200)).chars().collect();
        assert!(!fits(&"a".repeat(2000), &pattern));
    }

    #[test]
    fn sorts_sizes_dates_and_states_narrow_it_down() {
        // 2024-05-17.
        let picture = entry("crossing.jpeg", 5_000_000, 1_715_940_000);
        for (wanted, found) in [
            ("sort:pictures", true),
            ("sort:pic", true),
            ("sort:mail", false),
            (">4M", true),
            (">5MB", false),
            ("<5.1M", true),
            ("<4MiB", false),
            ("since:2024", true),
            ("since:2024-05-18", false),
            ("until:2024-05", true),
            ("until:2024-05-16", false),
            ("since:2024-05-17 until:2024-05-17", true),
            ("is:present is:file", true),
            ("is:deleted", false),
            ("is:folder", false),
        ] {
            assert_eq!(Query::typed(wanted).unwrap().meets(&picture), found, "{wanted}");
        }
        let undated = Entry { times: Times::default(), ..picture };
        assert!(!Query::typed("since:1970").unwrap().meets(&undated), "what has no date was not changed since");
    }

    #[test]
    fn a_term_that_is_none_is_named() {
        for wrong in [">", "<ten", "since:", "since:2024-13", "until:24-1-1", "until:2024-00", "sort:", "sort:x", "is:here"] {
            let said = Query::typed(&format!("boat {wrong}")).unwrap_err().to_string();
            assert!(said.contains(&format!("`{wrong}`")), "{said}");
        }
        assert!(Query::typed("! c:").is_ok(), "a sign by itself is a word");
    }

    #[test]
    fn states_tell_what_is_there_deleted_or_only_named() {
        let states = [Existence::Present, Existence::Deleted, Existence::Named];
        for (wanted, met) in [
            ("is:present", [true, false, false]),
            ("is:deleted", [false, true, false]),
            ("is:named", [false, false, true]),
            ("!is:named", [true, true, false]),
            ("is:named is:deleted", [false; 3]),
        ] {
            let query = Query::typed(wanted).unwrap();
            let found = states.map(|existence| query.meets(&Entry { existence, ..entry("rota.txt", 5, 0) }));
            assert_eq!((found, query.wants_deleted()), (met, wanted.ends_with("is:deleted")), "{wanted}");
        }
    }

    #[test]
    fn a_term_turned_around_many_times_is_itself_or_not() {
        let boat = entry("boat.jpg", 5, 0);
        for count in [1usize, 2, 3, 100_000, 100_001] {
            let query = Query::typed(&format!("{}boat", "!".repeat(count))).unwrap();
            assert_eq!(query.meets(&boat), count % 2 == 0, "{count}");
        }
    }

    proptest! {
        /// Whatever is typed is a query or says what it is not, and whatever is named meets it or not.
        #[test]
        fn anything_may_be_typed(text in "[ -~Ü⛴]{0,60}", name in "[ -~Ü⛴\\u{0}\\u{7}]{0,40}", bytes in any::<u64>(), at in any::<i32>()) {
            let one = entry(&name, bytes, i64::from(at));
            match Query::typed(&text) {
                Ok(query) => {
                    let all = text.split_whitespace().all(|word| Query::typed(word).unwrap().meets(&one));
                    prop_assert_eq!(query.meets(&one), all, "all terms have to be met");
                    prop_assert_eq!(query.is_empty(), text.trim().is_empty());
                }
                Err(wrong) => prop_assert!(!wrong.to_string().is_empty()),
            }
        }

        /// A pattern of a name's own letters fits it, however stars stand between them.
        #[test]
        fn stars_stand_for_any_part_of_a_name(name in "[a-z.]{1,30}", cuts in proptest::collection::vec(0usize..30, 0..6)) {
            let mut cuts: Vec<usize> = cuts.into_iter().map(|cut| cut % (name.len() + 1)).collect();
            cuts.sort_unstable();
            let mut pattern = String::from("*");
            let mut from = 0;
            for (index, cut) in cuts.iter().enumerate() {
                // Every other part is left to the star.
                if index % 2 == 0 {
                    pattern.push_str(&name[from..*cut]);
                }
                pattern.push('*');
                from = *cut;
            }
            prop_assert!(Query::typed(&pattern).unwrap().meets(&entry(&name, 1, 0)), "{pattern} {name}");
            let marks: String = name.chars().map(|_| '?').collect();
            prop_assert!(Query::typed(&marks).unwrap().meets(&entry(&name, 1, 0)));
            let more = format!("{marks}?");
            prop_assert!(!Query::typed(&more).unwrap().meets(&entry(&name, 1, 0)));
        }
    }
}
