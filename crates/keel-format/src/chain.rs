//! Chains of clusters, as FAT and exFAT keep them: one entry for each cluster names the next.

use keel_source::{Budget, ByteOffset, Source};

use crate::device::{hold, step};
use crate::{Extent, Finding, Severity};

/// What the entry of a cluster says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Link {
    /// The chain goes on at this cluster.
    Next(u32),
    /// The chain ends here.
    End,
    /// The cluster is free.
    Free,
    /// The cluster is marked bad.
    Bad,
    /// The entry cannot be read.
    Unreadable,
}

/// A chain of clusters as runs, and how it ended.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Chain {
    /// First cluster and count of clusters of each run.
    pub runs: Vec<(u32, u32)>,
    /// Count of clusters in all runs.
    pub clusters: u64,
    /// What was wrong with it.
    pub finding: Option<Finding>,
}

/// The table that a chain is followed in.
pub struct LinkTable<'a> {
    /// Count of clusters; the first has number 2.
    pub clusters: u64,
    /// Reads the entry of a cluster.
    pub link: &'a dyn Fn(u32) -> Link,
    /// Where the entry of a cluster stands, in bytes of the volume.
    pub entry_at: &'a dyn Fn(u32) -> ByteOffset,
    /// What the table is read from: links are steps of its budget, runs are held under it.
    pub source: &'a dyn Source,
}

/// Links that are one step of a budget: they stand side by side in a page that is kept.
pub(crate) const LINKS_A_STEP: u64 = 16;

impl Chain {
    /// `count` clusters that follow one another from `first` on: nothing is looked up.
    #[must_use]
    pub fn straight(first: u32, count: u64) -> Self {
        let runs = if count == 0 { Vec::new() } else { vec![(first, u32::try_from(count).unwrap_or(u32::MAX))] };
        Self { runs, clusters: count, finding: None }
    }

    /// Follows the chain from `first` for at most `limit` clusters. A loop, a link out of the volume or to a free
    /// cluster cuts it, with a finding. Bounded by `limit` and by the count of clusters.
    #[must_use]
    pub fn follow(table: &LinkTable<'_>, first: u32, limit: u64) -> Self {
        let _while = table.source.budget().map(Budget::passing);
        let mut chain = Self::default();
        let mut cluster = first;
        // Brent's way to see a loop without a set of all clusters visited.
        let (mut anchor, mut power, mut steps) = (first, 1u64, 0u64);
        let cut = |what: String, cluster: u32| {
            Some(Finding::at(Severity::Doubt, (table.entry_at)(cluster), what, format!("FAT entry of cluster {cluster}")))
        };
        while chain.clusters < limit {
            if u64::from(cluster) < 2 || u64::from(cluster) >= table.clusters + 2 {
                let what = format!("the chain from cluster {first} points at {cluster}, which is no cluster");
                chain.finding = cut(what, cluster.min(1));
                return chain;
            }
            let runs = chain.runs.len();
            chain.push(cluster);
            let at = ByteOffset(0);
            let held =
                if chain.runs.len() > runs { hold(table.source, at, "FAT", size_of::<(u32, u32)>() as u64) } else { Ok(()) };
            let stepped = if chain.clusters % LINKS_A_STEP == 0 { step(table.source, at, "FAT", 1) } else { Ok(()) };
            if let Err(error) = held.and(stepped) {
                chain.finding = cut(format!("the chain from cluster {first} is not followed to its end: {error}"), cluster);
                return chain;
            }
            let next = match (table.link)(cluster) {
                Link::Next(next) => next,
                Link::End => return chain,
                Link::Unreadable => {
                    chain.finding = cut(format!("the chain from cluster {first} is cut: its FAT sector cannot be read"), cluster);
                    return chain;
                }
                link => {
                    let what = if link == Link::Free { "a free cluster" } else { "a bad cluster" };
                    chain.finding = cut(format!("the chain from cluster {first} ends at {what}"), cluster);
                    return chain;
                }
            };
            steps += 1;
            if next == anchor || steps > table.clusters {
                chain.finding = cut(format!("the chain from cluster {first} comes back to cluster {next}: it loops"), cluster);
                return chain;
            }
            if steps == power {
                (anchor, power, steps) = (next, power * 2, 0);
            }
            cluster = next;
        }
        chain
    }

