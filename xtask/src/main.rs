//! Developer tasks: `cargo xtask test | demo-drives [NAME..] | shots | dist | bench [--adrift[=ROUNDS] | --mend | --copy | --devices | --drafts[=COUNT] | --fathom | --keys | --pieces[=ROUNDS] | --plan | --renew | --recovery [--older=KINDS | --kinds=KINDS]] |
//! fuzz [--count=N] [--seed=S] | bench-guest`.
#![forbid(unsafe_code)]

mod bench;
mod bench_adrift;
mod bench_copy;
mod bench_devices;
mod bench_drafts;
mod bench_fathom;
#[path = "../guest/bench.rs"]
mod bench_guest;
mod bench_keys;
mod bench_mend;
mod bench_older;
mod bench_pieces;
mod bench_plan;
mod bench_recovery;
mod bench_renew;
mod content;
mod dist;
mod drives;
mod fuzz;
mod guest;
mod matrix;
mod measure;
#[path = "../guest/qemu.rs"]
mod qemu;
mod setup;
mod shots;
#[path = "../../crates/ykeel/tests/cases/support/tmux.rs"]
mod tmux;

use anyhow::bail;

fn main() -> anyhow::Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let rest = arguments.get(1..).unwrap_or_default();
    match arguments.first().map(String::as_str) {
        Some("test") => setup::test(rest),
        Some("demo-drives") => drives::build(rest),
        Some("shots") => shots::take(),
        Some("dist") => dist::make(),
        Some("bench") if rest.iter().any(|word| word == "--mend") => bench_mend::run_all(),
        Some("bench") if rest.iter().any(|word| word == "--recovery") => {
            let given = |option: &str| rest.iter().find_map(|word| word.strip_prefix(option));
            bench_recovery::run_all(&bench_recovery::Rows { older: given("--older="), kinds: given("--kinds=") })
        }
        Some("bench") if rest.iter().any(|word| word == "--copy") => bench_copy::run_all(),
        Some("bench") if rest.iter().any(|word| word == "--fathom") => bench_fathom::run_all(),
        Some("bench") if rest.iter().any(|word| word == "--devices") => bench_devices::run_all(),
        Some("bench") if rest.iter().any(|word| word == "--keys") => bench_keys::run_all(),
        Some("bench") if rest.iter().any(|word| word == "--plan") => bench_plan::run_all(),
        Some("bench") if rest.iter().any(|word| word.starts_with("--adrift")) => {
            bench_adrift::run_all(rest.iter().find_map(|word| word.strip_prefix("--adrift=")?.parse().ok()))
        }
        Some("bench") if rest.iter().any(|word| word.starts_with("--pieces")) => {
            bench_pieces::run_all(rest.iter().find_map(|word| word.strip_prefix("--pieces=")?.parse().ok()))
        }
        Some("bench") if rest.iter().any(|word| word.starts_with("--drafts")) => {
            bench_drafts::run_all(rest.iter().find_map(|word| word.strip_prefix("--drafts=")?.parse().ok()))
        }
        Some("bench") if rest.iter().any(|word| word == "--renew") => bench_renew::run_all(),
        Some("bench-plan") => bench_plan::one(rest.first().map_or("", String::as_str), rest.get(1).map_or("", String::as_str)),
        Some("bench") => bench::run_all(),
        Some("fuzz") => fuzz::run_all(rest),
        Some("fuzz-worker") => fuzz::worker(rest),
        Some("copy-loop") => {
            bench_copy::copy_loop(rest.first().map_or("", String::as_str), rest.get(1).map_or("", String::as_str))
        }
        Some("bench-guest") => setup::bench_guest(),
        Some("direct-loop") => {
            bench_devices::direct_loop(rest.first().map_or("", String::as_str), rest.get(1).map(String::as_str))
        }
        Some("read-loop") => bench::read_loop(rest.first().map_or("", String::as_str)),
        Some("guest") => guest::build().map(|folder| println!("{}", folder.display())),
        _ => bail!(
            "usage: cargo xtask test | demo-drives [NAME..] | shots | dist | bench [--adrift[=ROUNDS] | --mend | --copy | --devices | --drafts[=COUNT] | --fathom | --keys | --pieces[=ROUNDS] | --plan | --renew | --recovery [--older=KINDS | --kinds=KINDS]] | fuzz [--count=N] [--seed=S] | guest | bench-guest"
        ),
    }
}
