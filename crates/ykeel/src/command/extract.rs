//! `ykeel extract`.

use std::path::Path;

use keel_core::files::{self, ExtractProgress, FileGround, GroundJudge, Outcome};
use keel_core::job::Desk;
use keel_core::sweep::Reach;
use keel_source::{printable, size_decimal};

use super::shared::{cancel, find, open, print_json, sweep};
use crate::cli::SourceArgs;
use crate::exit::Ended;
use crate::out::say;

pub(super) fn run(args: &SourceArgs, volume: &str, paths: &[String], to: &Path) -> anyhow::Result<()> {
    let source = open(args)?;
    let swept = sweep(&source, Reach::Doubt)?;
    let find = find(&swept.finds, volume)?;
    let volume = files::open(&source, find)?;
    let taken = files::taken(&source, &swept.finds, find);
    let judge =
        taken.as_ref().map_or_else(|| GroundJudge::new(volume.as_ref()), |taken| GroundJudge::under(volume.as_ref(), taken));
    let (desk, _progress): (Desk<ExtractProgress>, _) = Desk::new(cancel());
    let extracted = files::take_out(&source, (volume.as_ref(), judge), paths, to, &desk)?;
    if args.json {
        print_json(&extracted)?;
    } else {
        for file in extracted.files.iter().filter(|file| file.state != Outcome::Whole) {
            let why = file.why.clone().unwrap_or_else(|| format!("{} bytes unreadable", file.unreadable_bytes));
            say!("{}  {}", printable(&file.path), why);
        }
        for file in extracted.files.iter().filter(|file| file.ground != FileGround::Whole && file.state != Outcome::Failed) {
            say!("{}  {}: {}", printable(&file.path), file.ground.word(), file.ground.sentence());
        }
        for finding in &extracted.findings {
            say!("while the volume was listed: {} ({})", printable(&finding.what), printable(&finding.how));
        }
        for (sort, count) in &extracted.sorts {
            say!("{:<12} {} whole, {} damaged, {} missing", sort.word(), count.whole, count.damaged, count.missing);
        }
        if extracted.was_there > 0 {
            say!("{} of them were there already, with the same content", extracted.was_there);
        }
        say!(
            "{} whole, {} partly unreadable, {} failed; {} in {}; count and bytes {}",
            extracted.whole,
            extracted.partly_unreadable,
            extracted.failed,
            size_decimal(extracted.bytes),
            to.display(),
            if extracted.compared { "compared" } else { "DO NOT MATCH" },
        );
    }
    match (extracted.cancelled, extracted.failed, extracted.compared) {
        (true, _, _) => Err(Ended::Cancelled.into()),
        (_, 0, true) => Ok(()),
        _ => Err(Ended::Nothing.into()),
    }
}
