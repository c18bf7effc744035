//! The screens.
use std::path::{Path, PathBuf};
pub(crate) fn open(_s: &[PathBuf], _z: Option<u32>) -> anyhow::Result<()> {
    Ok(())
}
pub(crate) fn open_yard(_d: &Path) -> anyhow::Result<()> {
    Ok(())
}
pub(crate) fn stamp() -> String {
    jiff::Timestamp::now().strftime("%Y-%m-%dT%H-%M-%S").to_string()
}
