//! What proves that nothing was changed since: hashes of the drive's image, of its copy, and of the manifests.

use std::path::Path;

use keel_core::account::Account;
use keel_core::ladder::{RungName, RungState};
use keel_source::{ByteOffset, LinkKind, OpenOptions, SharedSource};
use sha2::{Digest, Sha256};

use super::HandoverError;
use super::facts::Facts;
use crate::document::Part;

/// Bytes that are read at once.
const STEP: usize = 4 << 20;

/// The hashes, with what they are of.
pub(super) fn proof(facts: &Facts<'_>, account: &Account) -> Result<Vec<Part>, HandoverError> {
    let phrases = facts.asked.phrases;
    let mut parts = vec![Part::Sheet(phrases.get("sheet_proof").into()), Part::Heading(phrases.get("head_hashes").into())];
    let heads = parts.len();
    let source = facts.asked.source;
    let copy = facts.asked.case.and_then(|case| case.record.copy.as_deref());
    let name = source.identity().name.clone();
    let fails = [RungName::Reads, RungName::Health, RungName::Link]
        .iter()
        .any(|rung| facts.ladder.rung(*rung).is_some_and(|rung| rung.state == RungState::Broken));
    // A drive that fails is not read once more for a hash: its copy stands for it.
    let is_image = matches!(source.identity().link, LinkKind::Image | LinkKind::Derived);
    if is_image || (!fails && copy.is_none()) {
        parts.push(Part::Text(hash(facts, source, &name)?));
    } else {
        parts.push(Part::Text(phrases.say("hash_unasked", &[("what", &name)])));
    }
    if let Some(copy) = copy {
        parts.push(Part::Text(hash_of_copy(facts, copy)?));
    }
    for taken in &account.taken {
        let stands = match taken.stands {
            Some(true) => "hash_same",
            Some(false) => "hash_other",
            None => "hash_gone",
        };
        let filled = [
            ("path", taken.manifest.to_string_lossy().into_owned()),
            ("blake3", taken.blake3.clone().unwrap_or_else(|| "-".into())),
            ("stands", phrases.get(stands).to_string()),
        ];
        parts.push(Part::Text(phrases.say("hash_manifest", &filled.each_ref().map(|(name, text)| (*name, text.as_str())))));
    }
    if parts.len() == heads {
        parts.push(Part::Text(phrases.get("hash_none").into()));
    }
    Ok(parts)
}

fn hash_of_copy(facts: &Facts<'_>, path: &Path) -> Result<String, HandoverError> {
    let name = path.to_string_lossy().into_owned();
    match keel_source::open(path, OpenOptions::default()) {
        Ok(copy) => hash(facts, &copy, &name),
        Err(_) => Ok(facts.asked.phrases.say("hash_image_stopped", &[("what", &name)])),
    }
}

/// SHA-256 of all bytes; none is told where one of them does not read.
fn hash(facts: &Facts<'_>, source: &SharedSource, name: &str) -> Result<String, HandoverError> {
    let phrases = facts.asked.phrases;
    let mut hash = Sha256::new();
    let mut buffer = vec![0; STEP];
    let (mut at, len) = (0, source.len());
    while at < len {
        facts.asked.goes_on()?;
        let wanted = usize::try_from(len - at).unwrap_or(STEP).min(STEP);
        let Some(part) = buffer.get_mut(..wanted) else { break };
        if source.read_at(ByteOffset(at), part).is_err() {
            return Ok(phrases.say("hash_image_stopped", &[("what", name)]));
        }
        hash.update(part);
        at += wanted as u64;
    }
    let sha256: String = hash.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
    Ok(phrases.say("hash_image", &[("what", name), ("bytes", &len.to_string()), ("sha256", &sha256)]))
}
