//! What is asked of a row, and what its answer does to the draft.

use keel_core::renew::which::Reader;
use keel_core::renew::{self, ENTRY_WORDS, Size, Step, TABLE_WORDS, Way, Wish, kind_word, makeable};
use keel_source::{ByteRange, Lba, printable, size_decimal};

use super::state::{Asked, Row};
use super::{wipe, work};
use crate::app::effect::{Effect, Effects, show, tell, work as change};
use crate::config;
use crate::popup::Ask;
use crate::stage::Drive;

/// What is said of a volume that is to be made.
const WISH_WORDS: &str =
    "Behind the kind, with commas: size=SIZE (500 MB, 20 GiB, 25%, rest), cluster=BYTES, journal=no, label=TEXT.";

/// A question whose answer changes the draft.
fn ask(
    title: &'static str,
    text: String,
    line: String,
    answered: impl Fn(&mut Drive, &str) -> Result<Effects, String> + Copy + Send + 'static,
) -> Effects {
    let ask = Ask::new(title, text, line, move |_, line| {
        let line = line.trim().to_string();
        vec![change("change the draft", move |drive| match answered(drive, &line) {
            Ok(effects) => effects,
            Err(why) => vec![show("Not drafted", why)],
        })]
    });
    vec![Effect::Over(Box::new(ask))]
}

/// Asks what the selected row shall be.
pub(super) fn of_row(drive: &mut Drive) -> Effects {
    if drive.renew.wiping.is_some() {
        return tell("ground is being overwritten: x stops it");
    }
    match drive.renew.row() {
        Row::Table => ask("Table", format!("Type one of: {TABLE_WORDS}."), String::new(), |drive, line| {
            let step = renew::of_table(line).map_err(|wrong| wrong.to_string())?;
            Ok(work::add(drive, format!("table: {line}"), step))
        }),
        Row::Entry(index) => of_entry(drive, index),
        Row::Free(from, to) => of_free(drive, from, to),
        Row::Leftovers => {
            drive.renew.clears = !drive.renew.clears;
            vec![work::draft_anew()]
        }
        Row::Recipe => of_recipe(),
        Row::Serves => of_readers(drive),
        Row::Wipe => wipe::ask(drive),
    }
}

fn kinds() -> String {
    makeable().map(kind_word).collect::<Vec<_>>().join(" ")
}

fn of_entry(drive: &Drive, index: usize) -> Effects {
    let Some(draft) = &drive.renew.draft else { return Vec::new() };
    let Some(entry) = draft.entries.get(index) else { return Vec::new() };
    if let Some(at) = drive.renew.asked_for(index) {
        let line = drive.renew.asked.get(at).map(|asked| asked.text.clone()).unwrap_or_default();
        let text =
            format!("A new volume of the draft. Kinds: {}. {WISH_WORDS}\nAn empty line takes it out of the draft.", kinds());
        return ask("New volume", text, line, move |drive, line| {
            let sector = drive.source.sector_size();
            if line.is_empty() {
                drive.renew.asked.remove(at.min(drive.renew.asked.len().saturating_sub(1)));
                return Ok(vec![work::draft_anew()]);
            }
            let wish = Wish::typed(line, sector).map_err(|wrong| wrong.to_string())?;
            if let Some(asked) = drive.renew.asked.get_mut(at) {
                *asked = Asked { text: line.into(), step: Step::Add(wish) };
            }
            Ok(vec![work::draft_anew()])
        });
    }
    let number = match (entry.number, draft.scheme) {
        (Some(number), _) => number,
        (None, None) => 1,
        (None, Some(_)) => return tell("this entry is new: take its step back with backspace"),
    };
    let text = format!("Entry {number}. Type one of: {ENTRY_WORDS}.\nKinds: {}.", kinds());
    ask("Entry", text, String::new(), move |drive, line| {
        let step = renew::of_entry(number, line, drive.source.sector_size()).map_err(|wrong| wrong.to_string())?;
        Ok(work::add(drive, format!("entry {number}: {line}"), step))
    })
}

