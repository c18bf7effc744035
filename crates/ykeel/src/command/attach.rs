//! `ykeel attach`, `ykeel detach` and `ykeel release`.

use std::path::Path;

use keel_core::attach;
use keel_core::sweep::{Find, Reach};
use keel_source::printable;

use super::shared::{find, open, print_json, sweep};
use crate::cli::SourceArgs;
use crate::exit::Ended;
use crate::out::say;

pub(super) fn attach(args: &SourceArgs, volume: Option<&str>, at: Option<&Path>) -> anyhow::Result<()> {
    let source = open(args)?;
    let swept = sweep(&source, Reach::Doubt)?;
    let meant: Vec<&Find> = match volume {
        Some(volume) => vec![find(&swept.finds, volume)?],
        None => swept.finds.iter().collect(),
    };
    let attaching = attach::attach(&source, &meant, at)?;
    if args.json {
        print_json(&attaching)?;
    } else {
        attaching.words().iter().for_each(|line| say!("{line}"));
    }
    if attaching.attached.is_empty() { Err(Ended::Nothing.into()) } else { Ok(()) }
}

pub(super) fn detach(args: &SourceArgs, volume: Option<&str>) -> anyhow::Result<()> {
    let source = open(args)?;
    let detached = attach::detach(source.identity(), volume)?;
    if args.json {
        print_json(&detached)?;
    } else {
        detached.attached.iter().for_each(|shown| say!("{} is not attached any more", shown.volume));
        detached.not.iter().for_each(|not| say!("{}", not.words()));
    }
    if detached.not.is_empty() { Ok(()) } else { Err(Ended::Nothing.into()) }
}

pub(super) fn release(args: &SourceArgs) -> anyhow::Result<()> {
    let source = open(args)?;
    let released = attach::release(&source)?;
    if args.json {
        print_json(&released)?;
    } else {
        released.unmounted.iter().for_each(|point| say!("unmounted: {}", printable(&point.display().to_string())));
        released.done.iter().for_each(|done| say!("{done}"));
        released.not_yet.iter().for_each(|why| say!("in use: {}", printable(why)));
        match released.can_be_pulled() {
            true => say!("it can be pulled now"),
            false => say!("do not pull it yet"),
        }
    }
    if released.can_be_pulled() { Ok(()) } else { Err(Ended::Nothing.into()) }
}
