//! What ground is written over with.

use serde::{Deserialize, Serialize};

/// The longest pattern of bytes.
const LONGEST: usize = 4096;

/// What ground is written over with. Every byte of the drive has its own in it, wherever the writing begins.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Pattern {
    /// Zeros.
    Zeros,
    /// These bytes again and again, counted from byte 0 of the drive.
    Bytes(Vec<u8>),
    /// Bytes by a generator with this seed.
    Random(u64),
}

/// A text that names no pattern.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no pattern: zeros, random, or bytes in hexadecimal (55aa) are")]
pub struct PatternWrong(pub String);

impl Pattern {
    /// What was typed; `seed` is for random bytes.
    ///
    /// # Errors
    /// [`PatternWrong`] for anything else.
    pub fn typed(text: &str, seed: u64) -> Result<Self, PatternWrong> {
        let wrong = || PatternWrong(keel_source::printable(text));
        let plain = text.trim().to_ascii_lowercase();
        match plain.as_str() {
            "zeros" => return Ok(Self::Zeros),
            "random" => return Ok(Self::Random(seed)),
            _ => {}
        }
        let digits: Vec<u8> = plain
            .strip_prefix("0x")
            .unwrap_or(&plain)
            .chars()
            .map(|digit| digit.to_digit(16).and_then(|digit| u8::try_from(digit).ok()))
            .collect::<Option<_>>()
            .ok_or_else(wrong)?;
        if digits.is_empty() || digits.len() % 2 == 1 || digits.len() / 2 > LONGEST {
            return Err(wrong());
        }
        let bytes: Vec<u8> = digits.chunks(2).map(|pair| pair.iter().fold(0, |byte, digit| byte << 4 | digit)).collect();
        Ok(if bytes.iter().all(|byte| *byte == 0) { Self::Zeros } else { Self::Bytes(bytes) })
    }

    /// A seed that no other time and no other drive gives.
    #[must_use]
    pub fn seed(drive: &str) -> u64 {
        let hash = blake3::hash(format!("{drive} {:?} {}", std::time::SystemTime::now(), std::process::id()).as_bytes());
        hash.as_bytes().first_chunk::<8>().map_or(1, |bytes| u64::from_le_bytes(*bytes))
    }

    /// In words.
    #[must_use]
    pub fn words(&self) -> String {
        match self {
            Self::Zeros => "zeros".into(),
            Self::Random(_) => "random bytes".into(),
            Self::Bytes(bytes) => {
                let shown: String = bytes.iter().take(8).map(|byte| format!("{byte:02x}")).collect();
                let more = if bytes.len() > 8 { "…" } else { "" };
                format!("the bytes {shown}{more}")
            }
        }
    }

    /// Fills `buf` with what belongs to the drive's bytes from `at` on; both in multiples of 8.
    pub fn fill(&self, at: u64, buf: &mut [u8]) {
        match self {
            Self::Zeros => buf.fill(0),
            Self::Bytes(bytes) => {
                let period = bytes.len();
                let shift = usize::try_from(at % period as u64).unwrap_or(0);
                // The first period by hand, the rest doubles what stands already.
                let first = period.min(buf.len());
                buf.iter_mut().take(first).zip(bytes.iter().cycle().skip(shift)).for_each(|(slot, byte)| *slot = *byte);
                let mut done = first;
                while done > 0 && done < buf.len() {
                    let count = done.min(buf.len() - done);
                    buf.copy_within(..count, done);
                    done += count;
                }
            }
            Self::Random(seed) => {
                let (words, rest) = buf.as_chunks_mut::<8>();
                let mut state = seed.wrapping_add((at / 8).wrapping_mul(GOLDEN));
                for word in words {
                    *word = mixed(state).to_le_bytes();
                    state = state.wrapping_add(GOLDEN);
                }
                rest.iter_mut().zip(mixed(state).to_le_bytes()).for_each(|(slot, byte)| *slot = byte);
            }
        }
    }
}

/// The step between the states of two words: 2^64 by the golden ratio, odd.
const GOLDEN: u64 = 0x9E37_79B9_7F4A_7C15;

/// A word of which every bit depends on every bit of `state`: two rounds of multiplying and folding.
fn mixed(mut state: u64) -> u64 {
    state = (state ^ (state >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    state = (state ^ (state >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    state ^ (state >> 31)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_are_read_as_they_are_typed() {
        assert_eq!(Pattern::typed(" Zeros", 7), Ok(Pattern::Zeros));
        assert_eq!(Pattern::typed("random", 7), Ok(Pattern::Random(7)));
        assert_eq!(Pattern::typed("55AA", 7), Ok(Pattern::Bytes(vec![0x55, 0xAA])));
        assert_eq!(Pattern::typed("0xff", 7), Ok(Pattern::Bytes(vec![0xFF])));
        assert_eq!(Pattern::typed("0000", 7), Ok(Pattern::Zeros));
        for text in ["", "5", "0x", "5g", "ones", "-1", &"ab".repeat(LONGEST + 1)] {
            assert!(Pattern::typed(text, 7).is_err(), "{text}");
        }
    }

    #[test]
    fn a_byte_is_the_same_wherever_the_writing_begins() {
        for pattern in [Pattern::Zeros, Pattern::Bytes(vec![1, 2, 3]), Pattern::Bytes(vec![9]), Pattern::Random(99)] {
            let mut whole = vec![0xEE; 8192];
            pattern.fill(4096, &mut whole);
            for (from, len) in [(0, 512), (512, 512), (1024, 4096), (8000, 192), (7680, 512)] {
                let mut part = vec![0xDD; len];
                pattern.fill(4096 + from as u64, &mut part);
                assert!(part == whole[from..from + len], "{pattern:?} {from} {len}");
            }
        }
        let mut bytes = [0; 6];
        Pattern::Bytes(vec![1, 2, 3]).fill(8, &mut bytes);
        assert_eq!(bytes, [3, 1, 2, 3, 1, 2]);
    }

    #[test]
    fn random_bytes_are_spread_and_differ_by_seed() {
        let made = |seed| {
            let mut bytes = vec![0; 1 << 16];
            Pattern::Random(seed).fill(0, &mut bytes);
            bytes
        };
        let (one, other) = (made(1), made(2));
        let mut counts = [0u32; 256];
        one.iter().for_each(|byte| counts[usize::from(*byte)] += 1);
        assert!(counts.iter().all(|count| (150..370).contains(count)), "each value about 256 times");
        let same = one.iter().zip(&other).filter(|(one, other)| one == other).count();
        assert!((150..370).contains(&same), "{same}");
    }
}
