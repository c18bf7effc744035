//! Transactions of the log, put together from the regions of their operations. Items are as the writing system keeps them in memory:
//! little-endian.

use std::collections::HashMap;

use super::record::Operation;

/// `oh_flags`: a transaction begins.
const START: u8 = 0x01;
/// `oh_flags`: it is committed.
const COMMIT: u8 = 0x02;
/// `oh_flags`: the region goes on one that a record before broke off.
const GOES_ON: u8 = 0x08;
/// The most transactions that are open at a time.
const MOST_OPEN: usize = 4096;

/// An item of a transaction: its first region says what it is and how many there are.
pub(super) type Item = Vec<Vec<u8>>;

/// Transactions as they come.
#[derive(Default)]
pub(super) struct Transactions {
    open: HashMap<u32, Vec<Vec<u8>>>,
    /// The items of those that were committed, in their order.
    pub(super) committed: Vec<Vec<Item>>,
}

impl Transactions {
    /// Takes an operation.
    pub(super) fn take(&mut self, operation: &Operation<'_>) {
        if operation.flags & START != 0 && self.open.len() < MOST_OPEN {
            self.open.insert(operation.transaction, Vec::new());
        }
        let Some(regions) = self.open.get_mut(&operation.transaction) else { return };
        match regions.last_mut().filter(|_| operation.flags & GOES_ON != 0) {
            Some(last) => last.extend_from_slice(operation.region),
            None if !operation.region.is_empty() => regions.push(operation.region.to_vec()),
            None => {}
        }
        if operation.flags & COMMIT != 0
            && let Some(regions) = self.open.remove(&operation.transaction)
        {
            self.committed.push(items(regions));
        }
    }
}

/// The items behind the header of a transaction.
fn items(regions: Vec<Vec<u8>>) -> Vec<Item> {
    let mut rest = regions.into_iter().skip(1);
    let mut items = Vec::new();
    while let Some(first) = rest.next() {
        let count = u16_at(&first, 2).unwrap_or(1).max(1);
        items.push(std::iter::once(first).chain(rest.by_ref().take(usize::from(count) - 1)).collect());
    }
    items
}

/// The 16-bit number at `at`, as the writing system keeps it.
pub(super) fn u16_at(bytes: &[u8], at: usize) -> Option<u16> {
    bytes.get(at..)?.first_chunk().map(|word| u16::from_le_bytes(*word))
}

/// The 32-bit number at `at`, as the writing system keeps it.
pub(super) fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    bytes.get(at..)?.first_chunk().map(|word| u32::from_le_bytes(*word))
}

/// The 64-bit number at `at`, as the writing system keeps it.
pub(super) fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    bytes.get(at..)?.first_chunk().map(|word| u64::from_le_bytes(*word))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn taken(operations: &[(u32, u8, &[u8])]) -> Transactions {
        let mut transactions = Transactions::default();
        for (transaction, flags, region) in operations {
            transactions.take(&Operation { transaction: *transaction, flags: *flags, region });
        }
        transactions
    }

    #[test]
    fn transactions_that_mix_come_apart_and_those_without_an_end_do_not_count() {
        let two = [0x3C, 0x12, 2, 0, 0, 0, 0, 0];
        let committed = taken(&[
            (1, START, &[]),
            (1, 0, b"head of one"),
            (2, START, &[]),
            (2, 0, b"head of two"),
            (1, 0, &two),
            (2, 0, &[0x3B, 0x12, 1, 0]),
            // A region that a record broke off goes on in the next one.
            (1, 0x04, b"first "),
            (1, GOES_ON, b"half"),
            (3, 0, b"nobody began this one"),
            (1, COMMIT, &[]),
            (2, 0, b"never committed"),
        ])
        .committed;
        assert_eq!(committed, [vec![vec![two.to_vec(), b"first half".to_vec()]]]);
    }

    #[test]
    fn an_item_that_says_it_has_more_than_there_is_takes_what_there_is() {
        let committed =
            taken(&[(1, START, &[]), (1, 0, b"head"), (1, 0, &[1, 2, 0xFF, 0xFF]), (1, 0, b"x"), (1, COMMIT, &[])]).committed;
        assert_eq!(committed, [vec![vec![vec![1, 2, 0xFF, 0xFF], b"x".to_vec()]]]);
        assert!(taken(&[(1, START | COMMIT, &[])]).committed == [Vec::<Item>::new()]);
    }
}
