//! `ykeel config`.

use serde::Serialize;

use super::shared::print_json;
use crate::config;
use crate::out::say;

/// The settings that hold, and where their file is looked for.
#[derive(Serialize)]
struct Told<'a> {
    file: Option<std::path::PathBuf>,
    is_there: bool,
    settings: &'a config::Config,
}

pub(super) fn run(json: bool) -> anyhow::Result<()> {
    let file = config::path();
    let is_there = file.as_ref().is_some_and(|file| file.is_file());
    let settings = config::get();
    if json {
        return print_json(&Told { file, is_there, settings });
    }
    match &file {
        Some(file) if is_there => say!("# from {}", file.display()),
        Some(file) => say!("# {} is not there: these are the defaults", file.display()),
        None => say!("# this system names no folder for settings: these are the defaults"),
    }
    say!("{}", toml::to_string(settings)?.trim_end());
    Ok(())
}
