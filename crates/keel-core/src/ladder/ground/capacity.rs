//! Rung 4: what the drive stores as far as that was measured, what it shows, and what it has beyond that.

use keel_format::health::{Identify, Namespaces};
use keel_format::{Finding, Severity};
use keel_source::{ByteOffset, FurtherEnd, LinkKind, OwnSize, SharedSource, size_decimal};

use super::super::{Rung, RungName, RungState};
use crate::fathom::{self, Fathomed, Method, Nature};
use crate::reads::Survey;
use crate::widen;

pub(super) fn rung(source: &SharedSource, verdict: Option<&Fathomed>, survey: Option<&Survey>) -> Rung {
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

/// What the drive itself says of its size: hidden capacity, and namespaces that are not this device.
pub(super) fn told_by_drive(rung: &mut Rung, source: &SharedSource, identify: Option<&Identify>, own: &OwnSize) {
    hidden(rung, source, identify, &own.further);
    if let Some(identify) = &own.namespaces {
        of_namespaces(rung, &Namespaces::read(identify));
    }
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
pub(super) fn by_label(rung: &mut Rung, shown: u64, label: u64) {
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
