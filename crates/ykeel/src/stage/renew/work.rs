//! A draft is taken step by step, staged, looked into, and handed to the plan; each in a job of its own.

use std::sync::Arc;

use keel_core::job::{Job, Message};
use keel_core::ladder::{self, Ladder};
use keel_core::mend;
use keel_core::renew::{self, Beside, Draft, Size, Step};
use keel_format::table;
use keel_source::SharedSource;

use super::state::{Asked, Change, Drafted, Renewal, Row, Seen};
use crate::app::effect::{Effect, Effects, job, show, tell};
use crate::stage::Drive;

/// A hundredth of the drive: how far an entry is lengthened at once.
const STEPS: u64 = 100;

/// Drafts anew from what is asked for. What is asked for later takes the place of what is not done yet.
pub(super) fn draft_anew() -> Effect {
    job("draft", |drive| {
        let (asked, clears) = (drive.renew.asked.clone(), drive.renew.clears);
        let (finds, now) = (drive.sweep.finds.clone(), drive.ladder.now.clone());
        let seen_ground = drive.ladder.ground.clone();
        let looked_at = drive.sweep.looked_at.clone();
        drive.renew.proving = None;
        drive.renew.drafting = Some(Job::reading(&drive.source, move |source, cancel| {
            let table = table::read(source.as_ref());
            let mut draft = Draft::of(source, &table, renew::align_of(source));
            let (mut taken, mut refused) = (Vec::new(), None);
            for asked in asked {
                match renew::settled(source, &draft, &asked.step).and_then(|step| draft.take(&step)) {
                    Ok(()) => taken.push(asked),
                    Err(why) => refused = Some(format!("{}: {why}", asked.text)),
                }
            }
            let wants = !taken.is_empty() || clears;
            let staged = wants.then(|| {
                let made_at = jiff::Timestamp::now().as_second();
                let beside =
                    Beside { finds: &finds, clears_leftovers: clears, made_at: u32::try_from(made_at).unwrap_or(u32::MAX) };
                let staged = renew::stage(source, &table, &draft, &beside).map_err(|why| why.to_string())?;
                let seen = keel_core::sweep::Seen { finds: &finds, looked_at: &looked_at };
                let now: Ladder = now.unwrap_or_else(|| match &seen_ground {
                    Some(ground) => ladder::examine_on(ground, source, seen, cancel),
                    None => ladder::examine(source, seen, cancel),
                });
                let looks = mend::looks(source, &finds);
                let gate = renew::gate(source, (&finds, &looks), (&draft, &staged.edits), &now);
                let view: SharedSource = Arc::new(mend::overlay(source, &staged.edits));
                let planned = table::read(view.as_ref());
                Ok(Change { edits: staged.edits.into(), made: staged.made, fitted: staged.fitted, planned, gate, now })
            });
            Drafted { draft, asked: taken, refused, staged }
        }));
    })
}

/// Looks into the drive as it would be.
fn prove() -> Effect {
    job("look into the draft", |drive| {
        let (Some(draft), Some(change)) = (drive.renew.draft.clone(), drive.renew.change().cloned()) else { return };
        let (finds, ground) = (drive.sweep.finds.clone(), drive.ladder.ground.clone());
        drive.renew.proving = Some(Job::reading(&drive.source, move |source, cancel| {
            let looks = mend::looks(source, &finds);
            let ground = ground.unwrap_or_else(|| ladder::Ground::ask(source, cancel, &mut |_| {}));
            let of = (&draft, change.made.as_slice(), change.fitted.as_slice(), &*change.edits);
            let proved = renew::prove(source, of, (&finds, &looks), (&ground, &change.now), cancel);
            Seen { after: proved.after, against: proved.against }
        }));
    })
}

/// Asks for one more step.
pub(super) fn add(drive: &mut Drive, text: String, step: Step) -> Effects {
    drive.renew.asked.push(Asked { text, step });
    vec![draft_anew()]
}

/// Takes the last step back.
pub(super) fn take_back(drive: &mut Drive) -> Effects {
    let renew = &mut drive.renew;
    if renew.asked.pop().is_none() && !std::mem::take(&mut renew.clears) {
        return tell("the draft asks for nothing: the drive stays as it is");
    }
    vec![draft_anew()]
}

