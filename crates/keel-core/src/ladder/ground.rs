//! Rungs 1 to 4: what the drive itself is asked, once, for the drive and for every view of it.

use keel_format::health::{Identify, Namespaces};
use keel_format::{Finding, Severity};
use keel_source::{
    Attachment, ByteOffset, ByteRange, FurtherEnd, LinkKind, LinkRate, NoHealth, NotReady, SharedSource, counted, size_decimal,
};

use super::{Rung, RungName, RungState};
use crate::case::Case;
use crate::fathom::{self, Fathomed, Method, Nature};
use crate::health::{self, HealthVerdict, Standing};
use crate::intake::{self, Cause, Outcome};
use crate::job::{Cancel, Desk};
use crate::kernel_words::KernelWords;
use crate::place::label_named;
use crate::reads::{self, Latency, Left, ReadsOptions, Survey};
use crate::widen;

/// The most places that are listed one by one.
const MOST_LISTED: usize = 16;

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
        let mut rungs = vec![health_rung(&health)];
        rungs.iter().for_each(&mut *each);
        let survey = source.missing().is_empty().then(|| {
            let desk = Desk::new(cancel.clone()).0;
            reads::survey(source, ReadsOptions::sampled(), &desk)
        });
        // After the samples: what the kernel said of them is among it.
        let kernel = KernelWords::of(source);
        let attachment = source.attachment();
        let reads = survey.as_ref().map_or_else(|| reads_of_copy(source.missing()), |survey| reads_rung(source, survey, &kernel));
        rungs.push(reads);
        let case = identity.path.as_ref().and_then(|path| Case::of(path, Some(identity)).ok().flatten());
        if let (Some(case), Some(reads)) = (&case, rungs.last_mut()) {
            reads.findings.extend(pasted(case).flat_map(|words| words.findings(RungName::Reads)));
        }
        rungs.iter().skip(1).for_each(&mut *each);
        let mut link = link_rung(source, survey.as_ref(), health.as_ref().ok(), case.as_ref());
        if let Some(why) = source.not_ready() {
            not_ready(&mut link, why);
        }
        told_by_system(&mut link, attachment.as_ref(), &kernel);
        rungs.push(link);
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
            told_by_identify(health, identify.as_ref());
            each(health);
        }
        let mut proven = capacity_rung(source, capacity.as_ref(), survey.as_ref());
        hidden(&mut proven, source, identify.as_ref(), &own.further);
        if let Some(identify) = &own.namespaces {
            of_namespaces(&mut proven, &Namespaces::read(identify));
        }
        let label = case.as_ref().and_then(|case| case.record.told.texts.iter().rev().find_map(|text| label_named(text)));
        if let Some(label) = label {
            by_label(&mut proven, identity.bytes, label);
        }
        proven.findings.extend(kernel.findings(RungName::Capacity));
        rungs.push(proven);
        rungs.iter().skip(2).for_each(each);
        rungs.sort_by_key(|rung| rung.rung);
        Self { rungs, survey, health: health.ok(), capacity, attachment, kernel }
    }
}

/// What a drive shows of its link while it is asked, and what the checks outside the computer say.
fn link_rung(source: &SharedSource, survey: Option<&Survey>, health: Option<&HealthVerdict>, case: Option<&Case>) -> Rung {
    let identity = source.identity();
    let (mut findings, mut state) = (Vec::new(), RungState::Sound);
    let mut note = "answers".to_string();
    if matches!(identity.link, LinkKind::Image | LinkKind::Derived) {
        (state, note) = (RungState::Untested, "an image has no link".into());
    } else if identity.bytes == 0 {
        (state, note) = (RungState::Broken, "reports 0 bytes".into());
        let what = "the drive answers and reports 0 bytes: its electronics or firmware are up, its medium is not";
        findings.push(Finding::of_all(Severity::Broken, what, "the size that it claims"));
    }
    if let Some(survey) = survey.filter(|survey| survey.link_lost > 0) {
        (state, note) = (RungState::Broken, "drops off the link".into());
        let what =
            format!("{} without any answer: the drive dropped off the link", counted(survey.link_lost, "request", "requests"));
        findings.push(Finding::of_all(Severity::Broken, what, "samples over the surface"));
    } else if let Some(survey) = survey.filter(|survey| survey.interface_errors > 0) {
        (state, note) = (RungState::Doubtful, "interface errors".into());
        let cured = survey.failed.iter().filter(|failed| failed.interface && failed.came).count();
        let what = format!(
            "{} transfers failed on their way; {cured} of them came when they were asked for again",
            survey.interface_errors
        );
        findings.push(Finding::of_all(Severity::Doubt, what, "samples over the surface, and spaced second tries"));
    }
    if let Some(health) = health.filter(|health| health.link_count() > 0 && state != RungState::Broken) {
        (state, note) = (state.max(RungState::Doubtful), if note == "answers" { "interface errors".into() } else { note });
        let what = format!("the drive itself counts {} interface errors", health.link_count());
        findings.push(Finding::of_all(Severity::Doubt, what, "its health page"));
    }
    let mut next = Vec::new();
    if let Some(case) = case {
        told_by_case(case, &mut findings, &mut next);
    }
    if matches!(state, RungState::Broken | RungState::Doubtful) && next.is_empty() {
        let causes = intake::remaining(["comes_and_goes"], &case.map(Case::made).unwrap_or_default());
        if let Some(check) = intake::next_check(&causes, &case.map(Case::made).unwrap_or_default()) {
            next.push(format!("check outside the computer: {} ({} min); note it in the Yard", check.words, check.minutes));
        }
    }
    let mut rung = Rung::new(RungName::Link, state, note).with(findings);
    rung.next = next;
    rung
}

