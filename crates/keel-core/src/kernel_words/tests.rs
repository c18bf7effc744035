use std::time::Duration;

use keel_format::Severity;
use keel_source::{ByteOffset, KernelLine};

use super::*;

fn lines(texts: &[&str]) -> Vec<KernelLine> {
    let line = |(index, text): (usize, &&str)| KernelLine {
        sequence: index as u64,
        at: Duration::from_millis(1000 * index as u64),
        text: (*text).to_string(),
    };
    texts.iter().enumerate().map(line).collect()
}

fn called(names: &[&str]) -> Vec<String> {
    names.iter().map(|name| (*name).to_string()).collect()
}

#[test]
fn lines_of_other_drives_and_of_who_stood_there_before_are_not_its_own() {
    let log = lines(&[
        "usb 2-1: new SuperSpeed USB device number 2 using xhci_hcd",
        "sd 6:0:0:0: [sdb] 1000 512-byte logical blocks: (512 kB/500 KiB)",
        "I/O error, dev sdb, sector 7 op 0x0:(READ) flags 0x80700 phys_seg 1 prio class 2",
        "usb 2-1: USB disconnect, device number 2",
        "usb 2-1: new SuperSpeed USB device number 3 using xhci_hcd",
        "usb 2-1.4: reset high-speed USB device number 9 using xhci_hcd",
        "critical medium error, dev sdbb, sector 9 op 0x0:(READ) flags 0x0",
        "critical medium error, dev sdb, sector 2048 op 0x0:(READ) flags 0x0",
        "critical medium error, dev sdb, sector 2048 op 0x0:(READ) flags 0x0",
        "Buffer I/O error on dev sdb, logical block 256, async page read",
        "sd 16:0:0:0: [sdc] Medium Error [current]",
        "usb 2-1: reset SuperSpeed USB device number 3 using xhci_hcd",
        "I/O error, dev sdb, sector 4096 op 0x1:(WRITE) flags 0x800",
    ]);
    let words = KernelWords { words: concerning(&called(&["sdb", "6:0:0:0", "usb 2-1"]), &log), ..KernelWords::default() };
    let what: Vec<Happened> = words.words.iter().map(|word| word.what).collect();
    assert_eq!(
        what,
        [Happened::Arrived, Happened::MediumError, Happened::MediumError, Happened::Reset, Happened::WriteError],
        "{words:?}"
    );
    let reads = words.findings(RungName::Reads);
    assert_eq!(reads.len(), 2, "{reads:?}");
    assert_eq!(reads[0].at_byte, Some(ByteOffset(1_048_576)));
    assert_eq!(reads[0].what, "a place does not read, 2 times");
    assert!(reads[0].how.starts_with("the kernel at 0:00:08.0: critical medium error"), "{}", reads[0].how);
    assert_eq!(reads[1].at_byte, Some(ByteOffset(4096 * 512)));
    assert_eq!(words.findings(RungName::Link).iter().map(|finding| finding.what.as_str()).collect::<Vec<_>>(), ["was reset"]);
    assert!(words.of_place(ByteOffset(1_048_000), ByteOffset(1_048_577)).is_some());
    assert!(words.of_place(ByteOffset(0), ByteOffset(1_048_576)).is_none());
}

#[test]
fn how_a_sata_link_came_up_belongs_to_its_drive() {
    let log = lines(&[
        "ata3: SATA link down (SStatus 0 SControl 300)",
        "ata30: SATA link down (SStatus 0 SControl 300)",
        "ata3: link is slow to respond, please be patient (ready=0)",
        "ata3.00: exception Emask 0x10 SAct 0x8 SErr 0x400100 action 0x6 frozen",
        "ata3: SError: { UnrecovData Handshk }",
        "ata3.00: error: { ICRC ABRT }",
        "ata3: hard resetting link",
        "ata3: limiting SATA link speed to 1.5 Gbps",
        "ata3.00: error: { UNC }",
        "sd 2:0:0:0: [sda] 1000215216 512-byte logical blocks: (512 GB/477 GiB)",
        " sda: unable to read partition table",
        "sda: detected capacity change from 1000 to 0",
    ]);
    let words = concerning(&called(&["sda", "2:0:0:0", "ata3"]), &log);
    let what: Vec<Happened> = words.iter().map(|word| word.what).collect();
    assert_eq!(
        what,
        [
            Happened::LinkDown,
            Happened::LinkDown,
            Happened::Interface,
            Happened::Reset,
            Happened::Slowed,
            Happened::MediumError,
            Happened::Arrived,
            Happened::NoTable,
            Happened::CapacityChanged
        ]
    );
    let words = KernelWords { words, ..KernelWords::default() };
    assert_eq!(words.findings(RungName::Table)[0].severity, Severity::Note, "a table is read by ourselves");
    assert_eq!(words.findings(RungName::Capacity).len(), 1);
}

#[test]
fn a_piece_of_a_log_that_was_pasted_says_the_same() {
    let text = "[ 1234.500000] critical medium error, dev sdq, sector 16 op 0x0:(READ)\n\
        [    2.0] hub 1-0:1.0: over-current condition on port 3\nnvme nvme0: I/O 12 QID 1 timeout, aborting\n\
        good day\n\u{1b}[2Jusb 1-4: device descriptor read/64, error -110\n[x] medium error";
    let words = KernelWords::pasted(text);
    let told: Vec<(Happened, Option<u64>)> = words.words.iter().map(|word| (word.what, word.at_us)).collect();
    assert_eq!(
        told,
        [
            (Happened::MediumError, Some(1_234_500_000)),
            (Happened::OverCurrent, Some(2_000_000)),
            (Happened::Timeout, None),
            (Happened::NoAnswer, None),
            (Happened::MediumError, None)
        ]
    );
    assert_eq!(words.words[0].at_byte, Some(ByteOffset(8192)));
    assert!(words.words.iter().all(|word| !word.line.contains('\u{1b}')));
    assert_eq!(words.findings(RungName::Link).iter().filter(|finding| finding.severity == Severity::Broken).count(), 2);
}

#[test]
fn hostile_lines_are_bounded_and_sectors_do_not_overflow() {
    let sector = format!("I/O error, dev sda, sector {} op 0x0:(READ)", u64::MAX);
    let many: Vec<String> = (0..100).map(|at| format!("I/O error, dev sda, sector {at} op 0x0:(READ)")).collect();
    let mut texts: Vec<&str> = many.iter().map(String::as_str).collect();
    texts.push(&sector);
    texts.extend(["I/O error, dev sda, sector", ", sector ", "sda", "", "usb 2-1", "[", "[1"]);
    let words = KernelWords { words: concerning(&called(&["sda"]), &lines(&texts)), ..KernelWords::default() };
    assert_eq!(words.words.len(), 101);
    let findings = words.findings(RungName::Reads);
    assert_eq!(findings.len(), MOST_PLACES + 2, "the places, the one without, and how many more");
    for text in &texts {
        let _ = KernelWords::pasted(text);
    }
}
