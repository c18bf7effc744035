//! One line of the kernel's log: whom it concerns, and what it says. The texts are those of the kernel's own drivers (block layer, SCSI,
//! libata, USB, NVMe, MMC).

use keel_source::ByteOffset;

use super::{Happened, KERNEL_SECTOR, KernelWord};

/// Phrases, in lower case, and what they say. The first that stands in a line decides.
const PHRASES: &[(&str, Happened)] = &[
    ("unable to read partition table", Happened::NoTable),
    ("over-current", Happened::OverCurrent),
    ("overcurrent", Happened::OverCurrent),
    ("detected capacity change", Happened::CapacityChanged),
    ("capacity data has changed", Happened::CapacityChanged),
    ("medium not present", Happened::NoMedium),
    ("no medium found", Happened::NoMedium),
    ("write protect is on", Happened::WriteProtected),
    ("usb disconnect", Happened::Left),
    ("device not accepting address", Happened::NoAnswer),
    ("device descriptor read", Happened::NoAnswer),
    ("unable to enumerate", Happened::NoAnswer),
    ("failed to identify", Happened::NoAnswer),
    ("failed to read capacity", Happened::NoAnswer),
    ("read capacity(10) failed", Happened::NoAnswer),
    ("device not ready", Happened::NoAnswer),
    ("not responding", Happened::NoAnswer),
    ("device offlined", Happened::GivenUp),
    ("rejecting i/o to offline device", Happened::GivenUp),
    ("rejecting i/o to dead device", Happened::GivenUp),
    ("removing after probe failure", Happened::GivenUp),
    ("giving up", Happened::GivenUp),
    ("disabled", Happened::GivenUp),
    ("sata link down", Happened::LinkDown),
    ("link is slow to respond", Happened::LinkDown),
    ("limiting speed", Happened::Slowed),
    ("limiting sata link speed", Happened::Slowed),
    ("icrc", Happened::Interface),
    ("badcrc", Happened::Interface),
    ("interface fatal error", Happened::Interface),
    ("hostbus error", Happened::Interface),
    ("transport error", Happened::Interface),
    ("did_error", Happened::Interface),
    ("timeout", Happened::Timeout),
    ("timed out", Happened::Timeout),
    ("task abort", Happened::Timeout),
    ("uas_eh_abort_handler", Happened::Timeout),
    ("hard resetting link", Happened::Reset),
    ("soft resetting link", Happened::Reset),
    ("comreset failed", Happened::Reset),
    ("usb device number", Happened::Reset),
    ("device reset", Happened::Reset),
    ("resetting", Happened::Reset),
    ("controller is down", Happened::Reset),
    ("unrecovered read error", Happened::MediumError),
    ("medium error", Happened::MediumError),
    ("{ unc }", Happened::MediumError),
    ("{ idnf }", Happened::MediumError),
];

/// Whether `name` stands in `text` as a word: `sda` is not `sdaa`, `ata1` not `ata10`, but `ata1.00`.
fn names(text: &str, name: &str) -> bool {
    let mut rest = text;
    let mut before = ' ';
    while let Some(at) = rest.find(name) {
        let sign_before = rest.get(..at).and_then(|text| text.chars().next_back()).unwrap_or(before);
        let behind = rest.get(at + name.len()..).unwrap_or_default();
        let sign_behind = behind.chars().next().unwrap_or(' ');
        let goes_on = sign_before.is_alphanumeric() || matches!(sign_before, ':' | '-' | '.') || sign_behind.is_alphanumeric();
        if !goes_on && !is_deeper(name, behind) {
            return true;
        }
        before = name.chars().next_back().unwrap_or(' ');
        rest = behind;
    }
    false
}

/// `usb 2-1.4` is another place than `usb 2-1`, and `2:0:0:0:1` none of ours.
fn is_deeper(name: &str, behind: &str) -> bool {
    let digit = |mut signs: std::str::Chars<'_>| signs.next().is_some_and(|sign| sign.is_ascii_digit());
    let deeper = |separator: char| behind.strip_prefix(separator).is_some_and(|rest| digit(rest.chars()));
    let is_usb = name.starts_with("usb ");
    (is_usb && (deeper('.') || deeper('-'))) || (name.contains(':') && deeper(':'))
}

/// True for the line with which a drive under one of `names` is met anew: what stands before it may be another one's.
pub(super) fn begins_anew(names_of: &[String], text: &str) -> bool {
    let usb = names_of.iter().find(|name| name.starts_with("usb "));
    match usb {
        Some(place) => names(text, place) && text.contains(": new ") && text.contains("USB device"),
        None => {
            let ata = names_of.iter().any(|name| name.starts_with("ata"));
            let block = names_of.first().is_some_and(|name| text.contains(&format!("[{name}]")));
            // What stands before it on an ATA port is how the link came up.
            !ata && block && text.contains("logical blocks")
        }
    }
}

/// What `text` says of the drive that is called by `names`.
pub(super) fn of(names_of: &[String], text: &str) -> Option<(Happened, Option<ByteOffset>)> {
    names_of.iter().any(|name| names(text, name)).then(|| says(text)).flatten()
}

/// A line as pasted, with its time where it begins with one: `[  123.456789] text`.
pub(super) fn pasted(line: &str) -> Option<KernelWord> {
    let line = keel_source::printable(line.trim());
    let timed = line.strip_prefix('[').and_then(|rest| rest.split_once(']'));
    let time = timed.and_then(|(time, _)| time.trim().parse::<f64>().ok()).filter(|seconds| (0.0..1e9).contains(seconds));
    let text = timed.filter(|_| time.is_some()).map_or(line.as_str(), |(_, text)| text.trim()).to_string();
    let (what, at_byte) = says(&text)?;
    Some(KernelWord { what, at_us: time.map(|seconds| (seconds * 1e6) as u64), at_byte, line: text })
}

fn says(text: &str) -> Option<(Happened, Option<ByteOffset>)> {
    let lower = text.to_lowercase();
    if lower.contains(": new ") && lower.contains("usb device") || lower.contains("logical blocks") {
        return Some((Happened::Arrived, None));
    }
    // `critical medium error, dev sda, sector 2048 op 0x0:(READ) …`, `I/O error, dev sda, sector 2048 op …`
    if let Some((head, rest)) = lower.split_once(", sector ") {
        let number: String = rest.chars().take_while(char::is_ascii_digit).collect();
        let at = number.parse::<u64>().ok().and_then(|sector| sector.checked_mul(KERNEL_SECTOR)).map(ByteOffset);
        let is_error = head.contains("error");
        let is_write = rest.contains("(write)") || rest.contains("(write_zeroes)");
        return is_error.then_some((if is_write { Happened::WriteError } else { Happened::MediumError }, at));
    }
    PHRASES.iter().find(|(phrase, _)| lower.contains(phrase)).map(|(_, what)| (*what, None))
}
