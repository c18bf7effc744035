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

/// Runs of units with an upper case of their own: first, last, step, and what is added. The table that the specification recommends
/// (§7.2.5.1).
const RECOMMENDED: &[(u16, u16, u16, i32)] = &[
    (97, 122, 1, -32),
    (224, 246, 1, -32),
    (248, 254, 1, -32),
    (255, 255, 1, 121),
    (257, 303, 2, -1),
    (307, 311, 2, -1),
    (314, 328, 2, -1),
    (331, 375, 2, -1),
    (378, 382, 2, -1),
    (384, 384, 1, 195),
    (387, 389, 2, -1),
    (392, 392, 1, -1),
    (396, 396, 1, -1),
    (402, 402, 1, -1),
    (405, 405, 1, 97),
    (409, 409, 1, -1),
    (410, 410, 1, 163),
    (414, 414, 1, 130),
    (417, 421, 2, -1),
    (424, 424, 1, -1),
    (429, 429, 1, -1),
    (432, 432, 1, -1),
    (436, 438, 2, -1),
    (441, 441, 1, -1),
    (445, 445, 1, -1),
    (447, 447, 1, 56),
    (454, 454, 1, -2),
    (457, 457, 1, -2),
    (460, 460, 1, -2),
    (462, 476, 2, -1),
    (477, 477, 1, -79),
    (479, 495, 2, -1),
    (499, 499, 1, -2),
    (501, 501, 1, -1),
    (505, 543, 2, -1),
    (547, 563, 2, -1),
    (570, 570, 1, 10795),
    (572, 572, 1, -1),
    (574, 574, 1, 10792),
    (578, 578, 1, -1),
    (583, 591, 2, -1),
    (595, 595, 1, -210),
    (596, 596, 1, -206),
    (598, 599, 1, -205),
    (601, 601, 1, -202),
    (603, 603, 1, -203),
    (608, 608, 1, -205),
    (611, 611, 1, -207),
    (616, 616, 1, -209),
    (617, 617, 1, -211),
    (619, 619, 1, 10743),
    (623, 623, 1, -211),
    (626, 626, 1, -213),
    (629, 629, 1, -214),
    (637, 637, 1, 10727),
    (640, 640, 1, -218),
    (643, 643, 1, -218),
    (648, 648, 1, -218),
    (649, 649, 1, -69),
    (650, 651, 1, -217),
    (652, 652, 1, -71),
    (658, 658, 1, -219),
    (891, 893, 1, 130),
    (940, 940, 1, -38),
    (941, 943, 1, -37),
    (945, 961, 1, -32),
    (962, 962, 1, -31),
    (963, 971, 1, -32),
    (972, 972, 1, -64),
    (973, 974, 1, -63),
    (985, 1007, 2, -1),
    (1010, 1010, 1, 7),
    (1016, 1016, 1, -1),
    (1019, 1019, 1, -1),
    (1072, 1103, 1, -32),
    (1104, 1119, 1, -80),
    (1121, 1153, 2, -1),
    (1163, 1215, 2, -1),
    (1218, 1230, 2, -1),
    (1231, 1231, 1, -15),
    (1233, 1299, 2, -1),
    (1377, 1414, 1, -48),
    (7549, 7549, 1, 3814),
    (7681, 7829, 2, -1),
    (7841, 7929, 2, -1),
    (7936, 7943, 1, 8),
    (7952, 7957, 1, 8),
    (7968, 7975, 1, 8),
    (7984, 7991, 1, 8),
    (8000, 8005, 1, 8),
    (8017, 8023, 2, 8),
    (8032, 8039, 1, 8),
    (8048, 8049, 1, 74),
    (8050, 8053, 1, 86),
    (8054, 8055, 1, 100),
    (8056, 8057, 1, 128),
    (8058, 8059, 1, 112),
    (8060, 8061, 1, 126),
    (8064, 8071, 1, 8),
    (8080, 8087, 1, 8),
    (8096, 8103, 1, 8),
    (8112, 8113, 1, 8),
    (8115, 8115, 1, 9),
    (8140, 8140, 1, -9),
    (8144, 8145, 1, 8),
    (8160, 8161, 1, 8),
    (8165, 8165, 1, 7),
    (8188, 8188, 1, -9),
    (8526, 8526, 1, -28),
    (8560, 8575, 1, -16),
    (8580, 8580, 1, -1),
    (9424, 9449, 1, -26),
    (11312, 11358, 1, -48),
    (11361, 11361, 1, -1),
    (11368, 11372, 2, -1),
    (11382, 11382, 1, -1),
    (11393, 11491, 2, -1),
    (11520, 11557, 1, -7264),
    (65345, 65370, 1, -32),
];
/// From so many units on that map to themselves a count stands for them.
const COUNTED_FROM: usize = 512;

/// The up-case table that the specification recommends, packed as it stands there.
#[must_use]
pub(super) fn recommended() -> Vec<u8> {
    let mut table: Vec<u16> = (0..=u16::MAX).collect();
    for (first, last, step, added) in RECOMMENDED {
        for unit in (*first..=*last).step_by(usize::from(*step)) {
            if let Some(slot) = table.get_mut(usize::from(unit)) {
                *slot = u16::try_from(i32::from(unit) + added).unwrap_or(unit);
            }
        }
    }
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
