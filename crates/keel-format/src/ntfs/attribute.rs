//! The attributes of a file record.

use super::layout::{
    ATTRIBUTE_LIST, DATA, END, FILE_NAME, REPARSE_POINT, RawAttribute, RawFileName, RawNonResident, RawResident,
    STANDARD_INFORMATION,
};
use super::runs::{self, Run};
use crate::{FormatError, Stamp, Times, View};

/// One attribute of a record.
#[derive(Debug, Clone)]
pub struct Attribute<'a> {
    /// Type code.
    pub type_code: u32,
    /// Name; empty for most.
    pub name: String,
    /// Flags: compressed, encrypted, sparse.
    pub flags: u16,
    /// Attribute id.
    pub id: u16,
    /// Value.
    pub body: Body<'a>,
}

/// Where an attribute's value is.
#[derive(Debug, Clone)]
pub enum Body<'a> {
    /// In the record.
    Resident(View<'a>),
    /// In clusters of the volume.
    NonResident {
        /// Sizes and first VCN.
        header: RawNonResident,
        /// The undecoded mapping pairs.
        pairs: View<'a>,
    },
}

impl<'a> Attribute<'a> {
    /// Bytes of the value.
    #[must_use]
    pub fn bytes(&self) -> u64 {
        match &self.body {
            Body::Resident(view) => view.bytes().len() as u64,
            Body::NonResident { header, .. } => header.data_size.get(),
        }
    }

    /// The value, when it is resident.
    #[must_use]
    pub fn resident(&self) -> Option<View<'a>> {
        match &self.body {
            Body::Resident(view) => Some(*view),
            Body::NonResident { .. } => None,
        }
    }

    /// The runs of a non-resident attribute below cluster `limit`.
    ///
    /// # Errors
    /// [`FormatError`] for mapping pairs that cannot be.
    pub fn runs(&self, limit: u64) -> Result<Vec<Run>, FormatError> {
        match &self.body {
            Body::Resident(_) => Ok(Vec::new()),
            Body::NonResident { header, pairs } => runs::decode(*pairs, header.lowest_vcn.get(), limit),
        }
    }

    /// Cluster size that allocated size and runs give together, when they do (unfragmented and fragmented alike, but
    /// not for sparse or compressed values).
    #[must_use]
    pub fn implied_cluster_bytes(&self) -> Option<u32> {
        let Body::NonResident { header, .. } = &self.body else { return None };
        let runs = self.runs(u64::MAX).ok()?;
        let clusters: u64 = runs.iter().map(|run| run.clusters).sum();
        let allocated = header.allocated_size.get();
        if clusters == 0 || self.flags != 0 || header.lowest_vcn.get() != 0 || allocated % clusters != 0 {
            return None;
        }
        u32::try_from(allocated / clusters).ok().filter(|bytes| bytes.is_power_of_two() && (512..=2 << 20).contains(bytes))
    }
}

/// The attributes of a record, in order. Ends after an error.
pub struct Attributes<'a> {
    view: View<'a>,
    offset: usize,
    ended: bool,
}

impl<'a> Attributes<'a> {
    pub(crate) fn new(view: View<'a>, offset: usize) -> Self {
        Self { view, offset, ended: false }
    }

    fn read(&mut self) -> Result<Option<Attribute<'a>>, FormatError> {
        let view = self.view;
        if view.u32(self.offset, "type code")? == END {
            return Ok(None);
        }
        let raw: &RawAttribute = view.at(self.offset, "attribute header")?;
        let length = raw.length.get() as usize;
        if length < 24 || !length.is_multiple_of(8) {
            return Err(view.wrong(self.offset + 4, "length", length as u64, "at least 24, a multiple of 8"));
        }
        let part = view.part(self.offset, length, "attribute")?;
        let name = part.slice(usize::from(raw.name_offset.get()), usize::from(raw.name_length) * 2, "name")?;
        let name = super::utf16_text(name.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair)));
        let body = if raw.non_resident == 0 {
            let resident: &RawResident = part.at(16, "resident header")?;
            let offset = usize::from(resident.value_offset.get());
            Body::Resident(part.part(offset, resident.value_length.get() as usize, "attribute value")?)
        } else {
            let header: RawNonResident = *part.at(16, "non-resident header")?;
            let offset = usize::from(header.mapping_pairs_offset.get());
            let left = length.saturating_sub(offset);
            Body::NonResident { header, pairs: part.part(offset, left, "mapping pairs")? }
        };
        self.offset += length;
        Ok(Some(Attribute { type_code: raw.type_code.get(), name, flags: raw.flags.get(), id: raw.id.get(), body }))
    }
}

