//! The words of what is handed over, in the client's language: phrases by name, from a file.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::LazyLock;

use keel_source::size_decimal;

/// Languages that ship: their names, and their files.
const SHIPPED: [(&str, &str); 2] = [("en", include_str!("../phrases/en.toml")), ("de", include_str!("../phrases/de.toml"))];
/// The largest file of phrases that is read, in bytes.
const LARGEST: u64 = 1 << 20;

/// A file of phrases that cannot be taken.
#[derive(Debug, thiserror::Error)]
pub enum PhrasesError {
    /// It does not read.
    #[error("{path}: {source}")]
    Read {
        /// Which.
        path: String,
        /// Why.
        source: std::io::Error,
    },
    /// It is no file of phrases.
    #[error("{path}: {why}")]
    Wrong {
        /// Which.
        path: String,
        /// Why.
        why: String,
    },
    /// Neither a language that ships nor a file.
    #[error("there are no phrases in \"{0}\": {shipped} ship, any other language is a file of phrases", shipped = Phrases::shipped())]
    Unknown(String),
}

/// Phrases by name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Phrases(BTreeMap<String, String>);

/// English: every phrase that there is.
static ENGLISH: LazyLock<Phrases> = LazyLock::new(|| Phrases::parsed(SHIPPED[0].1).unwrap_or(Phrases(BTreeMap::new())));

impl Default for Phrases {
    fn default() -> Self {
        ENGLISH.clone()
    }
}

impl Phrases {
    /// The languages that ship, as half a sentence.
    #[must_use]
    pub fn shipped() -> String {
        SHIPPED.map(|(name, _)| name).join(" and ")
    }

    /// The phrases of a language that ships, or of a file.
    ///
    /// # Errors
    /// [`PhrasesError`] for a language that does not ship, and a file that is none of phrases: unknown names, missing places to fill in.
    pub fn of(language: &str) -> Result<Self, PhrasesError> {
        if let Some((_, text)) = SHIPPED.iter().find(|(name, _)| *name == language) {
            return Self::parsed(text).map_err(|why| PhrasesError::Wrong { path: language.into(), why });
        }
        let path = Path::new(language);
        if !path.exists() {
            return Err(PhrasesError::Unknown(language.into()));
        }
        let reading = |source| PhrasesError::Read { path: language.into(), source };
        let found = std::fs::metadata(path).map_err(reading)?;
        let wrong = |why: String| PhrasesError::Wrong { path: language.into(), why };
        if !found.is_file() || found.len() > LARGEST {
            return Err(wrong("it is no file of phrases".into()));
        }
        let text = std::fs::read_to_string(path).map_err(reading)?;
        let own = Self::parsed(&text).map_err(wrong)?;
        own.fits().map_err(wrong)?;
        Ok(own)
    }

    fn parsed(text: &str) -> Result<Self, String> {
        toml::from_str(text).map(Self).map_err(|error| error.message().to_string())
    }

    /// Whether each phrase is one that is known, with the same places to fill in.
    fn fits(&self) -> Result<(), String> {
        for (name, phrase) in &self.0 {
            let known = ENGLISH.0.get(name).ok_or_else(|| format!("\"{name}\" is no phrase"))?;
            let strange = places(phrase).find(|place| !places(known).any(|own| own == *place));
            if let Some(place) = strange {
                return Err(format!("\"{name}\" has no {{{place}}} to fill in"));
            }
        }
        Ok(())
    }

    /// The language, as browsers know it.
    #[must_use]
    pub fn language(&self) -> &str {
        self.get("language")
    }

    /// The phrase `name` as it stands.
    #[must_use]
    pub fn get(&self, name: &str) -> &str {
        self.0.get(name).or_else(|| ENGLISH.0.get(name)).map_or("", String::as_str)
    }

    /// The phrase `name` with what is filled in; what is filled in is not looked through again.
    #[must_use]
    pub fn say(&self, name: &str, filled: &[(&str, &str)]) -> String {
        let (mut said, mut rest) = (String::new(), self.get(name));
        while let Some((before, behind)) = rest.split_once('{') {
            said.push_str(before);
            let Some((place, after)) = behind.split_once('}') else {
                said.push('{');
                rest = behind;
                continue;
            };
            said.push_str(filled.iter().find(|(own, _)| *own == place).map_or("", |(_, text)| text));
            rest = after;
        }
        said + rest
    }

