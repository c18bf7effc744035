//! Intake: what the client sees, what the operating system said, which checks were made outside the computer, and which
//! one comes next.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::rung::RungName::{self, BootSector, Capacity, Entry, FileSystem, Files, Health, Link, Reads, Table};

/// What may be at fault, before the drive itself was asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Cause {
    /// The data cable.
    Cable,
    /// The computer's port.
    Port,
    /// A hub or dock between them.
    Hub,
    /// The power that it gets.
    Power,
    /// The bridge in its enclosure.
    Enclosure,
    /// The computer: a driver, or a policy that blocks drives.
    Computer,
    /// A setting that hides it.
    Hidden,
    /// The drive's own firmware, until its power is cut.
    Firmware,
    /// The drive's electronics.
    Electronics,
    /// Its surface or its cells.
    Medium,
    /// It claims more than it stores.
    Lie,
    /// What is written on it: table, boot sector, file system.
    Structures,
}

impl Cause {
    /// In words.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Cable => "the cable",
            Self::Port => "the port",
            Self::Hub => "a hub or dock",
            Self::Power => "its power",
            Self::Enclosure => "the enclosure's bridge",
            Self::Computer => "the computer's driver or policy",
            Self::Hidden => "a setting that hides it",
            Self::Firmware => "its firmware, until power is cut",
            Self::Electronics => "its electronics",
            Self::Medium => "its medium",
            Self::Lie => "a false capacity",
            Self::Structures => "what is written on it",
        }
    }
}

use Cause::{Cable, Computer, Electronics, Enclosure, Firmware, Hidden, Hub, Lie, Medium, Port, Power, Structures};

/// What a client sees.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct Symptom {
    /// The word that the case keeps.
    pub id: &'static str,
    /// In the client's words.
    pub words: &'static str,
    /// Rungs that it may come from, the lowest first.
    pub rungs: &'static [RungName],
    /// What may be at fault.
    pub causes: &'static [Cause],
}

/// The symptoms to choose from.
pub const SYMPTOMS: &[Symptom] = &[
    Symptom {
        id: "not_there",
        words: "it does not appear at all",
        rungs: &[Link],
        causes: &[Cable, Port, Hub, Power, Enclosure, Computer, Firmware, Electronics],
    },
    Symptom {
        id: "comes_and_goes",
        words: "it appears and goes again",
        rungs: &[Link, Health],
        causes: &[Cable, Port, Hub, Power, Enclosure, Firmware, Electronics],
    },
    Symptom {
        id: "zero_bytes",
        words: "it shows with a size of 0, or no medium",
        rungs: &[Link, Capacity],
        causes: &[Enclosure, Firmware, Electronics, Medium],
    },
    Symptom {
        id: "not_shown",
        words: "the system lists the drive and shows no volume of it",
        rungs: &[Table, Entry],
        causes: &[Hidden, Computer, Structures],
    },
    Symptom {
        id: "not_initialised",
        words: "not initialised, unknown",
        rungs: &[Reads, Table],
        causes: &[Cable, Enclosure, Medium, Structures],
    },
    Symptom { id: "unallocated", words: "unallocated, free space", rungs: &[Table, Entry], causes: &[Enclosure, Structures] },
    Symptom {
        id: "raw",
        words: "RAW, wants to be formatted",
        rungs: &[Reads, BootSector, FileSystem],
        causes: &[Enclosure, Medium, Lie, Structures],
    },
    Symptom {
        id: "wrong_size",
        words: "the wrong size",
        rungs: &[Capacity, Table],
        causes: &[Enclosure, Lie, Electronics, Structures],
    },
    Symptom {
        id: "read_errors",
        words: "errors while reading or copying",
        rungs: &[Link, Health, Reads],
        causes: &[Cable, Port, Hub, Power, Medium],
    },
    Symptom {
        id: "slow",
        words: "very slow, the computer hangs with it",
        rungs: &[Link, Health, Reads],
        causes: &[Cable, Port, Hub, Power, Medium],
    },
    Symptom {
        id: "noises",
        words: "it clicks, or spins up again and again",
        rungs: &[Health, Reads],
        causes: &[Power, Electronics, Medium],
    },
    Symptom {
        id: "write_refused",
        words: "nothing can be written to it",
        rungs: &[Health, Capacity],
        causes: &[Computer, Electronics, Medium],
    },
    Symptom {
        id: "files_garbled",
        words: "files open as garbage, or lose their content",
        rungs: &[Capacity, FileSystem, Files],
        causes: &[Lie, Medium, Structures],
    },
    Symptom {
        id: "formatted",
        words: "it was formatted or repartitioned by mistake",
        rungs: &[Table, BootSector],
        causes: &[Structures],
    },
];

