//! The program as its users meet it: commands, screens, drives behind a kernel of their own.
//! One program for all of them: they are linked once, and run beside each other.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "../../../../xtask/guest/bench.rs"]
mod bench;
#[path = "support/guest.rs"]
mod guest;
#[path = "../../../../xtask/guest/qemu.rs"]
mod qemu;

mod adrift;
mod advice;
mod bench_screens;
mod commands;
mod devices;
mod hostile_names;
mod kernel;
mod kinds;
mod own_files;
mod places;
mod promises;
mod screens;
mod sick;
mod sick_screens;
mod support;
mod verdicts;
