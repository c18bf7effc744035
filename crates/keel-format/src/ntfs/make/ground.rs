//! Where the system's own files of a new volume lie.

use crate::make::{NotMade, Part, Wanted};
use crate::ntfs::NtfsGeometry;

use keel_source::Payload;

/// A stretch of clusters: the first, and how many.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Stretch {
    pub(super) first: u64,
    pub(super) clusters: u64,
}

impl Stretch {
    fn end(self) -> u64 {
        self.first + self.clusters
    }
}

/// Bytes of `$Boot`: the boot sector and room for a loader.
pub(super) const BOOT_BYTES: u64 = 8192;
/// Volumes of fewer bytes keep nothing free for the MFT to grow into.
const LEAST_WITH_ZONE: u64 = 16 << 20;
/// One in so many clusters is kept free behind the MFT.
const ZONE: u64 = 8;
/// Bytes of one page of the bitmap that is held, where anything in it is in use.
const PAGE: u64 = 4096;

/// What is handed out.
#[derive(Debug)]
pub(super) struct Ground {
    clusters: u64,
    cluster_bytes: u64,
    used: Vec<Stretch>,
    next: u64,
}

impl Ground {
    /// The ground of a volume whose `$Boot` stands at its start, its MFT and the mirror where `geometry` states them.
    ///
    /// # Errors
    /// [`NotMade`] where they would overlap.
    pub(super) fn new(geometry: &NtfsGeometry, wanted: &Wanted, mft_bytes: u64) -> Result<(Self, Fixed), NotMade> {
        let cluster_bytes = u64::from(geometry.cluster_bytes);
        let of = |first: u64, bytes: u64| Stretch { first, clusters: bytes.div_ceil(cluster_bytes) };
        let boot = of(0, BOOT_BYTES);
        let mft_bitmap = of(boot.end(), (mft_bytes / u64::from(geometry.record_bytes)).div_ceil(8));
        let mft = of(geometry.mft_lcn, mft_bytes);
        let mirror = of(geometry.mirror_lcn, mirrored(geometry) * u64::from(geometry.record_bytes));
        if mft_bitmap.end() > mft.first || mft.end() > mirror.first || mirror.end() > geometry.clusters() {
            return Err(too_small(wanted));
        }
        let zone = if wanted.bytes >= LEAST_WITH_ZONE { geometry.clusters() / ZONE } else { 0 };
        let next = mft.end().max(mft.first + zone);
        let used = vec![boot, mft_bitmap, mft, mirror];
        let ground = Self { clusters: geometry.clusters(), cluster_bytes, used, next };
        Ok((ground, Fixed { boot, mft_bitmap, mft, mirror }))
    }

    /// The next free stretch for `bytes` bytes.
    ///
    /// # Errors
    /// [`NotMade`] where the volume ends before it.
    pub(super) fn take(&mut self, bytes: u64, wanted: &Wanted) -> Result<Stretch, NotMade> {
        let mut stretch = Stretch { first: self.next, clusters: bytes.div_ceil(self.cluster_bytes).max(1) };
        let meets = |stretch: Stretch| {
            self.used.iter().filter(|used| used.first < stretch.end() && stretch.first < used.end()).map(|used| used.end()).max()
        };
        while let Some(end) = meets(stretch) {
            stretch.first = end;
        }
        if stretch.end() > self.clusters {
            return Err(too_small(wanted));
        }
        // Small files fill the ground before the mirror that a large one left.
        if stretch.first == self.next {
            self.next = stretch.end();
        }
        self.used.push(stretch);
        Ok(stretch)
    }

    /// Bytes of `$Bitmap`: a bit for each cluster, in whole units of 64.
    pub(super) fn bitmap_bytes(clusters: u64) -> u64 {
        clusters.div_ceil(64) * 8
    }

    /// The parts of `$Bitmap`, which lies at byte `at`: every byte of its clusters.
    pub(super) fn bitmap(&self, at: u64) -> Vec<Part> {
        let bytes = Self::bitmap_bytes(self.clusters);
        let allocated = bytes.next_multiple_of(self.cluster_bytes);
        // What lies behind the last cluster counts as used.
        let behind = Stretch { first: self.clusters, clusters: bytes * 8 - self.clusters };
        let used: Vec<Stretch> = self.used.iter().copied().chain([behind].into_iter().filter(|one| one.clusters > 0)).collect();
        let pages = used.iter().flat_map(|one| one.first / 8 / PAGE..=(one.end() - 1) / 8 / PAGE);
        let pages: std::collections::BTreeSet<u64> = pages.collect();
        let mut parts = Vec::new();
        let mut next = 0;
        for page in pages {
            let from = page * PAGE;
            let len = PAGE.min(allocated - from);
            parts.push(Part::new("$Bitmap", at + next, Payload::zeros(from - next)));
            parts.push(Part::new("$Bitmap", at + from, page_of(&used, from * 8, len)));
            next = from + len;
        }
        parts.push(Part::new("$Bitmap", at + next, Payload::zeros(allocated - next)));
        parts
    }
}

/// `bytes` bytes of a bitmap from the bit of cluster `first` on.
fn page_of(used: &[Stretch], first: u64, bytes: u64) -> Vec<u8> {
    let mut page = vec![0u8; usize::try_from(bytes).unwrap_or(0)];
    for stretch in used {
        let inside = stretch.first.max(first)..stretch.end().min(first + bytes * 8);
        for bit in inside.map(|cluster| cluster - first) {
            if let Some(byte) = usize::try_from(bit / 8).ok().and_then(|at| page.get_mut(at)) {
                *byte |= 1 << (bit % 8);
            }
        }
    }
    page
}

/// The stretches whose places the boot sector states, or that stand before them.
#[derive(Debug, Clone, Copy)]
pub(super) struct Fixed {
    pub(super) boot: Stretch,
    pub(super) mft_bitmap: Stretch,
    pub(super) mft: Stretch,
    pub(super) mirror: Stretch,
}

/// Records that the mirror repeats: four, or as many as a cluster holds.
pub(super) fn mirrored(geometry: &NtfsGeometry) -> u64 {
    u64::from(geometry.cluster_bytes / geometry.record_bytes.max(1)).max(4)
}

pub(super) fn too_small(wanted: &Wanted) -> NotMade {
    NotMade(format!("{} bytes are too few for an NTFS and its system files", wanted.bytes))
}