/// An error text of an operating system.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub struct KnownError {
    /// Its number, where it has one: as told by the system.
    pub code: Option<u32>,
    /// What the system says, in lower case; any of them.
    #[serde(skip)]
    pub phrases: &'static [&'static str],
    /// What it means here.
    pub means: &'static str,
    /// The symptom that it stands for.
    pub symptom: &'static str,
}

const fn known(code: u32, phrases: &'static [&'static str], means: &'static str, symptom: &'static str) -> KnownError {
    KnownError { code: Some(code), phrases, means, symptom }
}

const fn said(phrases: &'static [&'static str], means: &'static str, symptom: &'static str) -> KnownError {
    KnownError { code: None, phrases, means, symptom }
}

/// Error texts and codes. Numbers are those that the systems return for the last error.
pub const KNOWN_ERRORS: &[KnownError] = &[
    known(23, &["cyclic redundancy check", "data error"], "a place was read and its checksum did not hold", "read_errors"),
    known(
        1117,
        &["i/o device error", "could not be performed because of an i/o"],
        "a request failed on the drive or on its way",
        "read_errors",
    ),
    known(483, &["device hardware error", "fatal device hardware"], "the drive itself reported that it failed", "read_errors"),
    known(27, &["cannot find the sector", "sector requested"], "the drive could not find the place", "read_errors"),
    known(
        1005,
        &["does not contain a recognized file system"],
        "the boot sector is none, or the file system behind it does not hold",
        "raw",
    ),
    known(1392, &["corrupted and unreadable", "file or directory is corrupted"], "the file system's records do not hold", "raw"),
    known(21, &["device is not ready"], "the drive answers and its medium does not", "zero_bytes"),
    known(19, &["media is write protected", "write protected", "write-protected"], "the drive takes no write", "write_refused"),
    known(1167, &["device is not connected"], "the drive went off the link", "comes_and_goes"),
    known(121, &["semaphore timeout"], "a request was not answered in time", "slow"),
    known(2, &["the system cannot find the drive specified"], "no drive answers", "not_there"),
    said(
        &["needs to be formatted", "need to format", "do you want to format it"],
        "the boot sector is none that the system knows",
        "raw",
    ),
    said(
        &["not initialized", "not initialised", "must initialize a disk"],
        "sector 0 is none of a table, or does not read",
        "not_initialised",
    ),
    said(&["no such device", "no medium found", "no media"], "the drive or its medium is not there", "zero_bytes"),
    said(
        &["input/output error", "buffer i/o error", "medium error", "unrecovered read error"],
        "a place did not read",
        "read_errors",
    ),
    said(
        &["wrong fs type", "bad superblock", "can't read superblock", "unknown filesystem"],
        "the superblock or boot sector is none",
        "raw",
    ),
    said(&["disk you inserted was not readable", "disk you attached was not readable"], "no volume header was found", "raw"),
    said(
        &["device descriptor request failed", "unable to enumerate", "usb device not recognized", "unknown usb device"],
        "the bridge or the drive does not introduce itself",
        "not_there",
    ),
    said(
        &["link down", "resetting link", "usb disconnect", "usb device number", "not accepting address"],
        "the link went down or was reset",
        "comes_and_goes",
    ),
    said(&["over-current", "overcurrent"], "the port cut the drive's power", "comes_and_goes"),
    said(&["insert a disk", "please insert a disk"], "the drive answers and says that it has no medium", "zero_bytes"),
    said(&["access is denied", "administrator has", "policy"], "the computer keeps the drive away", "not_shown"),
    said(&["structure needs cleaning", "unclean file system", "windows is hibernated"], "the file system was not closed", "raw"),
];

/// The errors that `text`, as pasted, names: by a phrase, by a number after `error` or `code`, or as an HRESULT (0x8007….).
#[must_use]
pub fn recognise(text: &str) -> Vec<&'static KnownError> {
    let text = text.to_lowercase();
    let numbers = numbers_in(&text);
    let names = |known: &&KnownError| {
        known.phrases.iter().any(|phrase| text.contains(phrase)) || known.code.is_some_and(|code| numbers.contains(&code))
    };
    KNOWN_ERRORS.iter().filter(names).collect()
}

/// Error numbers in a text: hexadecimal ones with the prefix of system errors, and decimal ones after a word for them.
fn numbers_in(text: &str) -> BTreeSet<u32> {
    let words: Vec<&str> = text.split(|sign: char| !sign.is_alphanumeric()).filter(|word| !word.is_empty()).collect();
    let mut numbers = BTreeSet::new();
    for (index, word) in words.iter().enumerate() {
        if let Some(value) = word.strip_prefix("0x").and_then(|hex| u32::from_str_radix(hex, 16).ok()) {
            match value >> 16 {
                0x8007 => drop(numbers.insert(value & 0xFFFF)),
                0 => drop(numbers.insert(value)),
                _ => {}
            }
        }
        let before = index.checked_sub(1).and_then(|index| words.get(index));
        if before.is_some_and(|word| ["error", "code", "errno", "fehler"].contains(word))
            && let Ok(number) = word.parse()
        {
            numbers.insert(number);
        }
    }
    // A bare number is a code, too: people paste what the window shows.
    if let [only] = words.as_slice()
        && let Ok(number) = only.parse()
    {
        numbers.insert(number);
    }
    numbers
}