/// What the system says of the way to the drive and of what happened on it.
fn told_by_system(rung: &mut Rung, attachment: Option<&Attachment>, kernel: &KernelWords) {
    let Some(attachment) = attachment else { return };
    let (mut findings, mut state) = (Vec::new(), rung.state);
    let mut note = None;
    if !attachment.has_medium && attachment.is_removable {
        note = Some("no medium in it".to_string());
        let what = "the medium can be taken out, and there is none: a reader without a card";
        findings.push(Finding::of_all(Severity::Broken, what, "the system's own files"));
    }
    if let Some(rate) = attachment.rate.filter(LinkRate::is_below) {
        state = state.max(RungState::Doubtful);
        note = note.or_else(|| Some(format!("{} only", LinkRate::words(rate.now))));
        let can = |who: &str, bits: Option<u64>| {
            bits.map(|bits| format!(", {who} can do {}", LinkRate::words(bits))).unwrap_or_default()
        };
        let why = if rate.is_stepped_down { "; the system slowed it down after errors" } else { "" };
        let what = format!(
            "the link runs at {}{}{}{why}",
            LinkRate::words(rate.now),
            can("the drive", rate.drive),
            can("the port", rate.port)
        );
        findings.push(Finding::of_all(Severity::Doubt, what, "what drive and port negotiated"));
        rung.next.push("another cable, straight to a fast port of the machine, without hub or dock".into());
    }
    findings.extend(kernel.findings(RungName::Link));
    let worst = findings.iter().map(|finding| finding.severity).max();
    let seen = match worst {
        // The kernel's words are of the past: the drive that answers now is doubtful, not gone.
        Some(Severity::Broken | Severity::Doubt) => RungState::Doubtful,
        _ => RungState::Sound,
    };
    rung.state = state.max(seen);
    findings.push(Finding::of_all(Severity::Note, format!("attached by {}", attachment.words()), "the system's own files"));
    if attachment.is_read_only {
        let what = "the system takes no writes for it: a switch on card or adapter, or a drive that gave up writing";
        findings.push(Finding::of_all(Severity::Note, what, "the system's own files"));
    }
    if let Some(held) = &attachment.held {
        findings.push(Finding::of_all(
            Severity::Note,
            format!("in use by this system: {held}"),
            "mounts, swap and devices built on it",
        ));
    }
    if let Some(unread) = &kernel.unread {
        findings.push(Finding::of_all(Severity::Note, unread.clone(), "the kernel's log"));
    }
    match note {
        Some(note) => rung.note = note,
        None if rung.note == "answers" => rung.note = format!("answers, {}", in_short(attachment)),
        None => {}
    }
    rung.findings.extend(findings);
}

