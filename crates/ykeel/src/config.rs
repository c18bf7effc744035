//! What this technician's screens and commands start from: `config.toml`, described in `docs/config.md`, and what the command line says
//! instead.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::OnceLock;

use keel_core::renew::OwnRecipe;
use keel_draw::{Phrases, PhrasesError};
use serde::{Deserialize, Serialize};

use crate::cli::LookArgs;
use crate::exit::Ended;
use crate::theme::{Colours, Look};

/// The largest file that is read, in bytes.
const LARGEST: u64 = 1 << 20;

/// What the file may say; everything may be left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct Config {
    /// Dark or light.
    pub(crate) theme: Look,
    /// How many colours.
    pub(crate) color: Colours,
    /// No other signs than those of ASCII; by default where the terminal or its locale has none.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) ascii: Option<bool>,
    /// False: clicks and the wheel are the terminal's.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) mouse: Option<bool>,
    /// Where it is written down what was done.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) log_file: Option<PathBuf>,
    /// The language of what is handed over to clients and courts: one that ships, or a file of phrases.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) language: Option<String>,
    /// Where things are put.
    pub(crate) folders: Folders,
    /// What a copy starts from.
    pub(crate) copy: CopyDefaults,
    /// Keys of the screens: one that is pressed, and the one that it stands for.
    pub(crate) keys: BTreeMap<String, String>,
    /// Ways in which drives are renewed, by their names.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub(crate) recipes: BTreeMap<String, OwnRecipe>,
}

/// Folders that are offered.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct Folders {
    /// The yard that opens where none is named.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) yard: Option<PathBuf>,
    /// Copies of drives.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) copies: Option<PathBuf>,
    /// Files that are taken out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) files: Option<PathBuf>,
    /// Reports.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) reports: Option<PathBuf>,
}

/// What a copy starts from, where the command line says nothing else.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub(crate) struct CopyDefaults {
    /// How often a sector that failed is asked for again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) again: Option<u32>,
    /// Stop after so many reads that failed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) most_errors: Option<u64>,
    /// Stop when the drive says that it is so warm, in degrees Celsius.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) stop_heat: Option<i64>,
    /// Seconds that the drive is left alone before a sector that failed is asked for again.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) rest: Option<u32>,
    /// Learn where the bands of a dead head come back.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) heads: bool,
}

static CONFIG: OnceLock<Config> = OnceLock::new();

/// What holds for this run.
pub(crate) fn get() -> &'static Config {
    CONFIG.get_or_init(Config::default)
}

/// Where the file is looked for: `YKEEL_CONFIG`, or the system's folder for configuration.
pub(crate) fn path() -> Option<PathBuf> {
    let named = std::env::var_os("YKEEL_CONFIG").filter(|path| !path.is_empty()).map(PathBuf::from);
    named.or_else(|| Some(directories::ProjectDirs::from("", "", "ykeel")?.config_dir().join("config.toml")))
}

/// Reads the file, and lays over it what the command line says.
///
/// # Errors
/// [`Ended::WrongUse`] for a file that is there and says something that is not known.
pub(crate) fn load(look: &LookArgs) -> Result<(), Ended> {
    let mut config = match path() {
        Some(path) => read(&path)?,
        None => Config::default(),
    };
    config.theme = look.theme.unwrap_or(config.theme);
    config.color = look.color.unwrap_or(config.color);
    config.ascii = look.ascii.then_some(true).or(config.ascii);
    config.log_file = look.log_file.clone().or(config.log_file);
    let _ = CONFIG.set(config);
    Ok(())
}

/// The phrases of a language: the one that is named, else the config's, else English.
///
/// # Errors
/// [`PhrasesError`] for what is neither a language that ships nor a file of phrases.
pub(crate) fn phrases(named: Option<&str>) -> Result<Phrases, PhrasesError> {
    match named.or(get().language.as_deref()) {
        Some(language) => Phrases::of(language),
        None => Ok(Phrases::default()),
    }
}

fn read(path: &std::path::Path) -> Result<Config, Ended> {
    let wrong = |why: String| Ended::WrongUse(format!("{}: {why}", path.display()));
    match std::fs::metadata(path) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Config::default()),
        Err(error) => return Err(wrong(error.to_string())),
        Ok(found) if !found.is_file() || found.len() > LARGEST => return Err(wrong("it is no file of settings".into())),
        Ok(_) => {}
    }
    let text = std::fs::read_to_string(path).map_err(|error| wrong(error.to_string()))?;
    let config: Config = toml::from_str(&text).map_err(|error| wrong(said(&error, &text)))?;
    for (pressed, meant) in &config.keys {
        if [pressed, meant].into_iter().any(|key| key.is_empty() || key.contains(char::is_whitespace)) {
            return Err(wrong(format!("keys: `{pressed}` = `{meant}` are no names of keys")));
        }
    }
    Ok(config)
}

