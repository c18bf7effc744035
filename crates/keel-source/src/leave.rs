//! Leave to write: without it nothing opens a source for writing.

use crate::{Identity, LinkKind};

/// Leave to write to one drive. It is had by typing the drive's code, or without it for an image or a simulated drive; it is good for
/// that drive alone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leave {
    key: String,
}

impl Leave {
    /// Leave by the drive's confirmation code as it was `typed`, in letters of either case. `None` for another code.
    #[must_use]
    pub fn by_code(identity: &Identity, typed: &str) -> Option<Self> {
        typed.trim().eq_ignore_ascii_case(&identity.code()).then(|| Self { key: identity.key() })
    }

    /// Leave without a code: `None` for a block device.
    #[must_use]
    pub fn without_code(identity: &Identity) -> Option<Self> {
        (identity.link != LinkKind::BlockDevice).then(|| Self { key: identity.key() })
    }

    /// True when it is leave for the drive of `identity`.
    #[must_use]
    pub fn is_for(&self, identity: &Identity) -> bool {
        self.key == identity.key()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn leave_is_for_one_drive_and_a_device_wants_its_code() {
        let device = Identity { serial: Some("BRK-1".into()), ..Identity::bare("sdx", 4096, LinkKind::BlockDevice) };
        let other = Identity { serial: Some("BRK-2".into()), ..device.clone() };
        let typed = format!(" {} ", device.code().to_lowercase());
        let leave = Leave::by_code(&device, &typed).unwrap();
        assert!(leave.is_for(&device) && !leave.is_for(&other));
        assert_eq!(Leave::by_code(&other, &typed), None);
        assert_eq!(Leave::by_code(&device, ""), None);
        assert_eq!(Leave::without_code(&device), None);
        assert!(Leave::without_code(&Identity::bare("x.img", 4096, LinkKind::Image)).is_some());
    }
}
