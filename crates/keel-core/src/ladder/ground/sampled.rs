//! Rung 3: how it delivers, by samples; of a copy, what is missing.

use keel_format::{Finding, Severity};
use keel_source::{ByteRange, SharedSource, counted};

use super::super::{Rung, RungName, RungState};
use crate::kernel_words::KernelWords;
use crate::reads::{Latency, Left, Survey};

/// The most places that are listed one by one.
const MOST_LISTED: usize = 16;

/// The reads of a copy were made when it was taken: what is missing is known, and a broken rung above it is the next step.
pub(super) fn of_copy(missing: &[ByteRange]) -> Rung {
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

pub(super) fn rung(source: &SharedSource, survey: &Survey, kernel: &KernelWords) -> Rung {
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
