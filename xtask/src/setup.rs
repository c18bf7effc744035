//! `cargo xtask test`.

/// To be made.
pub(crate) fn test(_rest: &[String]) -> anyhow::Result<()> {
    Ok(())
}