/// A drive that answers and does not deliver says why.
fn not_ready(rung: &mut Rung, why: NotReady) {
    let (note, what, next) = match why {
        NotReady::Becoming => (
            "becoming ready",
            "the drive says that it is becoming ready: it spins up, or looks for its own tables",
            "wait a few minutes and ask again; one that stays so has a fault in its firmware, its heads or its surface",
        ),
        NotReady::StandsBy => (
            "stands by",
            "the drive stands by and waits to be told to start: what reads it does not wake it",
            "another port or adapter, straight to the machine: some bridges never tell it; feel or hear whether it spins up",
        ),
        NotReady::ByHand => (
            "waits for a hand",
            "the drive says that somebody has to do something at it before it is ready",
            "look at its switches, its tray, its lock",
        ),
        NotReady::Other => (
            "not ready",
            "the drive answers and says that it is not ready",
            "copy it as soon as it is, before anything else is done with it",
        ),
    };
    rung.state = RungState::Broken;
    rung.note = note.into();
    rung.findings.insert(0, Finding::of_all(Severity::Broken, what, "TEST UNIT READY"));
    rung.next.insert(0, next.into());
}

fn in_short(attachment: &Attachment) -> String {
    let rate = attachment.rate.map(|rate| format!(" at {}", LinkRate::words(rate.now))).unwrap_or_default();
    format!("{}{rate}", attachment.transport.word())
}

/// The checks that were made, what remains, and the one that comes next.
fn told_by_case(case: &Case, findings: &mut Vec<Finding>, next: &mut Vec<String>) {
    for made in &case.record.checks {
        let Some(check) = intake::check(&made.check) else { continue };
        let result = if made.outcome == Outcome::Yes { check.results.0 } else { check.results.1 };
        let note = if made.note.is_empty() { String::new() } else { format!(" ({})", made.note) };
        findings.push(Finding::of_all(
            Severity::Note,
            format!("{}: {result}{note}", check.words),
            format!("checked at {}", made.at),
        ));
    }
    for pasted in pasted(case) {
        findings.extend(pasted.findings(RungName::Link));
    }
    let remaining = case.remaining();
    let words: Vec<&str> = remaining.iter().map(|cause: &Cause| cause.word()).collect();
    if case.record.told.symptoms.is_empty() {
        return;
    }
    let what = match words.as_slice() {
        [] => "every cause that the symptoms leave was ruled out: look at the symptoms again".to_string(),
        [only] => format!("what remains at fault: {only}"),
        more => format!("may still be at fault: {}", more.join(", ")),
    };
    findings.push(Finding::of_all(Severity::Note, what, "symptoms as told, and the checks"));
    if let Some(check) = case.next_check() {
        next.push(format!("next check: {} ({} min)", check.words, check.minutes));
    }
}

/// What the logs say that were pasted into the case.
fn pasted(case: &Case) -> impl Iterator<Item = KernelWords> + '_ {
    case.record.told.texts.iter().map(|text| KernelWords::pasted(text))
}

fn health_rung(health: &Result<HealthVerdict, NoHealth>) -> Rung {
    match health {
        Err(error) => {
            let rung = Rung::new(RungName::Health, RungState::Untested, error.to_string());
            match error {
                NoHealth::NotKept => rung,
                NoHealth::Refused { .. } => rung.then("out of its enclosure, or on another port, it may hand them out"),
            }
        }
        Ok(verdict) => {
            let state = match verdict.standing {
                Standing::Sound => RungState::Sound,
                Standing::Worn => RungState::Doubtful,
                Standing::Failing => RungState::Broken,
            };
            let mut rung = Rung::new(RungName::Health, state, verdict.standing.word()).with(verdict.findings.clone());
            rung.next.clone_from(&verdict.advice);
            rung
        }
    }
}

