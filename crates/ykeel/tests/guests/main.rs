//! Drives behind a kernel of their own, one machine at a time and nothing else beside it: their time limits are real.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "../../../../xtask/guest/bench.rs"]
mod bench;
mod guest;
#[path = "../../../../xtask/guest/qemu.rs"]
mod qemu;
#[path = "../cases/support/mod.rs"]
mod support;

mod devices;
mod kernel;
