//! The commands without screens: each prints for people, or one JSON document.

mod adrift;
mod attach;
mod bytes;
mod case;
mod check;
mod config;
mod copy;
mod extract;
mod fathom;
mod files;
mod health;
mod ladder;
mod manual;
mod mend;
mod planned;
mod prove;
mod reads;
mod renew;
mod report;
mod shared;
mod structures;
mod sweep;
mod undo;
mod widen;
mod wipe;
mod yard;

use keel_source::printable;

use crate::cli::{Cli, Command};
use crate::exit::Ended;
use crate::{app, demo};

/// Runs what the command line asks for.
pub(crate) fn run(cli: Cli) -> anyhow::Result<()> {
    if let (Some(_), Some(source)) = (&cli.command, cli.sources.first()) {
        let source = printable(&source.to_string_lossy());
        return Err(Ended::WrongUse(format!("{source} stands before the command: drives go behind it")).into());
    }
    if cli.command.is_some() && cli.sector_size.is_some() {
        return Err(Ended::WrongUse("--sector-size goes behind the command".into()).into());
    }
    match cli.command {
        None => {
            manual::refuse_words(&cli.sources)?;
            app::open(&cli.sources, cli.sector_size)
        }
        Some(Command::Yard { watch: true, json, .. }) => yard::watch(json),
        Some(Command::Yard { dir, devices, json, .. }) => yard::run(&dir, devices, json),
        Some(Command::Ladder { source }) => ladder::run(&source),
        Some(Command::Sweep { source, reach, choices }) => sweep::run(&source, reach, &choices),
        Some(Command::Copy(args)) => copy::run(&args),
        Some(Command::Mend(args)) => mend::run(&args),
        Some(Command::Renew(args)) => renew::run(&args),
        Some(Command::Wipe(args)) => wipe::run(&args),
        Some(Command::Check { source, volume, lost_to }) => check::run(&source, volume.as_deref(), lost_to.as_deref()),
        Some(Command::Structures { source, volume }) => structures::run(&source, &volume),
        Some(Command::Prove { source, volume }) => prove::run(&source, &volume),
        Some(Command::Attach { source, volume, at }) => attach::attach(&source, volume.as_deref(), at.as_deref()),
        Some(Command::Detach { source, volume }) => attach::detach(&source, volume.as_deref()),
        Some(Command::Release { source }) => attach::release(&source),
        Some(Command::Undo { bundle, finish, source, confirm, json }) => {
            undo::run(&bundle, finish, source.as_deref(), confirm, json)
        }
        Some(Command::Files { source, volume, path, recursive, deleted, find, streams, missing }) => {
            let (volume, find) = (volume.as_deref(), find.as_deref());
            files::run(&source, &files::Asked { volume, path: &path, recursive, deleted, find, streams, missing })
        }
        Some(Command::Extract { source, volume, paths, adrift, which, to }) => match adrift {
            Some(ids) => adrift::extract(&source, &ids, &which, &to),
            None if which.is_asked() => Err(Ended::WrongUse(
                "--kinds, --least, --state, --everywhere, --join and --same choose files adrift: add --adrift".into(),
            )
            .into()),
            None => extract::run(&source, &volume.unwrap_or_default(), &paths, &to),
        },
        Some(Command::Adrift { source, which }) => adrift::run(&source, &which),
        Some(Command::Report { source, out, audience, language, drawing }) => {
            report::run(&source, &out, report::Wish { audience: audience.audience(), language, drawing })
        }
        Some(Command::Case(command)) => case::run(command),
        Some(Command::Widen(args)) => widen::run(&args),
        Some(Command::Health { source, self_test, wait }) => health::run(&source, self_test, wait),
        Some(Command::Bytes(args)) => bytes::run(&args),
        Some(Command::Reads { source, full, minutes }) => reads::run(&source, full, minutes),
        Some(Command::Fathom(args)) => fathom::run(&args),
        Some(Command::Config { json }) => config::run(json),
        Some(Command::Completions { shell }) => manual::completions(shell),
        Some(Command::Manual { to }) => manual::pages(&to),
        Some(Command::Demo { dir, fresh, no_screens }) => demo::run(&dir, fresh, no_screens),
    }
}
