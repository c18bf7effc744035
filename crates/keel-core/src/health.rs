//! Health: what a drive says of itself, as a verdict with reasons, and what follows from it.

use keel_format::health::{self, AtaHealth, HealthReading, NvmeHealth, ScsiHealth, SelfTests, attribute_word};
use keel_format::{Finding, Severity};
use keel_source::{ByteOffset, NoHealth, SectorSize, SelfTestOrder, Source, counted};
use serde::{Deserialize, Serialize};

/// Reallocated sectors above which a drive counts as failing.
const MANY_REALLOCATED: u64 = 1000;
/// Pending and uncorrectable sectors above which a drive counts as failing.
const MANY_PENDING: u64 = 100;
/// Degrees Celsius above which work on a drive should wait.
const HOT: i64 = 60;

/// Attribute IDs that the verdict asks.
mod id {
    pub(super) const REALLOCATED: u8 = 5;
    pub(super) const SPIN_RETRIES: u8 = 10;
    pub(super) const REPORTED_UNCORRECTABLE: u8 = 187;
    pub(super) const PENDING: u8 = 197;
    pub(super) const OFFLINE_UNCORRECTABLE: u8 = 198;
    pub(super) const LINK_ERRORS: u8 = 199;
}

/// How a drive stands by its own page.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Standing {
    /// Nothing speaks against it.
    Sound,
    /// Something is wearing, or was wrong once.
    Worn,
    /// It may stop at any time.
    Failing,
}

impl Standing {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Sound => "nothing speaks against it",
            Self::Worn => "worn",
            Self::Failing => "failing: it may stop at any time",
        }
    }
}

/// A verdict on a drive's health page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HealthVerdict {
    /// How it stands.
    pub standing: Standing,
    /// Why: each with the attribute or field that it is known from.
    pub findings: Vec<Finding>,
    /// What it means for the work.
    pub advice: Vec<String>,
    /// What the page says.
    pub reading: HealthReading,
}

impl HealthVerdict {
    /// Sectors and errors that the medium counts, to see whether they grow.
    #[must_use]
    pub fn media_count(&self) -> u64 {
        match &self.reading {
            HealthReading::Ata(ata) => [id::REALLOCATED, id::PENDING, id::OFFLINE_UNCORRECTABLE, id::REPORTED_UNCORRECTABLE]
                .iter()
                .map(|id| ata.count(*id))
                .fold(0, u64::saturating_add),
            HealthReading::Nvme(nvme) => nvme.media_errors,
            HealthReading::Scsi(scsi) => scsi.uncorrected(),
        }
    }

    /// How warm it says to be, in degrees Celsius.
    #[must_use]
    pub fn celsius(&self) -> Option<i64> {
        match &self.reading {
            HealthReading::Ata(ata) => ata.celsius(),
            HealthReading::Nvme(nvme) => nvme.celsius,
            HealthReading::Scsi(scsi) => scsi.celsius,
        }
    }

    /// Errors that the link counts.
    #[must_use]
    pub fn link_count(&self) -> u64 {
        match &self.reading {
            HealthReading::Ata(ata) => ata.count(id::LINK_ERRORS),
            // What a SCSI drive counts as not the medium's is mostly commands that it did not know.
            HealthReading::Nvme(_) | HealthReading::Scsi(_) => 0,
        }
    }
}

/// Asks `source` for its health page, and judges it.
///
/// # Errors
/// [`NoHealth`] when it has none, or does not hand it out.
pub fn ask(source: &dyn Source) -> Result<HealthVerdict, NoHealth> {
    Ok(judge(health::read(&source.health_page()?)))
}

/// What `source` remembers of the tests that it made of itself.
///
/// # Errors
/// [`NoHealth`] when it keeps none, or does not hand it out.
pub fn self_tests(source: &dyn Source) -> Result<SelfTests, NoHealth> {
    Ok(SelfTests::read(&source.self_test_log()?))
}

/// Has `source` test itself, or stop that, and notes it in the journal of its case.
///
/// # Errors
/// [`NoHealth`] when it does not.
pub fn order_self_test(source: &dyn Source, order: SelfTestOrder) -> Result<(), NoHealth> {
    source.self_test(order)?;
    crate::case::note(source, "self-test", &serde_json::json!(format!("{order:?}").to_lowercase()));
    Ok(())
}

/// What a test that failed says: at the place, where the drive names one.
#[must_use]
pub fn failed_test(tests: &SelfTests, sector: SectorSize) -> Option<Finding> {
    let failed = tests.failure()?;
    let kind = if failed.is_extended { "extended" } else { "short" };
    let how = format!("its {kind} self-test, at {} power-on hours", failed.at_hours);
    let what = format!("the drive's own test failed: {}", failed.outcome.word());
    let at = failed.first_failing_lba.and_then(|lba| lba.checked_mul(sector.bytes()));
    Some(match at {
        // It was so then: whether the place reads now is for whoever reads it to say.
        Some(at) => Finding::at(Severity::Doubt, ByteOffset(at), what, how),
        None => Finding::of_all(Severity::Broken, what, how),
    })
}

