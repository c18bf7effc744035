//! `IDENTIFY DEVICE` data (ACS-4, 7.12.7): 256 words in which an ATA drive says what it is and can do.

use keel_source::printable;
use serde::{Deserialize, Serialize};

/// What the security feature set says (word 128).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[allow(clippy::struct_excessive_bools, reason = "the bits of one word of the standard")]
pub struct Security {
    /// `SECURITY ENABLED`: a password is set.
    pub enabled: bool,
    /// `SECURITY LOCKED`: nothing reads before the password was given.
    pub locked: bool,
    /// `SECURITY FROZEN`: no security command is taken until the drive's power was cut.
    pub frozen: bool,
    /// `PASSWORD ATTEMPT COUNTER EXCEEDED`: no password is taken until its power was cut.
    pub count_expired: bool,
}

/// What the words say.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[allow(clippy::struct_excessive_bools, reason = "each is a bit of its own in the standard")]
pub struct Identify {
    /// `MODEL NUMBER`, words 27 to 46.
    pub model: String,
    /// `SERIAL NUMBER`, words 10 to 19.
    pub serial: String,
    /// `FIRMWARE REVISION`, words 23 to 26.
    pub firmware: String,
    /// Logical sectors that can be addressed: words 100 to 103, else 60 and 61.
    pub sectors: u64,
    /// Bytes of a logical and of a physical sector (words 106, 117, 118).
    pub sector_bytes: (u64, u64),
    /// Rotations a minute (word 217); 1 for one without a rotating medium, none where it is not told.
    pub rotation: Option<u16>,
    /// The security feature set; none where it has none.
    pub security: Option<Security>,
    /// It stands by since its power came on until it is told to spin up (word 2: 37C8h and 738Ch).
    pub waits_for_spin_up: bool,
    /// The volatile write cache is there, and on (words 82 and 85, bit 5).
    pub write_cache: Option<bool>,
    /// SMART is on (word 85, bit 0).
    pub smart: bool,
    /// It tests itself when asked to (word 84, bit 1).
    pub self_test: bool,
    /// It takes DATA SET MANAGEMENT with TRIM (word 169, bit 0).
    pub trim: bool,
    /// Sectors that were trimmed read as zeros (word 69, bit 5): what was deleted is gone.
    pub trimmed_reads_zeros: bool,
    /// Zoned (word 69, bits 0 and 1): 1 host aware, 2 device managed.
    pub zoned: u8,
    /// Host protected area (word 82, bit 10), device configuration (word 83, bit 11), accessible max address (word 119, bit 8): ways to
    /// have less than there is.
    pub can_hide: (bool, bool, bool),
    /// World wide name (words 108 to 111).
    pub wwn: Option<u64>,
}

impl Identify {
    /// Reads 512 bytes; none for fewer, and for words that are all alike.
    #[must_use]
    pub fn read(bytes: &[u8]) -> Option<Self> {
        let words: Vec<u16> = bytes.as_chunks::<2>().0.iter().take(256).map(|pair| u16::from_le_bytes(*pair)).collect();
        if words.len() < 256 || words.iter().all(|word| Some(word) == words.first()) {
            return None;
        }
        let word = |at: usize| words.get(at).copied().unwrap_or(0);
        let bit = |at: usize, bit: u32| word(at) >> bit & 1 != 0;
        // Words that say themselves whether they hold: bit 15 off, bit 14 on.
        let holds = |at: usize| word(at) >> 14 == 1;
        let joined =
            |at: usize, count: usize| (0..count).fold(0u64, |sum, index| sum | u64::from(word(at + index)) << (16 * index));
        let sectors = Some(joined(100, 4)).filter(|sectors| *sectors > 0 && holds(83) && bit(83, 10));
        let logical = if holds(106) && bit(106, 12) { joined(117, 2) * 2 } else { 512 };
        let shift = if holds(106) && bit(106, 13) { u32::from(word(106) & 0x0F) } else { 0 };
        let security = bit(82, 1).then(|| Security {
            enabled: bit(128, 1),
            locked: bit(128, 2),
            frozen: bit(128, 3),
            count_expired: bit(128, 4),
        });
        let wwn = (0..4).fold(0u64, |sum, index| sum << 16 | u64::from(word(108 + index)));
        Some(Self {
            model: text(&words, 27, 20),
            serial: text(&words, 10, 10),
            firmware: text(&words, 23, 4),
            sectors: sectors.unwrap_or_else(|| joined(60, 2)),
            sector_bytes: (logical, logical << shift.min(8)),
            rotation: Some(word(217)).filter(|rotation| *rotation == 1 || (0x401..0xFFFF).contains(rotation)),
            security,
            waits_for_spin_up: matches!(word(2), 0x37C8 | 0x738C),
            write_cache: bit(82, 5).then(|| bit(85, 5)),
            smart: bit(85, 0),
            self_test: holds(84) && bit(84, 1),
            trim: bit(169, 0),
            trimmed_reads_zeros: bit(69, 5),
            zoned: u8::try_from(word(69) & 3).unwrap_or(0),
            can_hide: (bit(82, 10), holds(83) && bit(83, 11), holds(119) && bit(119, 8)),
            wwn: Some(wwn).filter(|wwn| *wwn != 0 && holds(87) && bit(87, 8)),
        })
    }

