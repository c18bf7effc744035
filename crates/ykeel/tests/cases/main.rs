//! The program as its users meet it: commands and screens.
//! One program for all of them: they are linked once, and run beside each other.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod adrift;
mod advice;
mod bench_screens;
mod commands;
mod hostile_names;
mod kinds;
mod own_files;
mod places;
mod promises;
mod screens;
mod sick;
mod sick_screens;
mod support;
mod verdicts;
