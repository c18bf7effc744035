//! `cargo xtask shots`.

/// To be made.
pub(crate) fn take() -> anyhow::Result<()> {
    Ok(())
}
