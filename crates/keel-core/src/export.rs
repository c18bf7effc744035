//! Lists as files: JSON, CSV or text, by the ending of the name.

use std::path::Path;

use keel_source::own::{self, Over};
use keel_source::{SharedSource, printable};
use serde_json::{Map, Value};

use crate::error::{CoreError, file_error};
use crate::whose;

/// A list as it is seen: columns and rows.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Table {
    /// The words of the columns.
    pub columns: Vec<&'static str>,
    /// The rows, each as long as the columns.
    pub rows: Vec<Vec<Value>>,
    /// The row that is selected.
    pub selected: Option<usize>,
}

/// The form of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// A list of objects, by the words of the columns (RFC 8259).
    Json,
    /// With a head, fields in quotes where they need them (RFC 4180).
    Csv,
    /// Columns side by side, for the eye. What steers a terminal is made visible.
    Text,
}

impl Format {
    /// The form that the ending of a name asks for; none for another ending.
    #[must_use]
    pub fn of(path: &Path) -> Option<Self> {
        match path.extension()?.to_str()?.to_ascii_lowercase().as_str() {
            "json" => Some(Self::Json),
            "csv" => Some(Self::Csv),
            "txt" | "text" => Some(Self::Text),
            _ => None,
        }
    }
}

/// A cell as text.
fn text(cell: &Value) -> String {
    match cell {
        Value::Null => String::new(),
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

impl Table {
    /// A table with these columns.
    #[must_use]
    pub fn new(columns: &[&'static str]) -> Self {
        Self { columns: columns.to_vec(), ..Self::default() }
    }

    /// The selected row as one line, its cells apart by tabs; what steers a terminal is made visible.
    #[must_use]
    pub fn selected_line(&self) -> Option<String> {
        let cells = self.rows.get(self.selected?)?.iter().map(|cell| printable(&text(cell)));
        Some(cells.collect::<Vec<_>>().join("\t"))
    }

    /// The whole table in a form.
    #[must_use]
    pub fn bytes(&self, format: Format) -> Vec<u8> {
        match format {
            Format::Json => self.json(),
            Format::Csv => self.csv(),
            Format::Text => self.text().into_bytes(),
        }
    }

    fn json(&self) -> Vec<u8> {
        let object = |row: &Vec<Value>| {
            let cells = self.columns.iter().zip(row).map(|(column, cell)| (column.replace(' ', "_"), cell.clone()));
            Value::Object(Map::from_iter(cells))
        };
        let mut bytes = serde_json::to_vec_pretty(&self.rows.iter().map(object).collect::<Vec<_>>()).unwrap_or_default();
        bytes.push(b'\n');
        bytes
    }

    fn csv(&self) -> Vec<u8> {
        let mut writer = csv::Writer::from_writer(Vec::new());
        // Nothing of it fails: it is written to memory, and every row is as long as the head.
        let _ = writer.write_record(&self.columns);
        for row in &self.rows {
            let _ = writer.write_record(row.iter().map(text));
        }
        writer.into_inner().unwrap_or_default()
    }

    fn text(&self) -> String {
        let cells: Vec<Vec<String>> =
            self.rows.iter().map(|row| row.iter().map(|cell| printable(&text(cell))).collect()).collect();
        let width = |column: usize| {
            let own = cells.iter().filter_map(|row| row.get(column)).map(|cell| cell.chars().count());
            own.chain([self.columns[column].chars().count()]).max().unwrap_or(0)
        };
        let widths: Vec<usize> = (0..self.columns.len()).map(width).collect();
        let is_number =
            |column: usize| self.rows.iter().all(|row| row.get(column).is_some_and(|cell| cell.is_number() || cell.is_null()));
        let right: Vec<bool> = (0..self.columns.len()).map(is_number).collect();
        let line = |cells: &mut dyn Iterator<Item = &str>| {
            let parts = cells.zip(&widths).zip(&right).map(|((cell, width), right)| match right {
                true => format!("{cell:>width$}"),
                false => format!("{cell:<width$}"),
            });
            parts.collect::<Vec<_>>().join("  ").trim_end().to_string() + "\n"
        };
        let mut all = line(&mut self.columns.iter().copied());
        cells.iter().for_each(|row| all.push_str(&line(&mut row.iter().map(String::as_str))));
        all
    }

    /// Writes the table to a new file.
    ///
    /// # Errors
    /// [`CoreError::Nothing`] for an ending that is none of the forms; [`CoreError::File`] where it cannot be written, or something is
    /// there already; [`Refusal::OwnMedium`](crate::Refusal) where it would lie on `source` itself.
    pub fn write(&self, path: &Path, source: Option<&SharedSource>) -> Result<(), CoreError> {
        let format = Format::of(path).ok_or(CoreError::Nothing("the name of the file has to end with .json, .csv or .txt"))?;
        if let Some(source) = source {
            whose::not_on_its_own_medium(source.as_ref(), path)?;
        }
        own::write(path, &self.bytes(format), Over::Nothing).map_err(file_error("write", path))
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn table() -> Table {
        let rows = vec![
            vec![json!("n1"), json!(2048), json!("Quay, \"old\"")],
            vec![json!("n2"), json!(null), json!("two\nlines\u{1b}[31m")],
        ];
        Table { rows, selected: Some(1), ..Table::new(&["find", "first sector", "name"]) }
    }

    #[test]
    fn a_table_is_told_in_each_form() {
        let table = table();
        let read: Vec<Map<String, Value>> = serde_json::from_slice(&table.bytes(Format::Json)).unwrap();
        assert_eq!((&read[0]["first_sector"], &read[1]["first_sector"]), (&json!(2048), &Value::Null));
        let csv = table.bytes(Format::Csv);
        let mut reader = csv::Reader::from_reader(csv.as_slice());
        let read: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
        assert_eq!((&read[0][2], &read[1][2]), ("Quay, \"old\"", "two\nlines\u{1b}[31m"), "what was there comes back");
        let text = String::from_utf8(table.bytes(Format::Text)).unwrap();
        let lines: Vec<&str> = text.lines().collect();
        assert_eq!((lines.len(), lines[0], lines[1]), (3, "find  first sector  name", "n1            2048  Quay, \"old\""));
        assert!(!text.contains('\u{1b}') && !table.selected_line().unwrap().contains(['\u{1b}', '\n']));
        assert!(table.selected_line().unwrap().starts_with("n2\t\t"));
    }

    #[test]
    fn a_file_is_written_anew_and_never_over_another() {
        let folder = tempfile::tempdir().unwrap();
        for name in ["finds.json", "finds.CSV", "finds.txt"] {
            let path = folder.path().join(name);
            table().write(&path, None).unwrap();
            assert!(path.metadata().unwrap().len() > 20);
            assert!(table().write(&path, None).is_err(), "it is there already");
        }
        assert!(table().write(&folder.path().join("finds.img"), None).is_err());
        assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 3);
        assert_eq!(Table::default().bytes(Format::Text), b"\n");
    }
}
