//! The page in plain words: what was wrong, what was done, what is back, what is not and why.

use std::collections::BTreeSet;

use keel_core::account::{Account, Counted, Deed, DeedLine, VolumeAccount, Wrong};
use keel_core::ladder::{RungName, RungState};

use super::facts::Facts;
use crate::document::Part;
use crate::phrases::Phrases;

/// The most points under a heading: the page stays one.
const MOST_POINTS: usize = 7;
/// Volumes that are named for one fault; more are counted.
const NAMED: usize = 2;

/// The page.
pub(super) fn letter(facts: &Facts<'_>, account: &Account) -> Vec<Part> {
    let phrases = facts.asked.phrases;
    let mut page = vec![Part::Title(phrases.get(title(facts, account)).into())];
    if let Some(case) = facts.asked.case {
        let filled = [("client", case.record.client.as_str()), ("case", case.record.name.as_str())];
        page.push(Part::Text(phrases.say(if case.record.client.is_empty() { "for_case" } else { "for_client" }, &filled)));
        for id in &case.record.told.symptoms {
            let symptom = phrases.get(&format!("symptom_{id}"));
            if !symptom.is_empty() {
                page.push(Part::Text(phrases.say("told", &[("symptom", symptom)])));
            }
        }
    }
    let could = could(facts, account, phrases);
    for (head, points) in [
        ("head_wrong", wrong(account, phrases)),
        ("head_done", done(facts, account, phrases)),
        ("head_back", back(facts, account, phrases)),
        ("head_could", could),
        ("head_not", not(facts, account, phrases)),
        ("head_next", next(facts, account)),
    ] {
        if !points.is_empty() {
            page.push(Part::Heading(phrases.get(head).into()));
            page.extend(points.into_iter().map(Part::Point));
        }
    }
    vec![Part::Sheet(phrases.get("sheet_plain").into()), Part::OnePage(page)]
}

/// Rungs that stand between a volume and its files.
fn is_structure(rung: RungName) -> bool {
    matches!(rung, RungName::Table | RungName::Entry | RungName::BootSector | RungName::FileSystem)
}

/// What the whole comes to. No more is said than what was looked at bears.
fn title(facts: &Facts<'_>, account: &Account) -> &'static str {
    let deeds = || account.done.iter().map(|line| &line.deed);
    let last = deeds().rfind(|deed| !matches!(deed, Deed::Copied { .. } | Deed::Verified { .. } | Deed::Measured { .. }));
    match last {
        Some(Deed::Wiped { is_whole: true }) => return "title_wiped",
        Some(Deed::Renewed) => return "title_renewed",
        Some(Deed::BrokenOff | Deed::Wiped { is_whole: false }) => return "title_open",
        _ => {}
    }
    let standing = standing(facts, account);
    let hurt = |counted: Counted| counted.damaged + counted.missing > 0;
    let volumes_hurt = standing.iter().any(|volume| hurt(sum(volume.sorts.values())));
    let taken: Vec<Counted> = account.taken.iter().map(|taken| sum(taken.sorts.values())).collect();
    let some_taken = taken.iter().any(|counted| counted.whole > 0);
    let mended = account.before.is_some() && facts.ladder.lowest_broken.is_none();
    let sound = account.wrong.is_empty();
    let all_stand = !standing.is_empty() && standing.len() == account.present().count() && account.bad.is_empty();
    match () {
        () if mended && all_stand && !volumes_hurt => "title_back",
        () if some_taken && !taken.iter().copied().any(hurt) => "title_taken",
        () if some_taken || (mended && !standing.is_empty()) => "title_partly",
        () if sound && account.before.is_none() => "title_sound",
        () if facts.planned.as_ref().is_some_and(|planned| planned.lowest_broken.is_none()) => "title_planned",
        () => "title_open",
    }
}

fn sum<'a>(sorts: impl Iterator<Item = &'a Counted>) -> Counted {
    sorts.fold(Counted::default(), |all, own| all.and(*own))
}

/// The volumes that the drive gives to any computer: the table leads to them, and nothing of theirs is broken.
fn standing<'a>(facts: &Facts<'_>, account: &'a Account) -> Vec<&'a VolumeAccount> {
    let is_broken = |state: RungState| state == RungState::Broken;
    let table = facts.ladder.rung(RungName::Table).is_some_and(|rung| is_broken(rung.state));
    let stands = |volume: &VolumeAccount| {
        let own = facts.ladder.volumes.iter().find(|own| own.id == volume.id);
        let sound = own.is_some_and(|own| !own.rungs.iter().any(|rung| is_structure(rung.rung) && is_broken(rung.state)));
        volume.opens && sound && !table
    };
    account.present().filter(|volume| stands(volume)).collect()
}