/// The symptom of this id.
#[must_use]
pub fn symptom(id: &str) -> Option<&'static Symptom> {
    SYMPTOMS.iter().find(|symptom| symptom.id == id)
}

/// A check made outside the computer, or on its settings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Check {
    /// The word that the case keeps.
    pub id: &'static str,
    /// A few words for it.
    pub short: &'static str,
    /// What to do.
    pub words: &'static str,
    /// What a result of yes is called, and one of no.
    pub results: (&'static str, &'static str),
    /// Minutes that it takes, about.
    pub minutes: u32,
    /// What it leaves at fault when it helped; empty: nothing in particular.
    pub if_yes: &'static [Cause],
    /// What is ruled out when it helped.
    pub yes_clears: &'static [Cause],
    /// What is ruled out when it changed nothing.
    pub no_clears: &'static [Cause],
}

/// The checks, the cheap ones first.
pub const CHECKS: &[Check] = &[
    Check {
        id: "system_lists",
        short: "in the system's list",
        words: "does the system's device list show it?",
        results: ("listed", "not listed"),
        minutes: 1,
        if_yes: &[],
        yes_clears: &[Power],
        no_clears: &[Hidden, Structures, Lie],
    },
    Check {
        id: "other_cable",
        short: "another cable",
        words: "another cable",
        results: ("helped", "no change"),
        minutes: 1,
        if_yes: &[Cable],
        yes_clears: &[],
        no_clears: &[Cable],
    },
    Check {
        id: "other_port",
        short: "another port",
        words: "another port, of which speed?",
        results: ("helped", "no change"),
        minutes: 1,
        if_yes: &[Port],
        yes_clears: &[],
        no_clears: &[Port],
    },
    Check {
        id: "no_hub",
        short: "without hub",
        words: "straight to the computer, without hub or dock",
        results: ("helped", "no change"),
        minutes: 1,
        if_yes: &[Hub],
        yes_clears: &[],
        no_clears: &[Hub],
    },
    Check {
        id: "own_power",
        short: "own power",
        words: "power of its own, or a stronger supply",
        results: ("helped", "no change"),
        minutes: 2,
        if_yes: &[Power],
        yes_clears: &[],
        no_clears: &[Power],
    },
    Check {
        id: "automount",
        short: "hiding settings",
        words: "settings that hide it: no automatic mounting, no letter, hidden, offline",
        results: ("found", "none"),
        minutes: 2,
        if_yes: &[Hidden],
        yes_clears: &[],
        no_clears: &[Hidden],
    },
    Check {
        id: "cold_restart",
        short: "cold restart",
        words: "cold restart: all power off for a minute",
        results: ("helped", "no change"),
        minutes: 3,
        if_yes: &[Firmware],
        yes_clears: &[],
        no_clears: &[Firmware],
    },
    Check {
        id: "policy",
        short: "policy, driver",
        words: "a policy or driver that blocks drives",
        results: ("found", "none"),
        minutes: 3,
        if_yes: &[Computer],
        yes_clears: &[],
        no_clears: &[Computer],
    },
    Check {
        id: "setup_lists",
        short: "in firmware set-up",
        words: "does the firmware set-up list it?",
        results: ("listed", "not listed"),
        minutes: 4,
        if_yes: &[],
        yes_clears: &[Cable, Port, Power, Electronics],
        no_clears: &[Computer, Hidden, Structures, Lie],
    },
    Check {
        id: "other_computer",
        short: "another computer",
        words: "another computer",
        results: ("helped", "no change"),
        minutes: 10,
        if_yes: &[Computer, Port, Hidden],
        yes_clears: &[],
        no_clears: &[Computer, Port, Hidden],
    },
    Check {
        id: "enclosure",
        short: "out of enclosure",
        words: "out of its enclosure, straight to the board",
        results: ("helped", "no change"),
        minutes: 15,
        if_yes: &[Enclosure],
        yes_clears: &[],
        no_clears: &[Enclosure],
    },
];

/// The check of this id.
#[must_use]
pub fn check(id: &str) -> Option<&'static Check> {
    CHECKS.iter().find(|check| check.id == id)
}

/// What came of a check.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Outcome {
    /// It helped; it is listed; it was found.
    Yes,
    /// No change; not listed; none.
    No,
}

