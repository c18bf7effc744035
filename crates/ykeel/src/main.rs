//! Yellow Keel: find out what is left of a drive, find its lost volumes, make them mount again, prove it.
#![forbid(unsafe_code)]

mod app;
mod cli;
mod command;
mod config;
mod demo;
mod exit;
mod keys;
mod line_edit;
mod log;
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
    // What was asked for, without the name of the program.
    let words = std::env::args_os().skip(1).map(|word| word.to_string_lossy().into_owned()).collect::<Vec<_>>().join(" ");
    let ended = config::load(&cli.look).map_err(anyhow::Error::from).and_then(|()| {
        config::get().log_file.iter().for_each(|path| log::keep(path));
        log::line("command", &words);
        command::run(cli)
    });
    log::line("ended", &ended.as_ref().map_or_else(|error| keel_core::chain(error.as_ref()), |()| "done".into()));
    // What ended otherwise says why; a log that cannot be kept is told where nothing else is.
    let ended = ended.and(log::close().map_err(anyhow::Error::from));
    // What is on its way out may still have something to put back.
    keel_core::job::wait_for_dropped();
    exit::code(ended, json)
}