/// What was wrong, from the ground up.
fn wrong(account: &Account, phrases: &Phrases) -> Vec<String> {
    let table_lost = account.wrong.iter().any(|wrong| wrong.rung == RungName::Table && wrong.state == RungState::Broken);
    // That no entry leads to a volume follows from there being no table.
    let told = |wrong: &&Wrong| !(table_lost && wrong.rung == RungName::Entry);
    let kind = |wrong: &Wrong| (wrong.rung, wrong.state, wrong.is_mended, wrong.volume.is_some());
    let mut points = Vec::new();
    let mut said = BTreeSet::new();
    for one in account.wrong.iter().filter(told) {
        if !said.insert(kind(one)) {
            continue;
        }
        let alike: Vec<&Wrong> = account.wrong.iter().filter(told).filter(|other| kind(other) == kind(one)).collect();
        for wrong in alike.iter().take(NAMED) {
            let mended = if one.is_mended { phrases.get("wrong_mended") } else { "" };
            let name =
                format!("wrong_{}_{}", words(wrong.rung), if wrong.state == RungState::Broken { "broken" } else { "doubtful" });
            points.push(phrases.say(&name, &[("volume", wrong.volume.as_deref().unwrap_or_default())]) + mended);
        }
        if alike.len() > NAMED {
            points.push(phrases.say("wrong_volumes_more", &[("count", &(alike.len() - NAMED).to_string())]));
        }
    }
    if points.is_empty() {
        points.push(phrases.get("wrong_none").into());
    }
    points.truncate(MOST_POINTS);
    points
}

/// A rung as the names of phrases have it.
fn words(rung: RungName) -> String {
    rung.word().to_ascii_lowercase().replace(' ', "_")
}

fn done(facts: &Facts<'_>, account: &Account, phrases: &Phrases) -> Vec<String> {
    let mut points: Vec<String> = account.done.iter().map(|line| deed(line, phrases)).collect();
    points.dedup();
    // Without a case nothing was written down, and what a plan wrote stands in its bundle.
    if let Some(before) = account.before.as_ref().filter(|_| points.is_empty()) {
        points.push(phrases.say("done_repaired", &[("places", &phrases.count("places", before.places))]));
    }
    if points.is_empty() {
        points.push(
            phrases.get(if facts.journal.is_some() && account.is_untouched { "done_looked" } else { "done_examined" }).into(),
        );
    }
    let more = points.len().saturating_sub(MOST_POINTS);
    points.drain(..more);
    if more > 0 {
        points.insert(0, phrases.say("done_more", &[("count", &more.to_string())]));
    }
    points
}

fn deed(line: &DeedLine, phrases: &Phrases) -> String {
    let size = |bytes: u64| phrases.size(bytes);
    match &line.deed {
        Deed::Copied { over, of, .. } if over == of => phrases.say("done_copied_all", &[("of", &size(*of))]),
        Deed::Copied { over, of, .. } => phrases.say("done_copied", &[("over", &size(*over)), ("of", &size(*of))]),
        Deed::Verified { bytes, is_whole } => {
            phrases.say(if *is_whole { "done_verified" } else { "done_verified_not" }, &[("bytes", &size(*bytes))])
        }
        Deed::Repaired { places } => phrases.say("done_repaired", &[("places", &phrases.count("places", *places))]),
        Deed::Renewed => phrases.get("done_renewed").into(),
        Deed::Undone => phrases.get("done_undone").into(),
        Deed::Saved { .. } => phrases.get("done_saved").into(),
        Deed::Wiped { .. } => phrases.get("done_wiped").into(),
        Deed::Finished => phrases.get("done_finished").into(),
        Deed::BrokenOff => phrases.get("done_broken_off").into(),
        Deed::TakenOut { whole, damaged, failed, .. } => {
            let [whole, damaged, failed] = [whole, damaged, failed].map(u64::to_string);
            phrases.say("done_taken", &[("whole", &whole), ("damaged", &damaged), ("failed", &failed)])
        }
        Deed::Measured { claimed, proven } => {
            phrases.say("done_measured", &[("proven", &size(*proven)), ("claimed", &size(*claimed))])
        }
    }
}

/// A volume in a line: how many of its files are whole, and their sizes.
fn volume(name: &str, volume: &VolumeAccount, phrases: &Phrases) -> String {
    let counted = sum(volume.sorts.values());
    let filled = [
        ("volume", named(volume, phrases)),
        ("size", phrases.size(volume.bytes)),
        ("files", phrases.count("files", counted.whole)),
        ("bytes", phrases.size(counted.whole_bytes)),
    ];
    phrases.say(name, &filled.each_ref().map(|(name, text)| (*name, text.as_str())))
}

/// Name and kind of a volume.
pub(super) fn named(volume: &VolumeAccount, phrases: &Phrases) -> String {
    phrases.say("volume_kind", &[("name", &volume.name), ("kind", volume.kind.word())])
}