/// What may still be at fault, by the symptoms' ids and by the checks that were made.
#[must_use]
pub fn remaining<'a>(symptoms: impl IntoIterator<Item = &'a str>, made: &[(&str, Outcome)]) -> BTreeSet<Cause> {
    let told: Vec<&Symptom> = symptoms.into_iter().filter_map(symptom).collect();
    let mut causes: BTreeSet<Cause> = told.iter().flat_map(|symptom| symptom.causes.iter().copied()).collect();
    for (id, outcome) in made {
        let Some(check) = check(id) else { continue };
        match outcome {
            Outcome::Yes if !check.if_yes.is_empty() => causes.retain(|cause| check.if_yes.contains(cause)),
            Outcome::Yes => causes.retain(|cause| !check.yes_clears.contains(cause)),
            Outcome::No => causes.retain(|cause| !check.no_clears.contains(cause)),
        }
    }
    causes
}

/// The cheapest check that is not made yet and still separates what remains; `None` when no check does.
#[must_use]
pub fn next_check(remaining: &BTreeSet<Cause>, made: &[(&str, Outcome)]) -> Option<&'static Check> {
    if remaining.len() < 2 {
        return None;
    }
    let touches = |causes: &[Cause]| causes.iter().filter(|cause| remaining.contains(cause)).count();
    let separates = |check: &&Check| {
        let (yes, clears, no) = (touches(check.if_yes), touches(check.yes_clears), touches(check.no_clears));
        (yes > 0 && yes < remaining.len()) || clears > 0 || (no > 0 && no < remaining.len())
    };
    let open = CHECKS.iter().filter(|check| made.iter().all(|(id, _)| *id != check.id));
    // Of those that cost the same, the one that rules out more.
    open.filter(separates)
        .min_by_key(|check| (check.minutes, usize::MAX - touches(check.no_clears).max(touches(check.yes_clears))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn error_texts_and_codes_are_led_to_the_rungs_that_they_come_from() {
        let of = |text: &str| -> Vec<&str> { recognise(text).iter().map(|known| known.symptom).collect() };
        assert_eq!(of("Data error (cyclic redundancy check)."), ["read_errors"]);
        assert_eq!(of("The request could not be performed because of an I/O device error."), ["read_errors"]);
        assert_eq!(of("You need to format the disk in drive E: before you can use it. Do you want to format it?"), ["raw"]);
        assert_eq!(of("The volume does not contain a recognized file system."), ["raw"]);
        assert_eq!(of("Error 0x8007045D"), ["read_errors"]);
        assert_eq!(of("0x80070017"), ["read_errors"]);
        assert_eq!(of("error code 483"), ["read_errors"]);
        assert_eq!(of("1117"), ["read_errors"]);
        assert_eq!(of("Disk 2: Unknown, Not Initialized"), ["not_initialised"]);
        assert_eq!(of("mount: wrong fs type, bad option, bad superblock on /dev/sdx1"), ["raw"]);
        assert!(of("the ferry leaves at 0715 from pier 23").is_empty(), "numbers alone in a sentence are no codes");
        for known in KNOWN_ERRORS {
            assert!(symptom(known.symptom).is_some_and(|symptom| !symptom.rungs.is_empty()), "{}", known.means);
        }
    }

    #[test]
    fn checks_narrow_what_remains_and_the_cheapest_that_separates_comes_next() {
        let mut made: Vec<(&str, Outcome)> = Vec::new();
        let mut asked = Vec::new();
        // Nothing helps until the enclosure is taken off.
        loop {
            let causes = remaining(["comes_and_goes"], &made);
            let Some(check) = next_check(&causes, &made) else { break };
            asked.push(check.id);
            made.push((check.id, if check.id == "enclosure" { Outcome::Yes } else { Outcome::No }));
        }
        assert_eq!(remaining(["comes_and_goes"], &made), BTreeSet::from([Enclosure]));
        assert_eq!(asked.last(), Some(&"enclosure"));
        let minutes: Vec<u32> = asked.iter().filter_map(|id| check(id)).map(|check| check.minutes).collect();
        assert!(minutes.is_sorted(), "{asked:?}");
        let cable = remaining(["comes_and_goes"], &[("other_cable", Outcome::Yes)]);
        assert_eq!(cable, BTreeSet::from([Cable]));
        assert_eq!(next_check(&cable, &[]), None, "nothing is left to tell apart");
        assert!(remaining(["not_shown"], &[("automount", Outcome::No)]).contains(&Structures));
    }

    #[test]
    fn every_check_can_clear_something_and_every_symptom_can_be_narrowed() {
        for check in CHECKS {
            assert!(!check.no_clears.is_empty() && check.minutes > 0, "{}", check.id);
        }
        for symptom in SYMPTOMS.iter().filter(|symptom| symptom.rungs.contains(&Link)) {
            assert!(next_check(&remaining([symptom.id], &[]), &[]).is_some(), "{}", symptom.id);
        }
    }
}