    /// `count` of what has the phrases `name_one` and `name_many`.
    #[must_use]
    pub fn count(&self, name: &str, count: u64) -> String {
        match count {
            1 => self.get(&format!("{name}_one")).to_string(),
            _ => self.say(&format!("{name}_many"), &[("count", &count.to_string())]),
        }
    }

    /// A size in bytes, for people.
    #[must_use]
    pub fn size(&self, bytes: u64) -> String {
        size_decimal(bytes).replace('.', self.get("decimal"))
    }
}

/// The places to fill in of a phrase.
fn places(phrase: &str) -> impl Iterator<Item = &str> {
    phrase.split('{').skip(1).filter_map(|rest| rest.split_once('}').map(|(place, _)| place))
}

#[cfg(test)]
mod tests {
    use keel_core::files::Sort;
    use keel_core::intake;
    use keel_core::ladder::RungName;

    use super::*;

    #[test]
    fn every_language_that_ships_says_everything_and_fills_in_the_same() {
        for (name, text) in SHIPPED {
            let own = Phrases::parsed(text).unwrap();
            own.fits().unwrap();
            assert_eq!(own.language(), name);
            for (phrase, english) in &ENGLISH.0 {
                let said = own.0.get(phrase).unwrap_or_else(|| panic!("{name} lacks {phrase}"));
                let sorted = |text| {
                    let mut all: Vec<&str> = places(text).collect();
                    all.sort_unstable();
                    all
                };
                assert_eq!(sorted(said), sorted(english.as_str()), "{name}: {phrase}");
            }
        }
    }

    #[test]
    fn there_is_a_phrase_for_whatever_can_be_wrong_for_each_sort_of_files_and_for_all_that_clients_tell() {
        let phrases = Phrases::default();
        for rung in RungName::ALL {
            let word = rung.word().to_ascii_lowercase().replace(' ', "_");
            for state in ["broken", "doubtful"] {
                assert!(phrases.get(&format!("wrong_{word}_{state}")).ends_with('.'), "{word} {state}");
            }
        }
        for sort in Sort::ALL {
            assert!(!phrases.get(&format!("sort_{}", sort.word().replace(' ', "_"))).is_empty(), "{sort:?}");
        }
        for symptom in intake::SYMPTOMS {
            assert!(!phrases.get(&format!("symptom_{}", symptom.id)).is_empty(), "{}", symptom.id);
        }
    }

    #[test]
    fn what_is_filled_in_is_not_looked_through_again() {
        let phrases = Phrases::default();
        let said = phrases.say("wrong_entry_broken", &[("volume", "{count} {volume}")]);
        assert!(said.contains("{count} {volume}"), "{said}");
        assert_eq!((phrases.count("files", 1), phrases.count("files", 2)), ("1 file".into(), "2 files".into()));
        assert_eq!(Phrases::of("de").unwrap().size(1_500_000), "1,5 MB");
    }

    #[test]
    fn a_file_of_phrases_stands_for_what_it_says_and_is_refused_where_it_says_what_nobody_asks() {
        let folder = tempfile::tempdir().unwrap();
        let file = |text: &str| {
            let path = folder.path().join("own.toml");
            std::fs::write(&path, text).unwrap();
            Phrases::of(path.to_str().unwrap())
        };
        let own = file("language = \"nl\"\nhead_back = \"Wat er weer is\"").unwrap();
        assert_eq!((own.language(), own.get("head_back")), ("nl", "Wat er weer is"));
        assert_eq!(own.get("head_done"), "What was done");
        for (text, says) in [
            ("head_bcak = \"x\"", "no phrase"),
            ("head_back = \"{x}\"", "no {x}"),
            ("head_back = 3", "own.toml"),
            ("]", "own.toml"),
        ] {
            let error = file(text).unwrap_err().to_string();
            assert!(error.contains(says), "{error}");
        }
        assert!(Phrases::of("xx").unwrap_err().to_string().contains("en and de ship"));
        assert!(Phrases::of(folder.path().to_str().unwrap()).is_err());
    }
}
