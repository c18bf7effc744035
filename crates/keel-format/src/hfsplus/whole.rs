//! What checks and mending ask of a whole volume: every record, every fork, the ground of its own files.

use std::cmp::Ordering;
use std::ops::ControlFlow;

use keel_source::ByteOffset;
use zerocopy::FromBytes;

use super::HfsVolume;
use super::attributes::{self, Value};
use super::catalog::{Record, parent_of, text_of, units_of};
use super::forks::{self, ForkKind};
use super::layout::{
    ALLOCATION_FILE_ID, ATTRIBUTES_FILE_ID, CATALOG_FILE_ID, EXTENTS_FILE_ID, Fork, RECORD_FOLDER_THREAD, ROOT_FOLDER_ID,
    RawHeader,
};
use crate::{Extent, FormatError};

impl HfsVolume {
    /// The highest catalog node ID in use.
    ///
    /// # Errors
    /// [`FormatError`] when a leaf of the catalog cannot be read.
    pub fn highest_id(&self) -> Result<u32, FormatError> {
        let mut highest = 0;
        self.catalog.from(&self.pages, &|_| Ordering::Greater, &mut |found| {
            highest = Record::parse(found.data).map_or(highest, |record| highest.max(record.id()));
            ControlFlow::Continue(())
        })?;
        Ok(highest)
    }

    /// The volume header at byte `at`.
    pub(super) fn header_at(&self, at: ByteOffset) -> Option<RawHeader> {
        let bytes = self.pages.bytes(at, 512, "volume header").ok()?;
        RawHeader::read_from_bytes(&bytes).ok()
    }

    /// Nodes that the catalog's map counts as used: the bits of the header node's map record and of the map nodes behind
    /// it. `None` where a node of the map cannot be read.
    pub(super) fn catalog_nodes_in_map(&self) -> Option<u32> {
        const MOST_MAP_NODES: usize = 4096;
        let header = self.catalog.header();
        let size = usize::from(header.node_size.get());
        let (mut used, mut left, mut number) = (0u32, header.total_nodes.get(), 0u32);
        // The header node's third record is a map; each map node is one, behind its descriptor.
        let mut from = 14 + 106 + 128;
        for _ in 0..MOST_MAP_NODES {
            let bytes = self.pages.bytes(self.catalog.node_at(number)?, size, "B-tree map").ok()?;
            let tail = if number == 0 { 8 } else { 4 };
            for byte in bytes.get(from..size.checked_sub(tail)?)? {
                let counted = left.min(8);
                used += u32::try_from((0..counted).filter(|bit| byte & (0x80 >> bit) != 0).count()).ok()?;
                left -= counted;
            }
            number = bytes.first_chunk::<4>().map(|link| u32::from_be_bytes(*link))?;
            if left == 0 || number == 0 {
                break;
            }
            from = 14;
        }
        (left == 0).then_some(used)
    }

    /// True when the root folder keeps the journal as a hidden file.
    pub(super) fn has_journal_file(&self) -> bool {
        let mut found = false;
        let _ = self.records_of(ROOT_FOLDER_ID, &mut |_, units, _| {
            found |= text_of(&units) == ".journal";
            if found { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        });
        found
    }

    /// Hands the number of every folder record, and of the folder of every thread record, to `each`.
    pub(super) fn each_catalog_record(&self, each: &mut dyn FnMut(Option<u32>, Option<u32>)) -> Result<(), FormatError> {
        self.catalog.from(&self.pages, &|_| Ordering::Greater, &mut |found| {
            let thread = found.data.first_chunk::<2>().map(|kind| u16::from_be_bytes(*kind)) == Some(RECORD_FOLDER_THREAD);
            let folder = match Record::parse(found.data) {
                Some(Record::Folder(folder)) => Some(folder.folder_id.get()),
                _ => None,
            };
            each(folder, parent_of(found.key).filter(|_| thread));
            ControlFlow::Continue(())
        })
    }

    /// Hands the ground of both forks of every file record to `each`, with the record's name.
    pub(super) fn each_fork(&self, each: &mut dyn FnMut(&str, &[Extent])) {
        // Damage on the way is a finding of other rules.
        let _ = self.catalog.from(&self.pages, &|_| Ordering::Greater, &mut |found| {
            if let Some(Record::File(file)) = Record::parse(found.data) {
                let name = text_of(&units_of(found.key));
                for (kind, raw) in [(ForkKind::Data, &file.data_fork), (ForkKind::Resource, &file.resource_fork)] {
                    each(&name, &self.fork_extents(file.file_id.get(), kind, raw).unwrap_or_default());
                }
            }
            ControlFlow::Continue(())
        });
        let Some(tree) = &self.attributes else { return };
        let _ = attributes::each(&self.pages, &self.geometry, tree, &|_| Ordering::Greater, &mut |found| {
            if let Value::Blocks { extents, .. } = &found.value {
                each(&format!("{} of file {}", text_of(&found.units), found.owner), extents);
            }
            ControlFlow::Continue(())
        });
    }

    /// The ground of the files that the header names.
    pub(super) fn special_ground(&self) -> Vec<(&'static str, Vec<Extent>)> {
        let geometry = &self.geometry;
        let files = [
            ("the allocation file", ALLOCATION_FILE_ID, &geometry.allocation),
            ("the extents overflow file", EXTENTS_FILE_ID, &geometry.extents),
            ("the catalog", CATALOG_FILE_ID, &geometry.catalog),
            ("the attributes file", ATTRIBUTES_FILE_ID, &geometry.attributes_file),
        ];
        let ground = |(name, id, fork): (&'static str, u32, &Fork)| {
            (name, forks::extents(&self.pages, geometry, self.overflow_records(), id, ForkKind::Data, fork).unwrap_or_default())
        };
        files.into_iter().map(ground).collect()
    }

    /// Files and folders of the catalog, the root among the folders.
    ///
    /// # Errors
    /// [`FormatError`] when a leaf of the catalog cannot be read.
    pub fn counts(&self) -> Result<(u32, u32), FormatError> {
        let (mut files, mut folders) = (0, 0);
        self.catalog.from(&self.pages, &|_| Ordering::Greater, &mut |found| {
            match Record::parse(found.data) {
                Some(Record::File(_)) => files += 1,
                Some(Record::Folder(_)) => folders += 1,
                None => {}
            }
            ControlFlow::Continue(())
        })?;
        Ok((files, folders))
    }
}
