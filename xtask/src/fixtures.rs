//! Volumes for the tests of `keel-format`, packed into its `tests/fixtures` folder.

/// To be made.
pub(crate) fn build() -> anyhow::Result<()> {
    Ok(())
}
