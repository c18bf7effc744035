//! `ykeel yard`.

use std::path::{Path, PathBuf};

use keel_core::yard::{self, Berth};
use keel_source::{printable, size_decimal};
use serde::Serialize;

use super::shared::print_json;
use crate::out::say;

#[derive(Serialize)]
struct Document {
    drives: Vec<Berth>,
    devices: Vec<PathBuf>,
}

pub(super) fn run(dir: &Path, devices: bool, json: bool) -> anyhow::Result<()> {
    let devices = if devices { yard::devices() } else { Vec::new() };
    let document = Document { drives: yard::list(dir)?, devices };
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
    for device in &document.devices {
        say!("{}  block device, not opened", device.display());
    }
    Ok(())
}
