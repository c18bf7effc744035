//! `ykeel report`: for now the drawing of the keel.

use std::path::Path;
use std::sync::Arc;

use keel_core::layout::{self, Choices};
use keel_core::sweep::Reach;
use keel_core::{CoreError, mend};
use keel_draw::{KeelDrawing, Lane};
use keel_format::table;
use keel_source::{ByteRange, SharedSource, size_decimal};

use super::shared::{open, sweep};
use crate::cli::SourceArgs;

pub(super) fn run(args: &SourceArgs, out: &Path, _drawing: Option<crate::cli::DrawingArg>) -> anyhow::Result<()> {
    if out.extension().is_none_or(|end| end != "svg") {
        return Err(CoreError::Nothing("the drawing is written as FILE.svg").into());
    }
    let source = open(args)?;
    let swept = sweep(&source, Reach::Doubt)?;
    let table = table::read(source.as_ref());
    let layout = layout::settle(&source, &table, &swept.finds, &Choices::default());
    let edits = mend::stage(&source, &table, &swept.finds, &layout, &mend::Only::All.into()).edits;
    let view: SharedSource = Arc::new(mend::overlay(&source, &edits));
    let entries = |table: &table::TableReading| -> Vec<(ByteRange, String)> {
        table.partitions.iter().map(|entry| (entry.range(source.sector_size()), entry.type_code.to_string())).collect()
    };
    let found = swept
        .finds
        .iter()
        .filter(|find| find.inside.is_none())
        .map(|find| (find.range(), format!("{} {}", find.kind.word(), find.name())));
    let drawing = KeelDrawing {
        title: format!("{}, {}", source.identity().name, size_decimal(source.len())),
        identity: source.identity().serial.clone().unwrap_or_default(),
        bytes: source.len(),
        lanes: vec![
            Lane { name: "now", blocks: entries(&table) },
            Lane { name: "found", blocks: found.collect() },
            Lane { name: "plan", blocks: entries(&table::read(view.as_ref())) },
        ],
        bad: swept.bad.clone(),
    };
    std::fs::write(out, keel_draw::svg(&drawing))?;
    println!("{}", out.display());
    Ok(())
}
