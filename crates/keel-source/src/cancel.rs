//! The flag that stops work.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A flag that asks work to stop. Clones share it.
#[derive(Debug, Clone, Default)]
pub struct Cancel(Arc<AtomicBool>);

impl Cancel {
    /// Asks the work to stop at its next chunk.
    pub fn cancel(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// True when the work shall stop.
    #[must_use]
    pub fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
