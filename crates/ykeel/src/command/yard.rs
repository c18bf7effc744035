//! `ykeel yard`.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use keel_core::job::{Job, Message};
use keel_core::yard::{self, Berth, Device};
use keel_source::{printable, size_decimal};
use serde::Serialize;

use super::shared::{cancel, print_json};
use crate::exit::Ended;
use crate::out::say;

#[derive(Serialize)]
struct Document {
    drives: Vec<Berth>,
    /// Paths of the devices of this machine.
    devices: Vec<PathBuf>,
    /// What the system says of each of them.
    attached: Vec<Attached>,
}

/// The devices at a moment, and what changed since the one before.
#[derive(Serialize)]
struct Seen {
    changes: Vec<String>,
    attached: Vec<Attached>,
}

/// How often what came is looked for.
const LOOK: Duration = Duration::from_millis(20);

#[derive(Serialize)]
struct Attached {
    path: PathBuf,
    #[serde(flatten)]
    device: Device,
}

pub(super) fn run(dir: &Path, devices: bool, json: bool) -> anyhow::Result<()> {
    let attached = attached(if devices { yard::device_berths() } else { Vec::new() });
    let devices = attached.iter().map(|attached| attached.path.clone()).collect();
    let document = Document { drives: yard::list(dir)?, devices, attached };
    if json {
        return print_json(&document);
    }
    for berth in &document.drives {
        let name = printable(&berth.path.display().to_string());
        match (&berth.identity, &berth.problem) {
            (Some(identity), _) => {
                say!(
                    "{name}  {}  {}  {}",
                    size_decimal(identity.bytes),
                    identity.link.word(),
                    identity.serial.as_deref().unwrap_or("-")
                );
            }
            (None, problem) => say!("{name}  does not open: {}", problem.as_deref().unwrap_or("-")),
        }
        for twin in &berth.same_identifier {
            let twin = printable(&twin.display().to_string());
            say!("    has the disk identifier of {twin}; ykeel mend --new-id gives it one of its own");
        }
        if let Some(symptom) = &berth.symptom {
            say!("    {symptom}");
        }
        if let Some(bundle) = &berth.interrupted {
            say!("    an apply was interrupted: ykeel undo [--finish] {}", bundle.display());
        }
    }
    document.attached.iter().for_each(print);
    Ok(())
}

fn attached(berths: Vec<Berth>) -> Vec<Attached> {
    berths.into_iter().filter_map(|berth| Some(Attached { path: berth.path, device: berth.device? })).collect()
}

/// Tells which devices come and go, until it is stopped.
pub(super) fn watch(json: bool) -> anyhow::Result<()> {
    let (mut job, asked) = (Job::start(yard::watch), cancel());
    let mut before = Vec::new();
    while !asked.is_cancelled() {
        for message in job.drain() {
            let Message::Progress(after) = message else { return Err(Ended::Nothing.into()) };
            if json {
                print_json(&Seen { changes: yard::changes(&before, &after), attached: attached(after.clone()) })?;
            } else {
                yard::changes(&before, &after).iter().for_each(|line| say!("{line}"));
            }
            std::io::stdout().flush()?;
            before = after;
        }
        std::thread::sleep(LOOK);
    }
    Err(Ended::Cancelled.into())
}

fn print(attached: &Attached) {
    let Attached { path, device } = attached;
    let words = Some(device.words()).filter(|words| !words.is_empty()).unwrap_or_else(|| "-".into());
    let size = if device.attachment.has_medium { size_decimal(device.bytes) } else { "no medium".into() };
    say!("{}  {size}  {words}  {}", path.display(), device.attachment.words());
    let settings = device.attachment.settings.words();
    if !settings.is_empty() {
        say!("    the kernel: {settings}");
    }
    if let Some(held) = device.kept_back() {
        say!("    {held}");
    }
}
