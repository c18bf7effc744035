//! `ykeel structures`.

use keel_core::mend::{self, Subject};
use keel_core::sweep::Reach;
use keel_format::{Compute, Structure};
use keel_source::{ByteOffset, printable};
use serde::Serialize;

use super::shared::{find, open, print_json, sweep};
use crate::cli::SourceArgs;
use crate::out::say;

#[derive(Serialize)]
struct Document {
    volume: String,
    structures: Vec<StructureDocument>,
}

#[derive(Serialize)]
struct StructureDocument {
    name: String,
    main: VersionDocument,
    copies: Vec<VersionDocument>,
    computed: bool,
    best: Option<&'static str>,
    fields: Vec<FieldDocument>,
}

#[derive(Serialize)]
struct VersionDocument {
    at_byte: ByteOffset,
    holds: bool,
    why_not: Option<String>,
}

#[derive(Serialize)]
struct FieldDocument {
    name: &'static str,
    offset: usize,
    bytes: usize,
    main: Option<String>,
    copy: Option<String>,
    computed: Option<String>,
    witness: Option<String>,
    differs: bool,
    breaks: &'static str,
}

pub(super) fn run(args: &SourceArgs, volume: &str) -> anyhow::Result<()> {
    let source = open(args)?;
    let swept = sweep(&source, Reach::Doubt)?;
    let (start, structures) = match Subject::named(volume) {
        Subject::Table => (ByteOffset(0), super::shared::table_structures(&source, &swept.finds)),
        Subject::Volume(id) => {
            let find = find(&swept.finds, &id)?;
            (find.start_byte, mend::structures(&source, find, Compute::All))
        }
    };
    let document =
        Document { volume: volume.to_string(), structures: structures.iter().map(|structure| of(structure, start)).collect() };
    if args.json {
        return print_json(&document);
    }
    for structure in &document.structures {
        print(structure);
    }
    Ok(())
}

fn of(structure: &Structure, start: ByteOffset) -> StructureDocument {
    let version = |version: &keel_format::Version| VersionDocument {
        at_byte: start + version.at.0,
        holds: version.holds(),
        why_not: structure.why_not(version),
    };
    let shown = |text: Option<String>| text.map(|text| printable(&text));
    let fields = structure.rows().into_iter().map(|row| FieldDocument {
        name: row.field.name,
        offset: row.field.offset,
        bytes: row.field.len,
        main: shown(row.main),
        copy: shown(row.copy),
        computed: shown(row.computed),
        witness: row.witness,
        differs: row.differs,
        breaks: row.field.breaks,
    });
    StructureDocument {
        name: structure.name.clone(),
        main: version(&structure.main),
        copies: structure.copies.iter().map(version).collect(),
        computed: structure.computed.is_some(),
        best: structure.best().map(keel_format::Take::word),
        fields: fields.collect(),
    }
}

fn print(structure: &StructureDocument) {
    say!("{} at byte {}", structure.name, structure.main.at_byte.0);
    let state = |version: &VersionDocument| version.why_not.clone().unwrap_or_else(|| "holds".into());
    say!("  main: {}", state(&structure.main));
    for copy in &structure.copies {
        say!("  copy at byte {}: {}", copy.at_byte.0, state(copy));
    }
    let dash = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".into());
    say!("  {:<28} {:<24} {:<24} computed", "field", "main", "copy");
    for field in &structure.fields {
        let mark = if field.differs { '*' } else { ' ' };
        say!("{mark} {:<28} {:<24} {:<24} {}", field.name, dash(&field.main), dash(&field.copy), dash(&field.computed));
    }
}