/// Makes the selected entry longer or shorter by a hundredth of the drive.
pub(super) fn lengthen(drive: &mut Drive, by: i64) -> Effects {
    let renew = &drive.renew;
    let (Row::Entry(index), Some(draft)) = (renew.row(), &renew.draft) else { return tell("no entry is selected") };
    let Some(entry) = draft.entries.get(index) else { return Vec::new() };
    let part = (draft.drive / STEPS).max(draft.align) * draft.sector.bytes();
    let now = entry.sectors.bytes(draft.sector);
    let bytes = now.saturating_add_signed(by.saturating_mul(i64::try_from(part).unwrap_or(i64::MAX))).max(part);
    set_length(drive, index, bytes)
}

/// Makes entry `index` of the draft `bytes` long; what was done to its length before is taken back.
pub(super) fn set_length(drive: &mut Drive, index: usize, bytes: u64) -> Effects {
    if drive.renew.wiping.is_some() {
        return tell("ground is being overwritten: x stops it");
    }
    let renew = &mut drive.renew;
    let Some(entry) = renew.draft.as_ref().and_then(|draft| draft.entries.get(index)) else { return Vec::new() };
    if let Some(at) = renew.asked_for(index) {
        if let Some(Asked { text, step: Step::Add(wish) }) = renew.asked.get_mut(at) {
            wish.size = Some(Size::Bytes(bytes));
            *text = wish.text();
        }
        return vec![draft_anew()];
    }
    let (Some(number), Some(was)) = (entry.number, entry.stands.as_ref().map(keel_format::Geometry::bytes)) else {
        return tell("nothing that is known stands in this entry");
    };
    renew.asked.retain(|asked| !matches!(&asked.step, Step::Grow(own, _) | Step::Shrink(own, _) if *own == number));
    if bytes == was {
        return vec![draft_anew()];
    }
    let (word, step) = match bytes > was {
        true => ("grow", Step::Grow(number, Size::Bytes(bytes))),
        false => ("shrink", Step::Shrink(number, Size::Bytes(bytes))),
    };
    add(drive, format!("entry {number}: {word} {}", keel_source::size_decimal(bytes)), step)
}

/// Hands the draft to the plan, as soon as it was looked into.
pub(super) fn stage(drive: &mut Drive) -> Effects {
    let renew = &drive.renew;
    if !renew.is_asked() {
        return tell("the draft asks for nothing: choose a row and change it with enter");
    }
    if let Some(Err(why)) = &renew.change {
        return vec![show("Not staged", why.clone())];
    }
    if renew.drafting.is_some() || renew.seen.is_none() {
        drive.renew.goes_on = true;
        return tell("the draft is being looked into: the plan follows");
    }
    hand_over(drive)
}

fn hand_over(drive: &mut Drive) -> Effects {
    let Some(change) = drive.renew.change().cloned() else { return Vec::new() };
    if change.edits.is_empty() {
        return tell("the drive is so already: there is nothing to write");
    }
    let Some(seen) = &drive.renew.seen else { return Vec::new() };
    let renewal = Renewal { against: seen.against.clone(), words: change.gate.words };
    let after = seen.after.clone();
    drive.plan.take_renewal(change.edits, change.planned, after, renewal);
    vec![super::to_plan()]
}

/// Takes what the jobs told.
pub(super) fn reports(drive: &mut Drive) -> Effects {
    let mut effects = Vec::new();
    for message in drive.renew.drafting.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(Some(drafted)) => {
                let renew = &mut drive.renew;
                (renew.draft, renew.asked, renew.change, renew.seen) = (Some(drafted.draft), drafted.asked, drafted.staged, None);
                effects.extend(drafted.refused.iter().flat_map(|why| tell(why.clone())));
                renew.refused = drafted.refused;
                renew.selected = renew.selected.min(renew.rows().len().saturating_sub(1));
                effects.extend(renew.change().is_some().then(prove));
                renew.goes_on &= renew.change().is_some();
            }
            Message::Done(None) => effects.extend(tell("stopped: the draft is that of before the last step")),
            Message::Died(text) => effects.push(show("The drafting died", text)),
        }
        drive.renew.drafting = None;
    }
    for message in drive.renew.proving.as_mut().map(Job::drain).unwrap_or_default() {
        match message {
            Message::Progress(()) => continue,
            Message::Done(seen) => {
                drive.renew.seen = seen;
                if std::mem::take(&mut drive.renew.goes_on) && drive.renew.seen.is_some() {
                    effects.extend(hand_over(drive));
                }
            }
            Message::Died(text) => effects.push(show("The look into the draft died", text)),
        }
        drive.renew.proving = None;
    }
    effects
}
