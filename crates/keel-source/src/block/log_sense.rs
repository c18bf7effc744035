//! What a SCSI drive logs of itself (SPC-4, 6.8: `LOG SENSE`), and its tests (6.42: `SEND DIAGNOSTIC`).

use std::fs::File;
use std::time::Duration;

use crate::SelfTestOrder;
use crate::sys::{self, Transfer};

/// How long a drive may take to say something of itself.
const LIMIT: Duration = Duration::from_secs(5);
const LOG_SENSE: u8 = 0x4D;
const SEND_DIAGNOSTIC: u8 = 0x1D;
const REQUEST_SENSE: u8 = 0x03;
/// The page of the pages that there are.
const SUPPORTED: u8 = 0x00;
/// Pages that are asked for where the drive has them: error counters, non-medium errors, temperature, informational exceptions.
const WANTED: [u8; 6] = [0x02, 0x03, 0x05, 0x06, 0x0D, 0x2F];
const SELF_TESTS: u8 = 0x10;
/// Bytes of a page that are asked for.
const PAGE: usize = 2048;

/// The command that reads the cumulative values of log page `page`.
fn log_sense(page: u8) -> [u8; 10] {
    let [high, low] = (PAGE as u16).to_be_bytes();
    [LOG_SENSE, 0, 0x40 | page, 0, 0, 0, 0, high, low, 0]
}

/// The command that begins a test in the background, or stops it.
fn send_diagnostic(order: SelfTestOrder) -> [u8; 6] {
    let code: u8 = match order {
        SelfTestOrder::Short => 1,
        SelfTestOrder::Extended => 2,
        SelfTestOrder::Stop => 4,
    };
    [SEND_DIAGNOSTIC, code << 5, 0, 0, 0, 0]
}

/// A page as the drive hands it out, cut to what its head says.
fn page(file: &File, code: u8) -> rustix::io::Result<Vec<u8>> {
    let mut data = vec![0; PAGE];
    let passed = sys::scsi_command(file, &mut log_sense(code), Transfer::In(&mut data), LIMIT)?;
    let is_it = passed.status == 0 && passed.host_status == 0 && data[0] & 0x3F == code;
    let length = 4 + usize::from(u16::from_be_bytes([data[2], data[3]]));
    data.truncate(length);
    if is_it { Ok(data) } else { Err(rustix::io::Errno::IO) }
}

/// The pages that say how the drive is.
pub(super) fn pages(file: &File) -> rustix::io::Result<Vec<Vec<u8>>> {
    let supported = page(file, SUPPORTED)?;
    let has = |code: &u8| supported.get(4..).is_some_and(|codes| codes.contains(code));
    let pages: Vec<Vec<u8>> = WANTED.iter().copied().filter(has).filter_map(|code| page(file, code).ok()).collect();
    if pages.is_empty() { Err(rustix::io::Errno::IO) } else { Ok(pages) }
}

/// The tests that it remembers, and how far the one is that runs: `PROGRESS INDICATION`, of 65536.
pub(super) fn self_tests(file: &File) -> rustix::io::Result<(Vec<u8>, Option<u16>)> {
    let log = page(file, SELF_TESTS)?;
    let mut sense = vec![0; 252];
    let mut command = [REQUEST_SENSE, 0, 0, 0, 252, 0];
    let passed = sys::scsi_command(file, &mut command, Transfer::In(&mut sense), LIMIT);
    let asked = passed.is_ok_and(|passed| passed.status == 0 && passed.host_status == 0);
    Ok((log, progress(&sense).filter(|_| asked)))
}

/// `PROGRESS INDICATION` in the sense key specific bytes of fixed sense data, where they are valid.
fn progress(sense: &[u8]) -> Option<u16> {
    let is_fixed = matches!(sense.first().map(|code| code & 0x7F), Some(0x70 | 0x71));
    let [flags, high, low] = *sense.get(15..18)?.first_chunk()?;
    (is_fixed && flags & 0x80 != 0).then(|| u16::from_be_bytes([high, low]))
}

/// Has the drive test itself, or stop that.
pub(super) fn self_test(file: &File, order: SelfTestOrder) -> rustix::io::Result<()> {
    let passed = sys::scsi_command(file, &mut send_diagnostic(order), Transfer::Nothing, LIMIT)?;
    if passed.status == 0 && passed.host_status == 0 { Ok(()) } else { Err(rustix::io::Errno::IO) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_are_laid_out_as_the_standard_says() {
        assert_eq!(log_sense(0x0D), [0x4D, 0, 0x4D, 0, 0, 0, 0, 8, 0, 0]);
        assert_eq!(log_sense(0), [0x4D, 0, 0x40, 0, 0, 0, 0, 8, 0, 0]);
        assert_eq!(send_diagnostic(SelfTestOrder::Short), [0x1D, 0x20, 0, 0, 0, 0]);
        assert_eq!(send_diagnostic(SelfTestOrder::Extended), [0x1D, 0x40, 0, 0, 0, 0]);
        assert_eq!(send_diagnostic(SelfTestOrder::Stop), [0x1D, 0x80, 0, 0, 0, 0]);
    }

    #[test]
    fn progress_is_told_by_valid_bytes_only() {
        let mut sense = vec![0; 18];
        (sense[0], sense[15], sense[16], sense[17]) = (0x70, 0x80, 0x40, 0);
        assert_eq!(progress(&sense), Some(0x4000));
        sense[15] = 0;
        assert_eq!((progress(&sense), progress(&[]), progress(&[0x72; 18])), (None, None, None));
    }

    #[test]
    fn what_is_no_drive_has_no_pages() {
        let file = tempfile::tempfile().unwrap();
        assert!(pages(&file).is_err() && self_tests(&file).is_err() && self_test(&file, SelfTestOrder::Stop).is_err());
    }
}
