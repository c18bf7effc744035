//! Features of a superblock whose inodes are gone.

use zerocopy::{FromBytes, IntoBytes};

use super::super::layout::{COMPAT_HAS_JOURNAL, COMPAT_ORPHAN_FILE, RawSuperblock};

/// Features that a superblock must not state, because the inodes that they need are gone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Features {
    pub(super) compat: u32,
    pub(super) incompat: u32,
    pub(super) ro_compat: u32,
}

impl Features {
    /// Takes them out of a superblock. True when it stated any.
    pub(super) fn take_out(self, raw: &mut RawSuperblock) -> bool {
        let (compat, ro_compat) = (raw.s_feature_compat.get(), raw.s_feature_ro_compat.get());
        let incompat = raw.s_feature_incompat.get();
        raw.s_feature_incompat.set(incompat & !self.incompat);
        raw.s_feature_compat.set(compat & !self.compat);
        raw.s_feature_ro_compat.set(ro_compat & !self.ro_compat);
        if self.compat & COMPAT_HAS_JOURNAL != 0 {
            raw.s_journal_inum.set(0);
        }
        if self.compat & COMPAT_ORPHAN_FILE != 0 {
            raw.s_orphan_file_inum.set(0);
        }
        compat & self.compat != 0 || ro_compat & self.ro_compat != 0 || incompat & self.incompat != 0
    }

    /// A superblock without them, with its checksum; `None` for one that states none.
    pub(super) fn taken_out(self, superblock: &[u8]) -> Option<Vec<u8>> {
        let mut raw = RawSuperblock::read_from_bytes(superblock).ok()?;
        self.take_out(&mut raw).then(|| {
            let mut bytes = raw.as_bytes().to_vec();
            super::seal(&mut bytes);
            bytes
        })
    }
}