/// Judges what a page says.
#[must_use]
pub fn judge(reading: HealthReading) -> HealthVerdict {
    let findings = match &reading {
        HealthReading::Ata(ata) => ata_findings(ata),
        HealthReading::Nvme(nvme) => nvme_findings(nvme),
        HealthReading::Scsi(scsi) => scsi_findings(scsi),
    };
    let standing = match findings.iter().map(|finding| finding.severity).max() {
        Some(Severity::Broken) => Standing::Failing,
        Some(Severity::Doubt) => Standing::Worn,
        _ => Standing::Sound,
    };
    let mut verdict = HealthVerdict { standing, findings, advice: Vec::new(), reading };
    verdict.advice = advice(&verdict);
    verdict
}

fn advice(verdict: &HealthVerdict) -> Vec<String> {
    let mut advice: Vec<String> = Vec::new();
    if verdict.standing == Standing::Failing {
        advice.push("copy it first, the volumes before the rest (copy --volumes-first); work on the copy".into());
        advice.push("write nothing to it, not even a repair".into());
    }
    if verdict.link_count() > 0 && verdict.media_count() == 0 {
        advice.push("interface errors grow and the medium counts none: change cable and port before anything else".into());
    }
    if verdict.standing == Standing::Worn && verdict.media_count() > 0 {
        advice.push("copy it before any repair is written to it".into());
    }
    advice
}

fn ata_findings(ata: &AtaHealth) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut say = |severity, what: String, how: String| findings.push(Finding::of_all(severity, what, how));
    if !ata.checksum_holds {
        say(
            Severity::Doubt,
            "the checksum of the page does not hold: its figures are doubtful".into(),
            "SMART data, last byte".into(),
        );
    }
    for attribute in &ata.attributes {
        let (id, word) = (attribute.id, attribute_word(attribute.id));
        let how = format!("attribute {id}, value {} of threshold {}", attribute.value, attribute.threshold.unwrap_or(0));
        if attribute.has_failed() {
            let severity = if attribute.pre_failure { Severity::Broken } else { Severity::Doubt };
            say(severity, format!("{word} stands at or below the threshold of its maker"), how);
        } else if attribute.had_failed() {
            say(
                Severity::Doubt,
                format!("{word} stood below the threshold once"),
                format!("attribute {id}, worst {}", attribute.worst),
            );
        }
    }
    let counts = [
        (id::REALLOCATED, "sectors were replaced", MANY_REALLOCATED),
        (id::PENDING, "sectors wait to be replaced: they did not read", MANY_PENDING),
        (id::OFFLINE_UNCORRECTABLE, "sectors could not be corrected", MANY_PENDING),
        (id::REPORTED_UNCORRECTABLE, "errors could not be corrected", MANY_PENDING),
        (id::SPIN_RETRIES, "tries to spin up failed", u64::MAX),
    ];
    for (id, words, many) in counts {
        let count = ata.count(id);
        if count > 0 {
            let severity = if count >= many { Severity::Broken } else { Severity::Doubt };
            say(severity, format!("{count} {words}"), format!("attribute {id}, raw value"));
        }
    }
    let link = ata.count(id::LINK_ERRORS);
    if link > 0 {
        say(
            Severity::Doubt,
            format!("{link} interface errors: the cable or the port, not the medium"),
            "attribute 199, raw value".into(),
        );
    }
    hot(ata.celsius(), if ata.sct_celsius.is_some() { "SCT status" } else { "attribute 194" }, &mut say);
    if let Some((now, most)) = ata.sct_celsius.filter(|(now, most)| *most >= HOT && most > now) {
        let what = format!("{most} °C since its power is on, {now} °C now: it was too warm");
        say(Severity::Doubt, what, "SCT status".into());
    }
    findings
}

fn scsi_findings(scsi: &ScsiHealth) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut say = |severity, what: String, how: String| findings.push(Finding::of_all(severity, what, how));
    if let Some((code, qualifier)) = scsi.exception {
        let how = format!("informational exceptions, {code:02X}h/{qualifier:02X}h");
        match scsi.fails_soon() {
            true => say(Severity::Broken, "the drive itself says that it is about to fail".into(), how),
            false => say(Severity::Doubt, "the drive reports that something of it is not as it should be".into(), how),
        }
    }
    for (counters, what) in [(scsi.read, "reads"), (scsi.write, "writes"), (scsi.verify, "verifies")] {
        let Some(counters) = counters.filter(|counters| counters.uncorrected > 0) else { continue };
        let severity = if counters.uncorrected >= MANY_PENDING { Severity::Broken } else { Severity::Doubt };
        let stayed = counted(counters.uncorrected, "error", "errors");
        say(severity, format!("{stayed} of {what} could not be corrected"), "error counters, total uncorrected errors".into());
    }
    hot(scsi.celsius, "temperature page", &mut say);
    findings
}

