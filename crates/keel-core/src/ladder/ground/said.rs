//! Rung 2: what the drive says of itself.

use keel_format::health::Identify;
use keel_format::{Finding, Severity};
use keel_source::NoHealth;

use super::super::{Rung, RungName, RungState};
use crate::health::{HealthVerdict, Standing};

pub(super) fn health_rung(health: &Result<HealthVerdict, NoHealth>) -> Rung {
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
pub(super) fn told_by_identify(rung: &mut Rung, identify: Option<&Identify>) {
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
    } else if identify.security.is_some_and(|security| security.enabled) {
        let what = "a password is set; the drive is unlocked as long as it has power";
        rung.findings.push(Finding::of_all(Severity::Doubt, what, how));
        rung.next.push("copy it before its power is cut".into());
        rung.state = rung.state.max(RungState::Doubtful);
    }
    if identify.waits_for_spin_up {
        // What it does after its power comes on, and not what it does now: rung 1 says whether it stands by.
        let what = "after its power comes on it stands by until it is told to spin up";
        rung.findings.push(Finding::of_all(Severity::Note, what, "IDENTIFY DEVICE data, word 2"));
        rung.next.push("some bridges never spin it up: where it does not answer, straight to the machine".into());
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
