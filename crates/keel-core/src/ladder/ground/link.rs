//! Rung 1: how the drive shows itself on its link, what the system and the drive say of it, what was checked outside the computer.

use keel_format::{Finding, Severity};
use keel_source::{Attachment, LinkKind, LinkRate, NotReady, SharedSource, counted};

use super::super::{Rung, RungName, RungState};
use crate::case::Case;
use crate::health::HealthVerdict;
use crate::intake::{self, Cause, Outcome};
use crate::kernel_words::KernelWords;
use crate::reads::Survey;

/// What a drive shows of its link while it is asked, and what the checks outside the computer say.
pub(super) fn rung(source: &SharedSource, survey: Option<&Survey>, health: Option<&HealthVerdict>, case: Option<&Case>) -> Rung {
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
pub(super) fn told_by_system(rung: &mut Rung, attachment: Option<&Attachment>, kernel: &KernelWords) {
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

/// A drive that answers says that it is not ready. Where samples came all the same (`delivers`) it is doubtful and not gone.
pub(super) fn not_ready(rung: &mut Rung, why: NotReady, delivers: bool) {
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
    let (state, severity) = match delivers {
        true => (RungState::Doubtful, Severity::Doubt),
        false => (RungState::Broken, Severity::Broken),
    };
    rung.state = rung.state.max(state);
    rung.note = note.into();
    rung.findings.insert(0, Finding::of_all(severity, what, "TEST UNIT READY"));
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
pub(super) fn pasted(case: &Case) -> impl Iterator<Item = KernelWords> + '_ {
    case.record.told.texts.iter().map(|text| KernelWords::pasted(text))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_drive_that_says_it_is_not_ready_and_delivers_is_doubtful_and_not_gone() {
        let told = |state, delivers| {
            let mut rung = Rung::new(RungName::Link, state, "answers");
            not_ready(&mut rung, NotReady::StandsBy, delivers);
            (rung.state, rung.findings[0].severity, rung.note, rung.next.len())
        };
        let note = || "stands by".to_string();
        assert_eq!(told(RungState::Sound, true), (RungState::Doubtful, Severity::Doubt, note(), 1));
        assert_eq!(told(RungState::Sound, false), (RungState::Broken, Severity::Broken, note(), 1));
        assert_eq!(told(RungState::Broken, true).0, RungState::Broken, "what else broke it stays");
    }
}
