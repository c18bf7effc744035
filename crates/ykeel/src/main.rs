//! Yellow Keel: find out what is left of a drive, find its lost volumes, make them mount again, prove it.
#![forbid(unsafe_code)]

mod app;
mod cli;
mod command;
mod demo;
mod exit;
mod keys;
mod line_edit;
mod out;
mod place;
mod popup;
mod signals;
mod stage;
mod term;
#[cfg(test)]
mod testing;
mod theme;
mod widget;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    signals::listen();
    let json = std::env::args_os().any(|word| word == "--json");
    let cli = match cli::Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => return exit::wrong_use(&error, json),
    };
    let ended = command::run(cli);
    // What is on its way out may still have something to put back.
    keel_core::job::wait_for_dropped();
    exit::code(ended, json)
}
