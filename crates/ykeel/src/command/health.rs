//! `ykeel health`.

use std::time::Duration;

use keel_core::health::{self, HealthVerdict};
use keel_format::health::{HealthReading, LoggedErrors, SelfTests, attribute_word};
use keel_source::{SelfTestOrder, Source, counted};
use serde::Serialize;

use super::shared::{cancel, note, open, print_json};
use crate::cli::{SelfTestArg, SourceArgs};
use crate::exit::Ended;
use crate::out::{say, tell};

/// How often a test that runs is looked after.
const LOOK: Duration = Duration::from_secs(2);

#[derive(Serialize)]
struct Document<'a> {
    #[serde(flatten)]
    verdict: &'a HealthVerdict,
    /// The tests that the drive remembers; none where it hands none out.
    #[serde(skip_serializing_if = "Option::is_none")]
    self_tests: Option<&'a SelfTests>,
    /// The errors that it remembers.
    #[serde(skip_serializing_if = "Option::is_none")]
    errors: Option<LoggedErrors>,
}

pub(super) fn run(args: &SourceArgs, order: Option<SelfTestArg>, wait: bool) -> anyhow::Result<()> {
    let source = open(args)?;
    if let Some(order) = order {
        let order = match order {
            SelfTestArg::Short => SelfTestOrder::Short,
            SelfTestArg::Extended => SelfTestOrder::Extended,
            SelfTestArg::Stop => SelfTestOrder::Stop,
        };
        if let Err(error) = health::order_self_test(source.as_ref(), order) {
            tell!("ykeel: {error}");
            return Err(Ended::Nothing.into());
        }
    }
    let mut tests = health::self_tests(source.as_ref()).ok();
    while wait && tests.as_ref().is_some_and(|tests| tests.running_percent.is_some()) {
        if cancel().is_cancelled() {
            return Err(Ended::Cancelled.into());
        }
        std::thread::sleep(LOOK);
        tests = health::self_tests(source.as_ref()).ok();
    }
    let verdict = match health::ask(source.as_ref()) {
        Ok(verdict) => verdict,
        Err(error) => {
            tell!("ykeel: {error}");
            return Err(Ended::Nothing.into());
        }
    };
    note(&args.source, "health", &verdict);
    let errors = source.error_log().ok().map(|log| LoggedErrors::read(&log));
    if args.json {
        return print_json(&Document { verdict: &verdict, self_tests: tests.as_ref(), errors });
    }
    print(&verdict);
    if let Some(tests) = &tests {
        print_tests(tests, source.as_ref());
    }
    if let Some(errors) = errors.filter(|errors| errors.count > 0) {
        say!("  it remembers {}, the last of them:", counted(errors.count, "error", "errors"));
        for error in &errors.errors {
            let at = error.lba.map(|lba| format!(", LBA {lba}")).unwrap_or_default();
            let hours = error.at_hours.map(|hours| format!(", at {hours} hours")).unwrap_or_default();
            say!("    {}{at}{hours}", error.what);
        }
    }
    Ok(())
}

fn print_tests(tests: &SelfTests, source: &dyn Source) {
    tests.words().iter().for_each(|line| say!("  {line}"));
    if let Some(failed) = health::failed_test(tests, source.sector_size()) {
        say!("  {} ({})", failed.what, failed.how);
    }
}

fn print(verdict: &HealthVerdict) {
    say!("{}", verdict.standing.word());
    for finding in &verdict.findings {
        say!("  {} ({})", finding.what, finding.how);
    }
    for advice in &verdict.advice {
        say!("  next: {advice}");
    }
    match &verdict.reading {
        HealthReading::Ata(ata) => {
            say!("   id  value worst threshold  raw");
            for attribute in &ata.attributes {
                let threshold = attribute.threshold.map_or_else(|| "-".into(), |threshold| threshold.to_string());
                let word = attribute_word(attribute.id);
                say!(
                    "  {:>3}  {:>5} {:>5} {threshold:>9}  {:<14} {word}",
                    attribute.id,
                    attribute.value,
                    attribute.worst,
                    attribute.raw
                );
            }
        }
        HealthReading::Nvme(nvme) => {
            say!("  spare {} % of {} %, used {} %", nvme.available_spare, nvme.available_spare_threshold, nvme.percentage_used);
            say!(
                "  {} hours, {} power cycles, {} unsafe shutdowns",
                nvme.power_on_hours,
                nvme.power_cycles,
                nvme.unsafe_shutdowns
            );
            say!(
                "  {}, {} in the error log",
                counted(nvme.media_errors, "media error", "media errors"),
                counted(nvme.error_log_entries, "entry", "entries")
            );
        }
        HealthReading::Scsi(scsi) => {
            for (counters, what) in [(scsi.read, "reads"), (scsi.write, "writes"), (scsi.verify, "verifies")] {
                let Some(counters) = counters else { continue };
                say!("  {what}: {} errors corrected, {} not", counters.corrected, counters.uncorrected);
            }
            if let Some(count) = scsi.non_medium {
                say!("  {}", counted(count, "error that is not the medium's", "errors that are not the medium's"));
            }
        }
    }
}
