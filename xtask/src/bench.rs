//! `cargo xtask bench`.

/// To be made.
pub(crate) fn run() -> anyhow::Result<()> {
    Ok(())
}
