//! `ykeel prove`.

use keel_core::mend;
use keel_core::sweep::Reach;

use super::shared::{find, open, print_json, sweep};
use crate::cli::SourceArgs;
use crate::exit::Ended;
use crate::out::say;

pub(super) fn run(args: &SourceArgs, volume: &str) -> anyhow::Result<()> {
    let source = open(args)?;
    let swept = sweep(&source, Reach::Doubt)?;
    let proof = mend::prove(&source, find(&swept.finds, volume)?)?;
    if args.json {
        print_json(&proof)?;
    } else if proof.mounted {
        say!("{}: {}", proof.volume, proof.how);
        say!("files: {} here, {} by the kernel", proof.files_here, proof.files_there);
        say!("samples: {} of {} have the same content", proof.same, proof.sampled);
        for line in &proof.different {
            say!("  {line}");
        }
    } else {
        say!("{}: not mounted: {}", proof.volume, proof.how);
    }
    if proof.holds() { Ok(()) } else { Err(Ended::Nothing.into()) }
}