/// What is wrong and where, on one line.
fn said(error: &toml::de::Error, text: &str) -> String {
    let line = error.span().map(|span| text.get(..span.start).unwrap_or_default().matches('\n').count() + 1);
    let line = line.map(|line| format!("line {line}: ")).unwrap_or_default();
    format!("{line}{}", error.message())
}

impl Config {
    /// The key that a pressed one stands for.
    pub(crate) fn meant<'a>(&'a self, pressed: &'a str) -> &'a str {
        self.keys.get(pressed).map_or(pressed, String::as_str)
    }

    /// What is to be pressed for one of `keys`, which have spaces between them.
    pub(crate) fn pressed(&self, keys: &str) -> String {
        let own = |key: &str| {
            let others = self.keys.iter().filter(|(_, meant)| *meant == key).map(|(pressed, _)| pressed.clone());
            let itself = (!self.keys.contains_key(key)).then(|| key.to_string());
            others.chain(itself).collect::<Vec<_>>()
        };
        let all: Vec<String> = keys.split(' ').flat_map(own).collect();
        if all.is_empty() { "(no key)".into() } else { all.join(" ") }
    }
}

/// True where no other signs than those of ASCII are drawn: as it is said, else where terminal or locale have no others.
pub(crate) fn is_ascii() -> bool {
    get().ascii.unwrap_or_else(|| {
        let locale = ["LC_ALL", "LC_CTYPE", "LANG"].into_iter().filter_map(std::env::var_os).find(|value| !value.is_empty());
        let locale = locale.map(|locale| locale.to_string_lossy().to_ascii_uppercase());
        let dumb = std::env::var_os("TERM").is_some_and(|term| term == "dumb");
        // Where nothing is said of a locale the terminal most likely shows UTF-8.
        dumb || locale.is_some_and(|locale| locale == "C" || locale == "POSIX")
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn parsed(text: &str) -> Result<Config, String> {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("config.toml");
        std::fs::write(&path, text).unwrap();
        read(&path).map_err(|error| error.to_string())
    }

    #[test]
    fn a_file_may_say_little_or_nothing_and_comes_back_as_it_is_shown() {
        assert_eq!(parsed("").unwrap(), Config::default());
        assert_eq!(read(std::path::Path::new("/no/such/config.toml")).unwrap(), Config::default());
        let full = "theme = \"light\"\ncolor = \"256\"\nascii = true\nmouse = false\nlog_file = \"/tmp/keel.log\"\n\
                    [folders]\ncopies = \"/bench/copies\"\n[copy]\nagain = 5\n[keys]\nw = \"s\"\n";
        let config = parsed(full).unwrap();
        assert_eq!((config.theme, config.color, config.ascii), (Look::Light, Colours::Palette, Some(true)));
        assert_eq!((config.copy.again, config.keys["w"].as_str()), (Some(5), "s"));
        assert_eq!(parsed(&toml::to_string(&config).unwrap()).unwrap(), config);
    }

    #[test]
    fn a_key_that_stands_for_another_is_shown_with_it_and_does_not_do_its_own() {
        let config = parsed("[keys]\nw = \"s\"\nq = \"tab\"\n").unwrap();
        assert_eq!((config.meant("w"), config.meant("s"), config.meant("x")), ("s", "s", "x"));
        assert_eq!(
            (config.pressed("s"), config.pressed("up k"), config.pressed("tab")),
            ("w s".into(), "up k".into(), "q tab".into())
        );
        assert_eq!((config.pressed("q ctrl-c"), config.pressed("q")), ("ctrl-c".into(), "(no key)".into()));
    }

    #[test]
    fn what_is_not_known_is_named_with_its_line() {
        for (text, says) in [
            ("\n\ncolour = 3\n", "line 3"),
            ("theme = \"pink\"\n", "pink"),
            ("[copy]\nagain = -1\n", "line 2"),
            ("keys = { \"\" = \"s\" }\n", "no names of keys"),
            ("theme = ", "line 1"),
        ] {
            let said = parsed(text).unwrap_err();
            assert!(said.contains(says) && !said.contains('\n'), "{text:?}: {said}");
        }
    }
}