impl<'a> Iterator for Attributes<'a> {
    type Item = Result<Attribute<'a>, FormatError>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.ended {
            return None;
        }
        let item = self.read().transpose();
        self.ended = !matches!(item, Some(Ok(_)));
        item
    }
}

/// A decoded `$FILE_NAME`.
#[derive(Debug, Clone)]
pub(crate) struct FileName {
    pub(crate) raw: RawFileName,
    pub(crate) name: String,
}

impl FileName {
    pub(crate) fn parse(view: View<'_>) -> Result<Self, FormatError> {
        let raw: RawFileName = *view.at(0, "$FILE_NAME")?;
        let units = view.slice(66, usize::from(raw.name_length) * 2, "name")?;
        let name = super::utf16_text(units.as_chunks::<2>().0.iter().map(|pair| u16::from_le_bytes(*pair)));
        Ok(Self { raw, name })
    }

    pub(crate) fn times(&self) -> Times {
        Times {
            created: Stamp::from_ntfs(self.raw.created.get()),
            modified: Stamp::from_ntfs(self.raw.modified.get()),
            accessed: Stamp::from_ntfs(self.raw.accessed.get()),
        }
    }

    /// True for the short alias that only old programs see.
    pub(crate) fn is_dos_alias(&self) -> bool {
        self.raw.namespace == 2
    }
}

/// Every name of a record beside its best one: other names of a hard link. Short aliases are left out.
pub(crate) fn other_names(record: &super::Record, best: &FileName) -> Vec<FileName> {
    let names = record.attributes().flatten().filter(|attribute| attribute.type_code == FILE_NAME);
    let parsed = names.filter_map(|attribute| attribute.resident().and_then(|view| FileName::parse(view).ok()));
    let same = |name: &FileName| name.name == best.name && name.raw.parent.get() == best.raw.parent.get();
    parsed.filter(|name| !name.is_dos_alias() && !same(name)).collect()
}

/// What listings ask of a record, gathered in one walk over its attributes.
#[derive(Debug, Default)]
pub(crate) struct Gist {
    /// The best name: a long one before a short one.
    pub(crate) name: Option<FileName>,
    /// Bytes of the main stream, where this record knows.
    pub(crate) bytes: Option<u64>,
    /// Attributes stand in other records too.
    pub(crate) has_list: bool,
    /// The times of `$STANDARD_INFORMATION`: created, modified, then that of the record, then accessed.
    pub(crate) times: Option<Times>,
    /// `ReparseTag` of its reparse point.
    pub(crate) reparse_tag: Option<u32>,
}

impl Gist {
    pub(crate) fn of(record: &super::Record) -> Self {
        let mut gist = Self::default();
        for attribute in record.attributes().flatten() {
            let resident = || attribute.resident().filter(|_| attribute.name.is_empty());
            match attribute.type_code {
                FILE_NAME if gist.name.as_ref().is_none_or(FileName::is_dos_alias) => {
                    let parsed = attribute.resident().and_then(|view| FileName::parse(view).ok());
                    gist.name = parsed.or(gist.name);
                }
                DATA if attribute.name.is_empty() => gist.bytes = gist.bytes.or(Some(attribute.bytes())),
                ATTRIBUTE_LIST => gist.has_list = true,
                STANDARD_INFORMATION if gist.times.is_none() => gist.times = resident().map(|view| times_of(&view)),
                REPARSE_POINT if gist.reparse_tag.is_none() => {
                    gist.reparse_tag = resident().and_then(|view| view.u32(0, "ReparseTag").ok());
                }
                _ => {}
            }
        }
        gist
    }
}

fn times_of(view: &View<'_>) -> Times {
    let stamp = |offset: usize| view.u64(offset, "time").ok().and_then(Stamp::from_ntfs);
    Times { created: stamp(0), modified: stamp(8), accessed: stamp(24) }
}