fn of_free(drive: &Drive, from: u64, to: u64) -> Effects {
    let Some(draft) = &drive.renew.draft else { return Vec::new() };
    let (has_table, first) = (draft.scheme.is_some(), from.next_multiple_of(draft.align));
    let many = drive.renew.rows().iter().filter(|row| matches!(row, Row::Free(..))).count() > 1;
    // Of several pieces of free ground the selected one is meant.
    let at = (has_table && many).then_some(Lba(first));
    of_room(drive, (to - from) * draft.sector.bytes(), "size=rest", at)
}

/// Asks what shall be made in a stretch of free ground.
pub(super) fn of_stretch(drive: &Drive, stretch: ByteRange) -> Effects {
    let Some(draft) = &drive.renew.draft else { return Vec::new() };
    let at = draft.scheme.map(|_| Lba(stretch.start.0 / draft.sector.bytes()));
    of_room(drive, stretch.len(), &format!("size={}", stretch.len()), at)
}

/// Asks what shall be made in `bytes` of free ground; it begins at `at` where nothing else is typed.
fn of_room(drive: &Drive, bytes: u64, size: &str, at: Option<Lba>) -> Effects {
    let best = renew::which::answers(&super::view::purpose(drive)).into_iter().find(|answer| answer.serves);
    let kind = best.map_or_else(|| "exfat".into(), |answer| kind_word(answer.kind));
    let text = format!("A new volume in {} of free ground. Kinds: {}. {WISH_WORDS}", size_decimal(bytes), kinds());
    ask("New volume", text, format!("{kind},{size},label="), move |drive, line| {
        let line = line.strip_suffix(",label=").unwrap_or(line);
        let mut wish = Wish::typed(line, drive.source.sector_size()).map_err(|wrong| wrong.to_string())?;
        if wish.size == Some(Size::Rest) {
            wish.size = None;
        }
        wish.at = wish.at.or(at);
        Ok(work::add(drive, wish.text(), Step::Add(wish)))
    })
}

fn of_recipe() -> Effects {
    let ways: Vec<String> = Way::all(&config::get().recipes).iter().map(|(name, says)| format!("{name}: {says}")).collect();
    let text = format!(
        "The usual ways, and those of the settings. They take the place of the draft so far; each step shows there before anything is \
         written.\n{}\nType NAME or NAME=LABEL.",
        ways.join("\n")
    );
    ask("Recipe", text, String::new(), |drive, line| {
        let (bytes, sector) = (drive.source.len(), drive.source.sector_size());
        let way = Way::named(line, &config::get().recipes, bytes, sector).map_err(|wrong| wrong.to_string())?;
        let way = way.ok_or_else(|| format!("`{}` is no recipe", printable(line)))?;
        let asked = way.steps.into_iter().map(|(text, step)| Asked { text, step });
        (drive.renew.asked, drive.renew.clears) = (asked.collect(), way.clears);
        Ok(vec![work::draft_anew()])
    })
}

fn of_readers(drive: &Drive) -> Effects {
    let words: Vec<&str> = Reader::ALL.into_iter().map(Reader::word).collect();
    let now: Vec<&str> = drive.renew.readers.iter().map(|reader| reader.word()).collect();
    let text = format!("Who is to read and write it? With commas: {}.", words.join(", "));
    ask("Which format?", text, now.join(","), |drive, line| {
        let known = |word: &str| {
            let found = Reader::ALL.into_iter().find(|reader| reader.word() == word.trim());
            found.ok_or_else(|| format!("`{}` is not known", printable(word)))
        };
        drive.renew.readers = line.split(',').filter(|word| !word.trim().is_empty()).map(known).collect::<Result<_, _>>()?;
        Ok(Vec::new())
    })
}

/// Deletes the selected entry.
pub(super) fn delete(drive: &mut Drive) -> Effects {
    let Row::Entry(index) = drive.renew.row() else { return tell("no entry is selected") };
    if let Some(at) = drive.renew.asked_for(index) {
        drive.renew.asked.remove(at);
        return vec![work::draft_anew()];
    }
    let number = drive.renew.draft.as_ref().and_then(|draft| draft.entries.get(index)?.number);
    match number {
        Some(number) => work::add(drive, format!("entry {number}: delete"), Step::Delete(number)),
        None => tell("this drive has no table from which an entry could go"),
    }
}
