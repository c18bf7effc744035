//! Archives: what they list. A ZIP that an office wrote says its title too.

use std::borrow::Cow;
use std::io::{BufReader, Read};

use flate2::read::GzDecoder;

use super::About;
use super::document::{Office, said_in_xml};
use super::within::Within;

/// The most bytes that a packed archive is unpacked to, to list it.
const MOST_UNPACKED: u64 = 64 << 20;

/// What a ZIP lists, and the title where it is a document.
pub(super) fn zip(within: Within) -> About {
    let mut archive = match ::zip::ZipArchive::new(BufReader::new(within)) {
        Ok(archive) => archive,
        Err(error) => return About { problem: Some(error.to_string()), ..About::of("ZIP archive") },
    };
    let names: Vec<String> = archive.file_names().flatten().map(Cow::into_owned).collect();
    let has = |path: &str| names.iter().any(|name| name == path);
    let office = Office::ALL.into_iter().find(|office| has(office.path()) && office.also().is_none_or(&has));
    let mut about = About::of(office.map_or("ZIP archive", |office| office.word(&names)));
    if let Some(office) = office {
        let said = archive.by_name(office.path()).map(|file| said_in_xml(BufReader::new(file), office, &mut about));
        said.err().into_iter().for_each(|error| about.fails(&error));
    }
    let mut bytes = 0_u64;
    for index in 0..archive.len() {
        let Ok(file) = archive.by_index_raw(index) else { continue };
        bytes = bytes.saturating_add(file.size());
        about.list(&String::from_utf8_lossy(file.name_raw()), file.size());
    }
    about.say("entries", &archive.len().to_string());
    about.say("unpacked", &format!("{bytes} bytes"));
    about
}

/// What a tar lists.
pub(super) fn tar(within: Within) -> About {
    let mut about = About::of("tar archive");
    list_tar(&mut about, ::tar::Archive::new(within).entries_with_seek());
    about
}

/// What is packed: a tar is listed, of anything else the name is told.
pub(super) fn gzip(within: Within) -> About {
    let mut decoder = GzDecoder::new(BufReader::new(within));
    let mut about = About::of("gzip");
    let name = decoder.header().and_then(|header| header.filename()).map(|name| String::from_utf8_lossy(name).into_owned());
    about.say("packed from", name.as_deref().unwrap_or_default());
    let mut head = Vec::new();
    if let Err(error) = decoder.by_ref().take(512).read_to_end(&mut head) {
        about.fails(&error);
        return about;
    }
    if head.get(257..262) == Some(b"ustar") {
        about.form = "tar archive, gzip";
        let whole = head.as_slice().chain(decoder).take(MOST_UNPACKED);
        list_tar(&mut about, ::tar::Archive::new(whole).entries());
    }
    about
}

fn list_tar<R: Read>(about: &mut About, entries: std::io::Result<::tar::Entries<'_, R>>) {
    let entries = match entries {
        Ok(entries) => entries,
        Err(error) => return about.fails(&error),
    };
    for entry in entries {
        let entry = match entry {
            Ok(entry) => entry,
            Err(error) => return about.fails(&error),
        };
        about.list(&String::from_utf8_lossy(&entry.path_bytes()), entry.size());
        if about.more {
            return;
        }
    }
}
