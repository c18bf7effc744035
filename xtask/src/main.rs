//! Developer tasks: `cargo xtask test | ci | demo-drives | fixtures | shots | bench`.
#![forbid(unsafe_code)]

mod bench;
mod content;
mod drives;
mod fixtures;
mod guest;
mod setup;
mod shots;

use anyhow::bail;

fn main() -> anyhow::Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let rest = arguments.get(1..).unwrap_or_default();
    match arguments.first().map(String::as_str) {
        Some("test") => setup::test(rest),
        Some("demo-drives") => drives::build(),
        Some("fixtures") => fixtures::build(),
        Some("shots") => shots::take(),
        Some("bench") => bench::run(),
        Some("guest") => guest::build().map(|folder| println!("{}", folder.display())),
        _ => bail!("usage: cargo xtask test | demo-drives | fixtures | shots | bench | guest"),
    }
}
