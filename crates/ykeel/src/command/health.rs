//! `ykeel health`.

use keel_core::health::{self, HealthVerdict};
use keel_format::health::{HealthReading, attribute_word};
use keel_source::counted;

use super::shared::{note, open, print_json};
use crate::cli::SourceArgs;
use crate::exit::Ended;
use crate::out::{say, tell};

pub(super) fn run(args: &SourceArgs) -> anyhow::Result<()> {
    let source = open(args)?;
    let verdict = match health::ask(source.as_ref()) {
        Ok(verdict) => verdict,
        Err(error) => {
            tell!("ykeel: {error}");
            return Err(Ended::Nothing.into());
        }
    };
    note(&args.source, "health", &verdict);
    if args.json {
        return print_json(&verdict);
    }
    print(&verdict);
    Ok(())
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
    }
}
