//! Boot sectors from their backups.

use std::sync::Arc;

use keel_source::{SharedSource, Window};

use super::{Edit, Order};
use crate::sweep::Find;

/// The edit that puts back the boot sector of `find` from its sound backup, when the main one does not hold.
pub(super) fn edit(source: &SharedSource, find: &Find) -> Option<Edit> {
    let window: SharedSource = Arc::new(Window::new(Arc::clone(source), find.range()));
    let restored = find.geometry.boot_from_copy(&window)?;
    let at_byte = find.start_byte + restored.at.0;
    let mut before = vec![0; restored.bytes.len()];
    if source.read_at(at_byte, &mut before).is_err() {
        before.clear();
    }
    let reason = format!(
        "the boot sector of {} ({}) does not state this volume; its backup at {} does, and the volume's own metadata agrees",
        find.id,
        find.kind.word(),
        find.start_byte + restored.copy.start.0,
    );
    Some(Edit {
        structure: format!("{} boot sector of {}", find.kind.word(), find.id),
        at_byte,
        before,
        after: restored.bytes,
        order: Order::Primary,
        reason,
    })
}
