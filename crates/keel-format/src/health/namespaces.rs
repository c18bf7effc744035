//! Namespaces of an NVMe drive (NVM Express Base Specification, Identify: controller data structure, CNS 01h; active namespace ID list,
//! CNS 02h): what of the drive a device shows, and what none does.

use keel_source::NvmeIdentify;
use serde::{Deserialize, Serialize};

/// Where the controller's data keeps its total and its unallocated capacity in bytes, 128 bits each.
const TNVMCAP: usize = 280;
const UNVMCAP: usize = 296;

/// What the drive says of its namespaces.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Namespaces {
    /// The one that this device shows.
    pub own: u32,
    /// All that are active, ascending.
    pub active: Vec<u32>,
    /// Bytes of the whole drive; none where it does not tell.
    pub total_bytes: Option<u64>,
    /// Bytes that belong to no namespace.
    pub unallocated_bytes: u64,
}

impl Namespaces {
    /// Reads both pages.
    #[must_use]
    pub fn read(identify: &NvmeIdentify) -> Self {
        let wide = |at: usize| {
            let field = identify.controller.get(at..at + 16).and_then(<[u8]>::first_chunk::<16>);
            u64::try_from(field.map_or(0, |field| u128::from_le_bytes(*field))).unwrap_or(u64::MAX)
        };
        let numbers = identify.active.as_chunks::<4>().0.iter().map(|number| u32::from_le_bytes(*number));
        Self {
            own: identify.own,
            active: numbers.take_while(|number| *number != 0).collect(),
            total_bytes: Some(wide(TNVMCAP)).filter(|bytes| *bytes > 0),
            unallocated_bytes: wide(UNVMCAP),
        }
    }

    /// The others that are active.
    #[must_use]
    pub fn others(&self) -> Vec<u32> {
        self.active.iter().copied().filter(|number| *number != self.own).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pages_tell_the_others_and_what_belongs_to_none() {
        let mut controller = vec![0; 4096];
        controller[280..288].copy_from_slice(&2_000_398_934_016_u64.to_le_bytes());
        controller[296..304].copy_from_slice(&1_000_000_000_000_u64.to_le_bytes());
        let mut active = vec![0; 4096];
        active[..8].copy_from_slice(&[1, 0, 0, 0, 3, 0, 0, 0]);
        let read = |controller: &[u8], active: &[u8]| {
            Namespaces::read(&NvmeIdentify { own: 1, controller: controller.to_vec(), active: active.to_vec() })
        };
        let told = read(&controller, &active);
        assert_eq!((told.total_bytes, told.unallocated_bytes), (Some(2_000_398_934_016), 1_000_000_000_000));
        assert_eq!((told.active.clone(), told.others()), (vec![1, 3], vec![3]));
        // Most drives tell none of it; figures beyond 64 bits are as large as can be.
        let none = read(&[0; 4096], &[0; 4096]);
        assert_eq!((none.total_bytes, none.unallocated_bytes, none.others()), (None, 0, Vec::new()));
        controller[288] = 1;
        assert_eq!(read(&controller, &[0xFF; 8]).total_bytes, Some(u64::MAX));
        assert_eq!(read(&[], &[]), Namespaces { own: 1, active: Vec::new(), total_bytes: None, unallocated_bytes: 0 });
    }
}