/// What the drive says of its own state beside its health page.
fn told_by_identify(rung: &mut Rung, identify: Option<&Identify>) {
    let Some(identify) = identify else { return };
    let how = "IDENTIFY DEVICE data, word 128";
    if let Some(security) = identify.security.filter(|security| security.locked) {
        rung.state = RungState::Broken;
        rung.note = "locked by a password".into();
        let what = "the drive is locked by a password: it answers, and nothing of it reads before the password is given";
        rung.findings.insert(0, Finding::of_all(Severity::Broken, what, how));
        rung.next.insert(0, "the owner's password unlocks it, in the machine that it was set in; nothing else does".into());
        if security.count_expired {
            let what = "it takes no password any more until its power was cut";
            rung.findings.insert(1, Finding::of_all(Severity::Doubt, what, how));
        }
    } else if identify.waits_for_spin_up {
        let what = "the drive stands by since its power came on, and waits to be told to spin up";
        rung.findings.push(Finding::of_all(Severity::Doubt, what, "IDENTIFY DEVICE data, word 2"));
        rung.state = rung.state.max(RungState::Doubtful);
        rung.next.push("an adapter that spins it up: straight to the machine; some bridges never do".into());
    } else if identify.security.is_some_and(|security| security.enabled) {
        let what = "a password is set; the drive is unlocked as long as it has power";
        rung.findings.push(Finding::of_all(Severity::Doubt, what, how));
        rung.next.push("copy it before its power is cut".into());
        rung.state = rung.state.max(RungState::Doubtful);
    }
    let mut features = Vec::new();
    match identify.rotation {
        Some(1) => features.push("no rotating medium".to_string()),
        Some(rotation) => features.push(format!("{rotation} rotations a minute")),
        None => {}
    }
    features.push(format!("sectors of {}/{} bytes", identify.sector_bytes.0, identify.sector_bytes.1));
    let flag = |is_on: bool, word: &str| is_on.then(|| word.to_string());
    features.extend(flag(identify.trim && identify.trimmed_reads_zeros, "trim, and what was trimmed reads as zeros"));
    features.extend(flag(identify.trim && !identify.trimmed_reads_zeros, "trim"));
    features.extend(flag(identify.zoned > 0, "zoned"));
    features.extend(flag(identify.write_cache == Some(true), "write cache on"));
    features.extend(flag(identify.self_test, "tests itself when asked"));
    features.extend(flag(!identify.smart, "its attributes are switched off"));
    rung.findings.push(Finding::of_all(Severity::Note, features.join(", "), "IDENTIFY DEVICE data"));
}

/// What lies behind the end that is shown: hidden by the drive, or by what stands before it.
fn hidden(rung: &mut Rung, source: &SharedSource, identify: Option<&Identify>, further: &[FurtherEnd]) {
    let shown = source.identity().bytes;
    let (own, sectors) = (identify.map(Identify::bytes), identify.map(|identify| identify.sector_bytes.0));
    let mut say = |what: String, how: &str, next: &str| {
        rung.findings.push(Finding::at(Severity::Doubt, ByteOffset(shown), what, how));
        rung.state = rung.state.max(RungState::Doubtful);
        rung.next.push(next.to_string());
    };
    // The drive behind a bridge says more, or other sectors, than the bridge shows.
    if let Some(own) = own.filter(|own| *own > shown && shown > 0) {
        let what = format!(
            "the drive itself has {}, and {} of it are shown: the bridge before it cuts the rest off",
            size_decimal(own),
            size_decimal(shown)
        );
        say(what, "IDENTIFY DEVICE data against the size that the system read", "out of its enclosure, straight to the machine");
    }
    let logical = source.identity().logical_sector.bytes();
    if let Some(sector) = sectors.filter(|sector| *sector != logical) {
        let what = format!(
            "the drive has sectors of {sector} bytes, and is shown with {logical}: the bridge translates, and a table made without it does not fit"
        );
        say(
            what,
            "IDENTIFY DEVICE data against what the system read",
            "--sector-size reads the table as the other side wrote it",
        );
    }
    let addressed = own.unwrap_or(shown);
    for end in further.iter().filter(|end| end.bytes > addressed) {
        let (bytes, means) = (end.bytes - addressed, end.means.word());
        let what = format!("{} more are on the drive and not shown ({bytes} bytes), by its {means}", size_decimal(bytes));
        let next = "nothing there reads before the drive is told to show it: ykeel widen SOURCE, or > here; what is shown can be worked on as it is";
        say(what, "its native maximum address against the one in use", next);
    }
    if let Some(former) = widen::former(source.identity()) {
        let what = format!("it was told to show {} more at {}", size_decimal(former.whole_bytes - former.bytes), former.at);
        let how = "what is kept of this drive; ykeel widen SOURCE --back tells it the former end";
        rung.findings.push(Finding::at(Severity::Note, ByteOffset(former.bytes), what, how));
    }
    if rung.state == RungState::Doubtful && rung.note == "Fathom will test it" {
        rung.note = "shows less than it has".into();
    }
}

