//! The up-case table of an exFAT volume.

use crate::up_case;

/// Maps UTF-16 units to upper case as the volume itself says. Specification §7.2.
pub struct UpCase(Vec<u16>);

impl UpCase {
    /// Unpacks a table: 0xFFFF and a count stand for that many units that map to themselves.
    #[must_use]
    pub fn unpack(bytes: &[u8]) -> Self {
        let mut table: Vec<u16> = Vec::with_capacity(0x1_0000);
        let mut units = bytes.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair));
        while let Some(unit) = units.next() {
            if table.len() > 0xFFFF {
                break;
            }
            if unit == 0xFFFF
                && let Some(count) = units.next()
            {
                let from = table.len();
                let to = (from + usize::from(count)).min(0x1_0000);
                table.extend((from..to).filter_map(|unit| u16::try_from(unit).ok()));
            } else {
                table.push(unit);
            }
        }
        Self(table)
    }

    /// A unit in upper case.
    #[must_use]
    pub fn upper(&self, unit: u16) -> u16 {
        self.0.get(usize::from(unit)).copied().unwrap_or(unit)
    }

    /// `NameHash` of a name. Specification §7.6.4.
    #[must_use]
    pub fn name_hash(&self, units: &[u16]) -> u16 {
        let bytes = units.iter().flat_map(|unit| self.upper(*unit).to_le_bytes());
        bytes.fold(0u16, |sum, byte| sum.rotate_right(1).wrapping_add(u16::from(byte)))
    }
}

/// From so many units on that map to themselves a count stands for them.
const COUNTED_FROM: usize = 512;

/// The up-case table that the specification recommends, packed as it stands there.
#[must_use]
pub(super) fn recommended() -> Vec<u8> {
    let table = up_case::table(&[]);
    let mut packed = Vec::new();
    let mut at = 0;
    while let Some(rest) = table.get(at..).filter(|rest| !rest.is_empty()) {
        let own = rest.iter().zip(at..).take_while(|(unit, number)| usize::from(**unit) == *number).count();
        match own {
            COUNTED_FROM.. => packed.extend([0xFFFF, u16::try_from(own).unwrap_or(u16::MAX)]),
            // Those that map to themselves, or the one that does not.
            _ => packed.extend(rest.iter().take(own.max(1))),
        }
        at += own.max(1);
    }
    packed.iter().flat_map(|unit: &u16| unit.to_le_bytes()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::exfat::layout::table_checksum;

    #[test]
    fn the_recommended_table_is_the_specifications() {
        let packed = recommended();
        assert_eq!((packed.len(), table_checksum(&packed)), (5836, 0xE619_D30D), "as the specification gives them");
        let table = UpCase::unpack(&packed);
        let upper = |sign: char| table.upper(sign as u16);
        assert_eq!((upper('a'), upper('Z'), upper('é'), upper('ß')), ('A' as u16, 'Z' as u16, 'É' as u16, 'ß' as u16));
        assert_eq!((table.upper(0xFFFF), table.upper(0xD800)), (0xFFFF, 0xD800));
    }
}