fn hot(celsius: Option<i64>, how: &str, say: &mut dyn FnMut(Severity, String, String)) {
    if let Some(celsius) = celsius {
        let (severity, words) = if celsius >= HOT {
            (Severity::Doubt, ": let it cool, and cool it while it is copied")
        } else {
            (Severity::Note, "")
        };
        say(severity, format!("{celsius} °C{words}"), how.into());
    }
}

fn nvme_findings(nvme: &NvmeHealth) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut say = |severity, what: String, how: String| findings.push(Finding::of_all(severity, what, how));
    let warnings = [
        (0, Severity::Broken, "its spare is used up below the threshold"),
        (1, Severity::Doubt, "its temperature is out of bounds"),
        (2, Severity::Broken, "it says that it is no longer reliable"),
        (3, Severity::Broken, "it has gone over to read only"),
        (4, Severity::Doubt, "what backs its volatile memory has failed"),
    ];
    for (bit, severity, words) in warnings {
        if nvme.critical_warning >> bit & 1 != 0 {
            say(severity, words.into(), format!("Critical Warning, bit {bit}"));
        }
    }
    if nvme.available_spare_threshold > 0
        && nvme.available_spare <= nvme.available_spare_threshold
        && nvme.critical_warning & 1 == 0
    {
        say(
            Severity::Broken,
            format!("{} % of the spare are left", nvme.available_spare),
            format!("Available Spare against its threshold of {} %", nvme.available_spare_threshold),
        );
    }
    if nvme.percentage_used >= 100 {
        say(
            Severity::Doubt,
            format!("{} % of the writes that it was made for are used", nvme.percentage_used),
            "Percentage Used".into(),
        );
    }
    if nvme.media_errors > 0 {
        let severity = if nvme.media_errors >= MANY_PENDING { Severity::Broken } else { Severity::Doubt };
        say(
            severity,
            format!("{} of the medium could not be corrected", counted(nvme.media_errors, "error", "errors")),
            "Media and Data Integrity Errors".into(),
        );
    }
    hot(nvme.celsius, "Composite Temperature", &mut say);
    findings
}

#[cfg(test)]
mod tests {
    use keel_format::health::AtaAttribute;

    use super::*;

    fn ata(attributes: &[(u8, u8, u8, u64, bool)]) -> HealthVerdict {
        let attributes = attributes.iter().map(|(id, value, threshold, raw, pre_failure)| AtaAttribute {
            id: *id,
            value: *value,
            worst: *value,
            threshold: Some(*threshold),
            raw: *raw,
            pre_failure: *pre_failure,
        });
        judge(HealthReading::Ata(AtaHealth { attributes: attributes.collect(), checksum_holds: true, sct_celsius: None }))
    }

    #[test]
    fn a_sound_page_is_sound_and_each_kind_of_failure_is_told_by_its_attribute() {
        let sound = ata(&[(5, 100, 36, 0, true), (194, 110, 0, 31, false), (197, 100, 0, 0, false), (199, 200, 0, 0, false)]);
        assert_eq!((sound.standing, sound.advice.len()), (Standing::Sound, 0));
        let few = ata(&[(197, 100, 0, 3, false)]);
        assert!(few.standing == Standing::Worn && few.findings[0].what.contains("3 sectors wait"));
        let many = ata(&[(197, 1, 0, 480, false)]);
        assert!(many.standing == Standing::Failing && many.advice[0].contains("copy"));
        let below = ata(&[(5, 20, 36, 40, true)]);
        assert!(below.standing == Standing::Failing && below.findings[0].how.contains("attribute 5"));
        let advisory = ata(&[(190, 20, 45, 0, false)]);
        assert_eq!(advisory.standing, Standing::Worn, "no failure of the drive is announced by it");
    }

    #[test]
    fn interface_errors_without_media_errors_lead_to_the_cable() {
        let cable = ata(&[(199, 180, 0, 912, false), (5, 100, 36, 0, true)]);
        assert!(cable.standing == Standing::Worn && cable.advice[0].contains("cable"));
        let both = ata(&[(199, 180, 0, 912, false), (197, 100, 0, 5, false)]);
        assert!(both.advice.iter().all(|advice| !advice.contains("cable")));
    }

    #[test]
    fn nvme_warnings_are_told_bit_by_bit() {
        let log = |critical_warning, available_spare, percentage_used, media_errors| {
            judge(HealthReading::Nvme(NvmeHealth {
                critical_warning,
                celsius: Some(40),
                available_spare,
                available_spare_threshold: 10,
                percentage_used,
                power_cycles: 1,
                power_on_hours: 1,
                unsafe_shutdowns: 1,
                media_errors,
                error_log_entries: 0,
            }))
        };
        assert_eq!(log(0, 100, 3, 0).standing, Standing::Sound);
        assert_eq!(log(0, 100, 104, 0).standing, Standing::Worn);
        assert_eq!(log(0, 8, 3, 0).standing, Standing::Failing);
        let read_only = log(0b1000, 100, 3, 0);
        assert!(read_only.standing == Standing::Failing && read_only.findings[0].what.contains("read only"));
        assert_eq!(log(0, 100, 3, 400).standing, Standing::Failing);
    }
}
