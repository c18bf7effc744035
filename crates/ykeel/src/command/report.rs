//! `ykeel report`: what is handed over, or a single drawing.

use std::cell::RefCell;
use std::path::Path;

use keel_core::case::Case;
use keel_core::sweep::Reach;
use keel_draw::{Asked, Audience, HandoverError, Which};

use super::shared::{cancel, note, open, sweep};
use crate::cli::{DrawingArg, SourceArgs};
use crate::config;
use crate::exit::Ended;
use crate::out::say;

/// What is to be handed over.
pub(super) struct Wish {
    pub(super) audience: Audience,
    /// A language that ships, or a file of phrases; none for the config's.
    pub(super) language: Option<String>,
    pub(super) drawing: Option<DrawingArg>,
}

pub(super) fn run(args: &SourceArgs, out: &Path, wish: Wish) -> anyhow::Result<()> {
    let is = |end: &str| out.extension().is_some_and(|own| own == end);
    let Wish { audience, language, drawing } = wish;
    let is_right = is("pdf") || (is("html") && drawing.is_none()) || (is("svg") && audience == Audience::Bench);
    if !is_right {
        let says = "a report is written as FILE.pdf or FILE.html, a drawing as FILE.svg or FILE.pdf";
        return Err(Ended::WrongUse(says.into()).into());
    }
    let phrases = config::phrases(language.as_deref()).map_err(|error| Ended::WrongUse(keel_core::chain(&error)))?;
    let (path, case) = of(&args.source)?;
    let args = SourceArgs { source: path, sector_size: args.sector_size, json: args.json };
    let source = open(&args)?;
    let failed = RefCell::new(None);
    let sweep = || sweep(&source, Reach::Doubt).map_err(|error| failed.replace(Some(error))).ok();
    let cancel = cancel();
    let asked = Asked { source: &source, case: case.as_ref(), sweep: &sweep, audience, phrases: &phrases, cancel: &cancel };
    match keel_draw::hand_over(&asked, out, drawing.map(which)) {
        Err(HandoverError::Stopped) => return Err(failed.take().unwrap_or_else(|| Ended::Cancelled.into())),
        // The end of the program is told by the core's own errors.
        Err(HandoverError::Core(error)) => return Err(error.into()),
        Err(HandoverError::Health(error)) => return Err(error.into()),
        other => other?,
    }
    note(&args.source, "report", &out);
    say!("{}", out.display());
    Ok(())
}

/// The drive that is meant, and its case: a case's folder means its drive.
fn of(path: &Path) -> anyhow::Result<(std::path::PathBuf, Option<Case>)> {
    if path.join("case.toml").is_file() {
        let case = Case::load(path)?;
        return Ok((case.record.source.clone(), Some(case)));
    }
    Ok((path.to_path_buf(), Case::of(path, None)?))
}

/// The drawing of an argument.
fn which(drawing: DrawingArg) -> Which {
    match drawing {
        DrawingArg::Keel => Which::Keel,
        DrawingArg::Reads => Which::Reads,
        DrawingArg::Health => Which::Health,
        DrawingArg::Copy => Which::Copy,
        DrawingArg::Capacity => Which::Capacity,
    }
}
