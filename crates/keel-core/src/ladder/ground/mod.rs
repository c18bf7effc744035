//! Rungs 1 to 4: what the drive itself is asked, once, for the drive and for every view of it.

mod capacity;
mod link;
mod said;
mod sampled;

use keel_format::health::Identify;
use keel_source::{Attachment, SharedSource};

use super::{Rung, RungName, RungState};
use crate::case::Case;
use crate::fathom::{self, Fathomed};
use crate::health::{self, HealthVerdict};
use crate::job::{Cancel, Desk};
use crate::kernel_words::KernelWords;
use crate::place::label_named;
use crate::reads::{self, ReadsOptions, Survey};

/// The rungs 1 to 4 of a drive, and what they were read from.
#[derive(Debug, Clone)]
pub struct Ground {
    /// Link, Health, Reads, Capacity.
    pub rungs: Vec<Rung>,
    /// How it delivers; none for a copy, whose missing places are known.
    pub survey: Option<Survey>,
    /// What it says of itself.
    pub health: Option<HealthVerdict>,
    /// What it stores, where that was measured.
    pub capacity: Option<Fathomed>,
    /// How it is attached; none for what is no device of this system.
    pub attachment: Option<Attachment>,
    /// What the kernel said of it since it was plugged in.
    pub kernel: KernelWords,
}

impl Ground {
    /// True when the health page counts bad sectors.
    #[must_use]
    pub fn counts_bad(&self) -> bool {
        self.health.as_ref().is_some_and(|health| health.media_count() > 0)
    }

    /// Asks the drive: its samples first, since they show how the link carries; each rung is handed to `each` as soon as it
    /// is known. The drive's case is asked for the checks that were made. Reads only.
    pub fn ask(source: &SharedSource, cancel: &Cancel, each: &mut dyn FnMut(&Rung)) -> Self {
        let identity = source.identity();
        let health = health::ask(source.as_ref());
        let mut rungs = vec![said::health_rung(&health)];
        rungs.iter().for_each(&mut *each);
        let survey = source.missing().is_empty().then(|| {
            let desk = Desk::new(cancel.clone()).0;
            reads::survey(source, ReadsOptions::sampled(), &desk)
        });
        // After the samples: what the kernel said of them is among it.
        let kernel = KernelWords::of(source);
        let attachment = source.attachment();
        let reads =
            survey.as_ref().map_or_else(|| sampled::of_copy(source.missing()), |survey| sampled::rung(source, survey, &kernel));
        rungs.push(reads);
        let case = identity.path.as_ref().and_then(|path| Case::of(path, Some(identity)).ok().flatten());
        if let (Some(case), Some(reads)) = (&case, rungs.last_mut()) {
            reads.findings.extend(link::pasted(case).flat_map(|words| words.findings(RungName::Reads)));
        }
        rungs.iter().skip(1).for_each(&mut *each);
        let mut way = link::rung(source, survey.as_ref(), health.as_ref().ok(), case.as_ref());
        if let Some(why) = source.not_ready() {
            link::not_ready(&mut way, why, survey.as_ref().is_some_and(|survey| survey.came > 0));
        }
        link::told_by_system(&mut way, attachment.as_ref(), &kernel);
        rungs.push(way);
        let capacity = fathom::known(source);
        let tests = health::self_tests(source.as_ref()).unwrap_or_default();
        if let Some(failed) = health::failed_test(&tests, identity.logical_sector) {
            // A place that it names is a bad place; without one, something else of the drive failed.
            let (name, state) = match failed.at_byte {
                Some(_) => (RungName::Reads, RungState::Doubtful),
                None => (RungName::Health, RungState::Broken),
            };
            if let Some(rung) = rungs.iter_mut().find(|rung| rung.rung == name) {
                rung.state = rung.state.max(state);
                rung.findings.push(failed);
                rung.next.push("copy the drive before anything is written to it".into());
                each(rung);
            }
        }
        let own = source.own_size();
        let identify = own.identify.as_deref().and_then(Identify::read);
        if let Some(health) = rungs.iter_mut().find(|rung| rung.rung == RungName::Health) {
            said::told_by_identify(health, identify.as_ref());
            each(health);
        }
        let mut proven = capacity::rung(source, capacity.as_ref(), survey.as_ref());
        capacity::told_by_drive(&mut proven, source, identify.as_ref(), &own);
        let label = case.as_ref().and_then(|case| case.record.told.texts.iter().rev().find_map(|text| label_named(text)));
        if let Some(label) = label {
            capacity::by_label(&mut proven, identity.bytes, label);
        }
        proven.findings.extend(kernel.findings(RungName::Capacity));
        rungs.push(proven);
        rungs.iter().skip(2).for_each(each);
        rungs.sort_by_key(|rung| rung.rung);
        Self { rungs, survey, health: health.ok(), capacity, attachment, kernel }
    }
}
