//! What is known of the commands themselves: completions for shells, manual pages, and words that are no command.

use std::io::Write;
use std::path::{Path, PathBuf};

use anyhow::Context;
use clap::CommandFactory;

use crate::cli::Cli;
use crate::exit::Ended;
use crate::out::say;

/// How alike two words are that may be meant for each other, from 0 to 1.
const ALIKE: f64 = 0.75;

/// Prints the completions for `shell`.
pub(super) fn completions(shell: clap_complete::Shell) -> anyhow::Result<()> {
    // Into memory first: the generator does not tell when a reader went away.
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Cli::command(), "ykeel", &mut script);
    std::io::stdout().lock().write_all(&script).context("standard output cannot be written")
}

/// Writes the manual pages into the folder `to`.
pub(super) fn pages(to: &Path) -> anyhow::Result<()> {
    std::fs::create_dir_all(to).with_context(|| format!("cannot make {}", to.display()))?;
    clap_mangen::generate_to(Cli::command(), to).with_context(|| format!("cannot write into {}", to.display()))?;
    say!("{}", to.display());
    Ok(())
}

/// Refuses a bare word that is neither a command nor a file here: it is no drive. One near a command says which one may be meant.
pub(super) fn refuse_words(sources: &[PathBuf]) -> anyhow::Result<()> {
    let is_bare = |source: &&PathBuf| !source.to_string_lossy().contains(['/', '.']) && !source.exists();
    let Some(word) = sources.iter().find(is_bare) else { return Ok(()) };
    let shown = keel_source::printable(&word.display().to_string());
    let meant = word.to_str().and_then(near_command);
    let text = match meant {
        Some(command) => format!("{shown} is no command and no drive: `ykeel {command}` may be meant"),
        None => format!("there is no drive {shown}; `ykeel --help` lists the commands"),
    };
    Err(Ended::WrongUse(text).into())
}

/// The command whose name is nearest to `word`, where one is near.
fn near_command(word: &str) -> Option<String> {
    let names: Vec<String> =
        Cli::command().get_subcommands().filter(|one| !one.is_hide_set()).map(|one| one.get_name().to_string()).collect();
    let alike = |name: &String| strsim::jaro_winkler(&word.to_lowercase(), name);
    names.into_iter().filter(|name| alike(name) >= ALIKE).max_by(|one, other| alike(one).total_cmp(&alike(other)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_near_a_command_names_it_and_another_one_does_not() {
        for (word, command) in [("swep", "sweep"), ("Ladder", "ladder"), ("extrakt", "extract"), ("comletions", "completions")] {
            assert_eq!(near_command(word).as_deref(), Some(command));
        }
        for word in ["quay.img", "/dev/sdq", "", "manual-of-the-ferry"] {
            assert_eq!(near_command(word), None, "{word}");
        }
    }
}