/// The first of many volumes in a line each, the rest counted.
fn volumes(name: &str, all: &[&VolumeAccount], phrases: &Phrases) -> Vec<String> {
    let shown = all.len().min(MOST_POINTS - 2);
    let mut points: Vec<String> = all.iter().take(shown).map(|one| volume(name, one, phrases)).collect();
    if all.len() > shown {
        points.push(phrases.say("back_more", &[("count", &(all.len() - shown).to_string())]));
    }
    points
}

fn back(facts: &Facts<'_>, account: &Account, phrases: &Phrases) -> Vec<String> {
    let mut points = volumes("back_volume", &standing(facts, account), phrases);
    for taken in &account.taken {
        let counted = sum(taken.sorts.values());
        let (files, bytes) = (phrases.count("files", counted.whole), phrases.size(counted.whole_bytes));
        points.push(phrases.say("back_taken", &[("files", &files), ("bytes", &bytes)]));
    }
    points.truncate(MOST_POINTS);
    if points.is_empty() {
        points.push(phrases.get("back_none").into());
    }
    points
}

/// Volumes whose files can be read, and that no computer would show yet.
fn could(facts: &Facts<'_>, account: &Account, phrases: &Phrases) -> Vec<String> {
    let standing: BTreeSet<&str> = standing(facts, account).iter().map(|volume| volume.id.as_str()).collect();
    let others: Vec<&VolumeAccount> =
        account.present().filter(|volume| volume.opens && !standing.contains(volume.id.as_str())).collect();
    volumes("could_volume", &others, phrases)
}

fn not(facts: &Facts<'_>, account: &Account, phrases: &Phrases) -> Vec<String> {
    let mut points = Vec::new();
    match &facts.map {
        Some(map) => {
            let missing: u64 = map.missing().iter().map(|range| range.len()).sum();
            if missing > 0 {
                points.push(phrases.say("not_copy", &[("size", &phrases.size(missing))]));
            }
        }
        None if !account.bad.is_empty() => {
            let bytes = account.bad.iter().map(|range| range.len()).sum();
            let places = phrases.count("places", u64::try_from(account.bad.len()).unwrap_or(u64::MAX));
            points.push(phrases.say("not_bad", &[("size", &phrases.size(bytes)), ("places", &places)]));
        }
        None => {}
    }
    // Samples say that places do not read; which files that touches is not known before all was read.
    if facts.map.is_none() && facts.ladder.reads_fail() {
        points.push(phrases.get("not_unread").into());
    }
    let counted = account.counted();
    for (name, count) in [("not_damaged", counted.damaged), ("not_missing", counted.missing)] {
        if count > 0 {
            points.push(phrases.say(name, &[("files", &phrases.count("files", count))]));
        }
    }
    let taken = account.taken.iter().map(|taken| sum(taken.sorts.values())).fold(Counted::default(), Counted::and);
    if taken.damaged + taken.missing > 0 {
        let filled = [taken.damaged.to_string(), taken.missing.to_string()];
        points.push(phrases.say("not_taken", &[("damaged", &filled[0]), ("failed", &filled[1])]));
    }
    let closed: Vec<&VolumeAccount> = account.present().filter(|volume| !volume.opens).collect();
    points.extend(
        closed.iter().take(NAMED).map(|volume| {
            phrases.say("not_closed", &[("volume", &named(volume, phrases)), ("size", &phrases.size(volume.bytes))])
        }),
    );
    if closed.len() > NAMED {
        points.push(phrases.say("wrong_volumes_more", &[("count", &(closed.len() - NAMED).to_string())]));
    }
    if points.is_empty() {
        points.push(phrases.get("not_none").into());
    }
    points
}

/// What the client does now.
fn next(facts: &Facts<'_>, account: &Account) -> Vec<String> {
    let phrases = facts.asked.phrases;
    let broken = |rung| facts.ladder.rung(rung).is_some_and(|rung| rung.state == RungState::Broken);
    let failing = broken(RungName::Health) || broken(RungName::Reads);
    let could = !could(facts, account, phrases).is_empty();
    let mends = facts.planned.as_ref().is_some_and(|planned| planned.lowest_broken.is_none());
    let has_files = account.counted().whole > 0 || !account.taken.is_empty();
    let advice = [
        ("next_failing", failing),
        ("next_capacity", broken(RungName::Capacity)),
        // What fails is not written to.
        ("next_plan", could && mends && !failing && !broken(RungName::Capacity)),
        ("next_check", has_files && !could),
        ("next_backup", true),
    ];
    advice.into_iter().filter(|(_, holds)| *holds).map(|(name, _)| phrases.get(name).to_string()).collect()
}
