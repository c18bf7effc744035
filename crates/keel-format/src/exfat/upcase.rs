//! The up-case table of an exFAT volume.

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