/// What of an NVMe drive this device is not.
fn of_namespaces(rung: &mut Rung, namespaces: &Namespaces) {
    let how = "Identify data: controller, and active namespaces";
    let others: Vec<String> = namespaces.others().iter().map(ToString::to_string).collect();
    if !others.is_empty() {
        let what = format!(
            "this is namespace {} of its drive; {} {} beside it, each a device of its own",
            namespaces.own,
            if others.len() == 1 { "there is namespace" } else { "there are namespaces" },
            others.join(", ")
        );
        rung.findings.push(Finding::of_all(Severity::Note, what, how));
    }
    if namespaces.unallocated_bytes > 0 {
        let of = namespaces.total_bytes.map(|total| format!(" of {}", size_decimal(total))).unwrap_or_default();
        let what = format!("{}{of} belong to no namespace: no device shows them", size_decimal(namespaces.unallocated_bytes));
        rung.findings.push(Finding::of_all(Severity::Note, what, how));
    }
}

/// What a drive shows against what its label says: a part in thirty is what makers round by.
fn by_label(rung: &mut Rung, shown: u64, label: u64) {
    let how = "the label, as the case tells it";
    let (says, is) = (size_decimal(label), size_decimal(shown));
    let room = label / 30;
    if shown.abs_diff(label) <= room {
        rung.findings.push(Finding::of_all(Severity::Note, format!("it shows {is}, as its label says"), how));
        return;
    }
    let (what, next) = match shown < label {
        true => (
            format!("its label says {says}, and {is} are shown: {} are missing", size_decimal(label - shown)),
            "what hides them: its own maximum address (ykeel widen SOURCE), the bridge of its enclosure, or a fault of its firmware",
        ),
        false => (
            format!("it shows {is}, and its label says {says}: it may claim more than it has"),
            "measure it (ykeel fathom) before anything is written to it",
        ),
    };
    rung.findings.push(Finding::of_all(Severity::Doubt, what, how));
    rung.state = rung.state.max(RungState::Doubtful);
    rung.next.push(next.into());
    if rung.note == "Fathom will test it" {
        rung.note = format!("{says} by its label");
    }
}

/// The reads of a copy were made when it was taken: what is missing is known, and a broken rung above it is the next step.
fn reads_of_copy(missing: &[ByteRange]) -> Rung {
    let bytes: u64 = missing.iter().map(|range| range.len()).sum();
    let places = missing.iter().take(MOST_LISTED);
    let findings = places.map(|range| {
        let what = format!("{} bytes are missing from the copy", range.len());
        Finding::at(Severity::Doubt, range.start, what, "the log of the copy")
    });
    let said = format!("{bytes} bytes missing in {}", counted(missing.len(), "place", "places"));
    Rung::new(RungName::Reads, RungState::Doubtful, said)
        .with(findings.collect())
        .then("while the drive still answers, go on with the copy: ykeel copy, the same command")
        .then("ykeel files --missing names the files that lack something")
}

fn reads_rung(source: &SharedSource, survey: &Survey, kernel: &KernelWords) -> Rung {
    if survey.asked == 0 {
        let note = if source.is_empty() { "there is nothing to read" } else { "not sampled" };
        return Rung::new(RungName::Reads, RungState::Untested, note);
    }
    let staying: Vec<_> = survey.staying().filter(|failed| !failed.interface).collect();
    let mut findings: Vec<Finding> = staying
        .iter()
        .take(MOST_LISTED)
        .map(|failed| {
            let what = format!("{} bytes cannot be read, asked {}", failed.range.len(), counted(failed.tries, "time", "times"));
            // The kernel's words for our own request.
            let words = kernel.of_place(failed.range.start, failed.range.end);
            let words = words.map(|word| format!("; the kernel: {}", word.line)).unwrap_or_default();
            Finding::at(Severity::Broken, failed.range.start, what, format!("sampled read: {}{words}", failed.reason))
        })
        .collect();
    for failed in survey.failed.iter().filter(|failed| failed.came && !failed.interface).take(MOST_LISTED) {
        let what = format!("{} bytes came at try {}", failed.range.len(), failed.tries);
        findings.push(Finding::at(Severity::Doubt, failed.range.start, what, format!("sampled read: {}", failed.reason)));
    }
    let asked_here = |finding: &Finding| {
        finding.at_byte.is_some_and(|at| staying.iter().any(|failed| at >= failed.range.start && at < failed.range.end))
    };
    findings.extend(kernel.findings(RungName::Reads).into_iter().filter(|finding| !asked_here(finding)));
    let late: u64 = [Latency::Slow, Latency::Stuck].iter().map(|class| survey.count(*class)).sum();
    if late > 0 {
        let worst = survey.picture.iter().max_by_key(|cell| cell.longest_us);
        let (longest, at) = worst.map_or((0, keel_source::ByteOffset(0)), |cell| (cell.longest_us, cell.at));
        let what = format!("{late} reads took more than ten times what is usual for this drive, up to {} ms", longest / 1000);
        let how = format!("the median of {} reads is {} µs", survey.came, survey.median_us);
        findings.push(Finding::at(Severity::Doubt, at, what, how));
    }
    if let Some(left) = survey.left.filter(|left| *left != Left::Cancelled) {
        findings.push(Finding::of_all(
            Severity::Note,
            format!("not all places were asked: {}", left.word()),
            "samples over the surface",
        ));
    }
    let state = match (staying.is_empty(), findings.iter().any(|finding| finding.severity == Severity::Doubt)) {
        (false, _) => RungState::Broken,
        (true, true) => RungState::Doubtful,
        (true, false) => RungState::Sound,
    };
    let reached = survey.came + survey.failed.iter().filter(|failed| failed.came).count() as u64;
    let rung = Rung::new(RungName::Reads, state, format!("{reached} of {} samples", survey.asked)).with(findings);
    match state {
        RungState::Broken => {
            rung.then("copy the drive first (ykeel copy), then work on the copy: what cannot be read cannot be put back")
        }
        RungState::Doubtful => rung.then("copy the drive before anything is written to it"),
        _ => rung,
    }
}