    /// Bytes that can be addressed.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        self.sectors.saturating_mul(self.sector_bytes.0)
    }
}

/// A text of `count` words: the first sign of each is its upper byte.
fn text(words: &[u16], from: usize, count: usize) -> String {
    let words = words.get(from..from + count).unwrap_or_default();
    let bytes: Vec<u8> = words.iter().flat_map(|word| word.to_be_bytes()).collect();
    printable(String::from_utf8_lossy(&bytes).trim_matches(|sign: char| sign == '\0' || sign.is_whitespace()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn page(set: &[(usize, u16)]) -> Vec<u8> {
        let mut words = vec![0u16; 256];
        let mut put = |at: usize, text: &str| {
            for (index, pair) in text.as_bytes().chunks(2).enumerate() {
                words[at + index] = u16::from_be_bytes([pair[0], *pair.get(1).unwrap_or(&b' ')]);
            }
        };
        put(27, "Mudlark Quay 2000                       ");
        put(10, "            BL-00042");
        put(23, "1.0 \u{1b}   ");
        set.iter().for_each(|(at, word)| words[*at] = *word);
        words.into_iter().flat_map(u16::to_le_bytes).collect()
    }

    #[test]
    fn the_words_are_those_of_the_standard() {
        let bytes = page(&[
            (60, 0xFFFF),
            (61, 0x0FFF),
            (69, 0x0021),
            (82, 0x0422),
            (83, 0x4C00),
            (84, 0x4002),
            (85, 0x0021),
            (87, 0x4100),
            (100, 0x6DB0),
            (101, 0x7470),
            (106, 0x6003),
            (108, 0x5000),
            (109, 0xC500),
            (111, 0x0001),
            (119, 0x4100),
            (128, 0x0027),
            (169, 1),
            (217, 7200),
        ]);
        let identify = Identify::read(&bytes).unwrap();
        assert_eq!((identify.model.as_str(), identify.serial.as_str()), ("Mudlark Quay 2000", "BL-00042"));
        assert!(!identify.firmware.contains('\u{1b}'));
        assert_eq!((identify.sectors, identify.bytes()), (0x7470_6DB0, 0x7470_6DB0 * 512));
        assert_eq!(identify.sector_bytes, (512, 4096), "512e");
        assert_eq!(identify.rotation, Some(7200));
        assert_eq!(identify.security, Some(Security { enabled: true, locked: true, frozen: false, count_expired: false }));
        assert_eq!((identify.write_cache, identify.smart, identify.self_test, identify.trim), (Some(true), true, true, true));
        assert!(identify.trimmed_reads_zeros);
        assert_eq!(identify.zoned, 1);
        assert_eq!(identify.can_hide, (true, true, true));
        assert_eq!(identify.wwn, Some(0x5000_C500_0000_0001));
    }

    #[test]
    fn words_that_do_not_hold_say_nothing() {
        let identify =
            Identify::read(&page(&[(60, 1000), (83, 0xFFFF), (100, 7), (106, 0xFFFF), (119, 0), (217, 0xFFFF)])).unwrap();
        assert_eq!((identify.sectors, identify.sector_bytes), (1000, (512, 512)));
        assert!(!identify.waits_for_spin_up && Identify::read(&page(&[(2, 0x37C8)])).unwrap().waits_for_spin_up);
        assert!(!Identify::read(&page(&[(2, 0xC837)])).unwrap().waits_for_spin_up, "it spins up by itself");
        assert_eq!((identify.security, identify.rotation, identify.write_cache, identify.wwn), (None, None, None, None));
        let native = Identify::read(&page(&[(106, 0x5000), (117, 2048), (83, 0x4400), (100, 8)])).unwrap();
        assert_eq!((native.sector_bytes, native.bytes()), ((4096, 4096), 32_768), "4Kn");
        assert_eq!(Identify::read(&[0; 512]), None);
        assert_eq!(Identify::read(&[0xFF; 512]), None);
        assert_eq!(Identify::read(&[1; 100]), None);
        let largest = Identify::read(&page(&[(83, 0x4400), (100, 0xFFFF), (101, 0xFFFF), (102, 0xFFFF), (103, 0xFFFF)])).unwrap();
        assert_eq!(largest.bytes(), u64::MAX, "no overflow");
    }
}
