//! Questions that only the drive itself can answer, handed on by what lies over it.

/// The methods of [`crate::Source`] that ask the drive below: `hand_on!(self, self.below)` within the implementation.
macro_rules! hand_on {
    ($own:ident, $below:expr) => {
        fn health_page(&$own) -> Result<$crate::HealthPage, $crate::NoHealth> {
            $below.health_page()
        }

        fn self_test_log(&$own) -> Result<$crate::SelfTestLog, $crate::NoHealth> {
            $below.self_test_log()
        }

        fn error_log(&$own) -> Result<$crate::ErrorLog, $crate::NoHealth> {
            $below.error_log()
        }

        fn self_test(&$own, order: $crate::SelfTestOrder) -> Result<(), $crate::NoHealth> {
            $below.self_test(order)
        }

        fn not_ready(&$own) -> Option<$crate::NotReady> {
            $below.not_ready()
        }

        fn own_size(&$own) -> $crate::OwnSize {
            $below.own_size()
        }

        fn set_end(&$own, order: $crate::EndOrder, leave: &$crate::Leave) -> Result<u64, $crate::SourceError> {
            $below.set_end(order, leave)
        }

        fn attachment(&$own) -> Option<$crate::Attachment> {
            $below.attachment()
        }

        fn set_settings(&$own, wanted: $crate::SettingsWanted) -> std::io::Result<()> {
            $below.set_settings(wanted)
        }

        fn nodes(&$own) -> Vec<$crate::Node> {
            $below.nodes()
        }

        fn renew_nodes(&$own, wanted: &[$crate::NodeWanted]) -> std::io::Result<$crate::Renewed> {
            $below.renew_nodes(wanted)
        }

        fn stop(&$own) -> std::io::Result<Vec<String>> {
            $below.stop()
        }
    };
}

pub(crate) use hand_on;