    /// Adds a cluster at its end.
    pub(crate) fn push(&mut self, cluster: u32) {
        self.clusters += 1;
        match self.runs.last_mut() {
            Some((first, count)) if first.checked_add(*count) == Some(cluster) => *count += 1,
            _ => self.runs.push((cluster, 1)),
        }
    }

    /// Where the chain lies, as extents of the volume.
    #[must_use]
    pub fn extents(&self, cluster_bytes: u64, cluster_at: &dyn Fn(u32) -> Option<ByteOffset>) -> Vec<Extent> {
        let mut stream_at = 0;
        let mut extents = Vec::with_capacity(self.runs.len());
        for (first, count) in &self.runs {
            let bytes = u64::from(*count) * cluster_bytes;
            extents.push(Extent { stream_at, volume_at: cluster_at(*first), bytes });
            stream_at += bytes;
        }
        extents
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn follow(links: &[u32], first: u32, limit: u64) -> Chain {
        let link = |cluster: u32| match links.get(cluster as usize).copied() {
            None => Link::Unreadable,
            Some(0) => Link::Free,
            Some(1) => Link::Bad,
            Some(u32::MAX) => Link::End,
            Some(next) => Link::Next(next),
        };
        let source = keel_source::MemorySource::new("links", Vec::new(), 512);
        let entry_at = |cluster| ByteOffset(u64::from(cluster) * 4);
        let table = LinkTable { clusters: links.len() as u64 - 2, link: &link, entry_at: &entry_at, source: &source };
        Chain::follow(&table, first, limit)
    }

    #[test]
    fn a_chain_becomes_runs_and_says_how_it_ended() {
        let links = [0, 0, 3, 4, 9, 0, 1, 7, 0, u32::MAX];
        assert_eq!(follow(&links, 2, 100), Chain { runs: vec![(2, 3), (9, 1)], clusters: 4, finding: None });
        assert_eq!(follow(&links, 2, 2), Chain { runs: vec![(2, 2)], clusters: 2, finding: None });
        for (first, said) in [
            (5, "a free cluster"),
            (6, "a bad cluster"),
            (7, "it loops"),
            (40, "which is no cluster"),
            (1, "which is no cluster"),
        ] {
            let finding = follow(&links, first, 100).finding.unwrap();
            assert!(finding.what.contains(said), "{first}: {}", finding.what);
        }
    }

    #[test]
    fn a_straight_chain_asks_nobody() {
        assert_eq!(Chain::straight(7, 5).runs, [(7, 5)]);
        assert!(Chain::straight(7, 0).runs.is_empty());
        let extents = Chain { runs: vec![(7, 2), (20, 1)], clusters: 3, finding: None }
            .extents(512, &|cluster| Some(ByteOffset(u64::from(cluster) * 512)));
        assert_eq!(extents[1], Extent { stream_at: 1024, volume_at: Some(ByteOffset(20 * 512)), bytes: 512 });
    }

    proptest! {
        #[test]
        fn any_table_ends_within_its_count_of_clusters(links in proptest::collection::vec(prop_oneof![0u32..40, Just(u32::MAX)], 3..40), first in 0u32..45) {
            let chain = follow(&links, first, u64::MAX);
            // A loop is seen at the latest when it was gone round twice.
            prop_assert!(chain.clusters <= 3 * links.len() as u64);
            prop_assert_eq!(chain.runs.iter().map(|(_, count)| u64::from(*count)).sum::<u64>(), chain.clusters);
            let ends = chain.runs.last().is_some_and(|(first, count)| links.get((first + count - 1) as usize) == Some(&u32::MAX));
            prop_assert_eq!(chain.finding.is_none(), ends);
        }
    }
}
