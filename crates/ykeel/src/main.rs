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
    let cli = cli::Cli::parse();
    let ended = command::run(cli);
    // What is on its way out may still have something to put back.
    keel_core::job::wait_for_dropped();
    exit::code(ended)
}
