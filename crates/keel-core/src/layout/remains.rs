//! What is left of a lost table, and what the volumes themselves tell of it: EBRs that still stand before logical volumes, and
//! content that says what a volume is for.

use std::ops::ControlFlow;

use keel_format::table::mbr::ebr_at;
use keel_format::table::{Scheme, TypeCode, gpt};
use keel_format::{Deleted, NodeKind, VolumeKind};
use keel_source::{Lba, SharedSource};

use crate::find::Find;

/// Sectors before a logical volume at which its EBR customarily stands: of 1 MiB alignment, and of a track.
const BEFORE: [u64; 5] = [2048, 63, 1, 128, 64];
/// The most names of a root that are looked at.
const MOST_NAMES: usize = 512;

/// What a volume is for, as its root tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Purpose {
    /// It starts computers: a FAT with a folder `EFI`, and hardly anything else.
    Efi,
    /// It repairs an installed system and is meant to stay out of sight.
    Recovery,
}

impl Purpose {
    /// The type that says so, and the words for the reason.
    pub(super) fn type_code(self, scheme: Scheme, kind: VolumeKind) -> Option<(TypeCode, &'static str)> {
        match (self, scheme) {
            (Self::Efi, Scheme::Gpt) => {
                Some((TypeCode::Gpt(gpt::EFI_SYSTEM), "its root holds EFI and little else: it starts computers"))
            }
            (Self::Efi, Scheme::Mbr) => Some((TypeCode::Mbr(0xEF), "its root holds EFI and little else: it starts computers")),
            (Self::Recovery, Scheme::Gpt) => {
                Some((TypeCode::Gpt(gpt::RECOVERY), "its root holds a recovery system and nothing of a user"))
            }
            (Self::Recovery, Scheme::Mbr) => {
                let hidden = kind.facts().mbr.also.first().copied()?;
                Some((TypeCode::Mbr(hidden), "its root holds a recovery system and nothing of a user"))
            }
            _ => None,
        }
    }
}

/// What the names in the root of `find` say that it is for.
pub(super) fn purpose(source: &SharedSource, find: &Find) -> Option<Purpose> {
    // What a kind can be for, the types say behind which systems look for it.
    let may_be = |code| find.kind.facts().gpt.1.contains(&code);
    let candidate = may_be(gpt::EFI_SYSTEM) || may_be(gpt::RECOVERY);
    let volume = crate::files::open(source, find).ok().filter(|_| candidate)?;
    let mut names: Vec<(String, NodeKind)> = Vec::new();
    let _ = volume.list(volume.root(), Deleted::Hide, &mut |entry| {
        names.push((entry.name.to_ascii_lowercase(), entry.kind));
        if names.len() < MOST_NAMES { ControlFlow::Continue(()) } else { ControlFlow::Break(()) }
    });
    let has = |name: &str| names.iter().any(|(own, kind)| own == name && *kind == NodeKind::Directory);
    let system = |name: &str| name == "system volume information" || name.starts_with('$') || name.starts_with('.');
    let others = |own: &str| names.iter().filter(|(name, _)| name != own && !system(name)).count();
    if may_be(gpt::EFI_SYSTEM) && has("efi") && others("efi") <= 3 {
        return Some(Purpose::Efi);
    }
    (may_be(gpt::RECOVERY) && has("recovery") && others("recovery") == 0).then_some(Purpose::Recovery)
}

/// The EBR that stands before `find` and states its start and length.
pub(super) fn ebr_before(source: &SharedSource, find: &Find) -> Option<Lba> {
    BEFORE.iter().find_map(|back| {
        let at = Lba(find.start_lba.0.checked_sub(*back).filter(|lba| *lba > 0)?);
        let logical = ebr_at(source.as_ref(), at)?;
        (logical.first == find.start_lba && logical.sectors.0 >= find.sectors.0).then_some(at)
    })
}