fn capacity_rung(source: &SharedSource, verdict: Option<&Fathomed>, survey: Option<&Survey>) -> Rung {
    let identity = source.identity();
    if matches!(identity.link, LinkKind::Image | LinkKind::Derived) {
        return Rung::new(RungName::Capacity, RungState::Untested, "an image holds what it holds");
    }
    if fathom::interrupted(identity).is_some() {
        let what = "a probe was interrupted: what it touched does not stand as it was";
        return Rung::new(RungName::Capacity, RungState::Broken, "a probe was interrupted")
            .with(vec![Finding::of_all(Severity::Broken, what, "what it touched is kept, and can be put back")])
            .then("put it back: ykeel fathom SOURCE --restore, or u in Fathom");
    }
    if verdict.is_none()
        && let Some(other) = fathom::doubted(source)
    {
        let what = format!("a drive that calls itself so was measured ({}), and this one holds something else", other.line());
        let how = "samples of what it held then: it was used since, or it is another one";
        return Rung::new(RungName::Capacity, RungState::Doubtful, "measured once, and holds something else now")
            .with(vec![Finding::of_all(Severity::Doubt, what, how)])
            .then("measure it again (ykeel fathom) before anything is written to it");
    }
    let ends_at = survey.and_then(Survey::ends_at).filter(|_| verdict.is_none());
    if let Some(end) = ends_at {
        let what = format!("everything that was asked for from byte {} on fails, and everything before it comes", end.0);
        return Rung::new(RungName::Capacity, RungState::Doubtful, format!("may end at {}", size_decimal(end.0)))
            .with(vec![Finding::at(
                Severity::Doubt,
                end,
                what,
                "samples over the surface: the drive may store less than it claims",
            )])
            .then("copy what comes first; then measure it (ykeel fathom) before anything is written to it");
    }
    let Some(verdict) = verdict else {
        return Rung::new(RungName::Capacity, RungState::Untested, "Fathom will test it")
            .then("Fathom will prove how much the drive can store");
    };
    let state = match verdict.nature {
        nature if nature.is_lie() => {
            if verdict.method == Method::Estimate {
                RungState::Doubtful
            } else {
                RungState::Broken
            }
        }
        Nature::Honest => RungState::Sound,
        Nature::Unknown => RungState::Untested,
        _ => RungState::Doubtful,
    };
    let severity = match state {
        RungState::Broken => Severity::Broken,
        RungState::Doubtful => Severity::Doubt,
        _ => Severity::Note,
    };
    let findings = verdict
        .reasons
        .iter()
        .enumerate()
        .map(|(index, reason)| {
            let severity = if index == 0 { severity } else { Severity::Note };
            Finding::of_all(severity, reason.clone(), format!("{}, {}", verdict.method.word(), verdict.sureness.word()))
        })
        .collect();
    let rung = Rung::new(RungName::Capacity, state, verdict.line()).with(findings);
    if state == RungState::Broken {
        rung.then(format!(
            "everything from byte {} on is lost; copy what lies before it, and trust the drive with nothing",
            verdict.proven_bytes
        ))
        .then("Mend fits table and volume to the true end where that can be done")
    } else {
        rung
    }
}
