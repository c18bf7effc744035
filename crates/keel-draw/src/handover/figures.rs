//! What the volumes hold and what was taken out, in figures: files by kind and state, folders, what is not whole, a sample of the pictures.

use std::collections::BTreeMap;

use keel_core::account::{Account, Branch, Counted, Sample};
use keel_core::files::Sort;

use super::letter::named;
use crate::canvas::{Texture, Thumb};
use crate::document::Part;
use crate::phrases::Phrases;
use crate::picture::thumb;

/// Volumes and extractions that are told one by one.
const MOST_TOLD: usize = 40;
/// Folders of one that are told.
const MOST_BRANCHES: usize = 60;
/// Files of one that are named as not whole.
const MOST_HURT: usize = 40;
/// Pictures on the sheet of samples.
const MOST_PICTURES: usize = 24;

/// What holds files: a volume, or what was taken out.
struct Holder<'a> {
    name: String,
    sorts: &'a BTreeMap<Sort, Counted>,
    tree: &'a [Branch],
    pictures: &'a [Sample],
    hurt: Vec<String>,
}

/// The figures.
pub(super) fn figures(account: &Account, phrases: &Phrases) -> Vec<Part> {
    let holders = holders(account, phrases);
    if holders.is_empty() {
        return Vec::new();
    }
    let mut parts = vec![Part::Sheet(phrases.get("sheet_figures").into())];
    parts.extend(bars(&holders, phrases));
    for holder in holders.iter().take(MOST_TOLD) {
        parts.extend(told(holder, phrases));
    }
    if holders.len() > MOST_TOLD {
        parts.push(more(holders.len() - MOST_TOLD, phrases));
    }
    let pictures = pictures(&holders);
    if !pictures.is_empty() {
        parts.push(Part::Sheet(phrases.get("sheet_pictures").into()));
        parts.push(Part::Fine(0, phrases.get("pictures_says").into()));
        parts.push(Part::Gap);
        parts.push(Part::Pictures(pictures));
    }
    parts
}

fn holders<'a>(account: &'a Account, phrases: &Phrases) -> Vec<Holder<'a>> {
    let volumes = account.volumes.iter().filter(|volume| volume.opens).map(|volume| {
        let own = named(volume, phrases);
        let name = if volume.is_former { phrases.say("former", &[("volume", &own)]) } else { own };
        Holder { name, sorts: &volume.sorts, tree: &volume.tree, pictures: &volume.pictures, hurt: volume.hurt.clone() }
    });
    let taken = account.taken.iter().map(|taken| {
        let at = taken.at.replace('T', " ").replace('Z', " UTC");
        let hurt = taken.hurt.iter().map(|(path, how)| phrases.say("hurt_taken", &[("path", path), ("how", how)]));
        Holder {
            name: phrases.say("head_taken", &[("at", &at)]),
            sorts: &taken.sorts,
            tree: &taken.tree,
            pictures: &taken.pictures,
            hurt: hurt.collect(),
        }
    });
    volumes.chain(taken).collect()
}

/// A bar for each holder: whole, in part, lost.
fn bars(holders: &[Holder<'_>], phrases: &Phrases) -> Vec<Part> {
    let legend = [(Texture::Plain, "col_whole"), (Texture::Hatched, "col_damaged"), (Texture::Crossed, "col_missing")];
    let rows = holders.iter().take(MOST_TOLD).map(|holder| {
        let all = all(holder);
        (holder.name.clone(), [all.whole, all.damaged, all.missing])
    });
    let legend = legend.map(|(texture, name)| (texture, phrases.get(name).to_string())).to_vec();
    vec![Part::Heading(phrases.get("head_files").into()), Part::Bars { legend, rows: rows.collect() }]
}

fn all(holder: &Holder<'_>) -> Counted {
    holder.sorts.values().fold(Counted::default(), |sum, own| sum.and(*own))
}

fn more(count: usize, phrases: &Phrases) -> Part {
    Part::Fine(0, phrases.say("more_rows", &[("count", &count.to_string())]))
}

/// One of them: its kinds, its folders, and what of it is not whole.
fn told(holder: &Holder<'_>, phrases: &Phrases) -> Vec<Part> {
    let mut parts = vec![Part::Heading(holder.name.clone()), table(holder, phrases)];
    if !holder.tree.is_empty() {
        parts.push(Part::Fine(0, phrases.get("head_tree").into()));
        parts.push(Part::Tree(holder.tree.iter().take(MOST_BRANCHES).map(|branch| row(branch, phrases)).collect()));
        if holder.tree.len() > MOST_BRANCHES {
            parts.push(more(holder.tree.len() - MOST_BRANCHES, phrases));
        }
    }
    if !holder.hurt.is_empty() {
        parts.push(Part::Gap);
        parts.push(Part::Fine(0, phrases.get("head_hurt").into()));
        parts.extend(holder.hurt.iter().take(MOST_HURT).map(|path| Part::Fine(1, path.clone())));
        let hurt = all(holder).damaged + all(holder).missing;
        let rest = usize::try_from(hurt).unwrap_or(usize::MAX).saturating_sub(MOST_HURT.min(holder.hurt.len()));
        if rest > 0 {
            parts.push(more(rest, phrases));
        }
    }
    parts
}

fn table(holder: &Holder<'_>, phrases: &Phrases) -> Part {
    let heads = ["col_kind", "col_whole", "col_damaged", "col_missing", "col_bytes"];
    let line = |name: &str, counted: &Counted| {
        let counts = [counted.whole, counted.damaged, counted.missing].map(|count| count.to_string());
        let mut row = vec![name.to_string()];
        row.extend(counts);
        row.push(phrases.size(counted.bytes));
        row
    };
    let mut rows: Vec<Vec<String>> =
        holder.sorts.iter().map(|(sort, counted)| line(&sort_word(*sort, phrases), counted)).collect();
    if rows.len() != 1 {
        rows.push(line(phrases.get("total"), &all(holder)));
    }
    Part::Table { heads: heads.map(|name| phrases.get(name).to_string()).to_vec(), rows }
}

/// A sort of files in the client's words.
fn sort_word(sort: Sort, phrases: &Phrases) -> String {
    phrases.get(&format!("sort_{}", sort.word().replace(' ', "_"))).to_string()
}

fn row(branch: &Branch, phrases: &Phrases) -> (usize, String, String) {
    let depth = if branch.path.is_empty() { 0 } else { branch.path.matches('/').count() };
    let name = match branch.path.rsplit('/').next().unwrap_or_default() {
        "" if branch.path.is_empty() => phrases.get("in_the_root").to_string(),
        "" => phrases.get("nameless").to_string(),
        name => name.to_string(),
    };
    let filled = [("files", phrases.count("files", branch.files)), ("bytes", phrases.size(branch.bytes))];
    (depth, name, phrases.say("files_and_bytes", &filled.each_ref().map(|(name, text)| (*name, text.as_str()))))
}

/// Small pictures, evenly from all that hold any; what does not decode is left out.
fn pictures(holders: &[Holder<'_>]) -> Vec<(String, Thumb)> {
    let with = holders.iter().filter(|holder| !holder.pictures.is_empty()).count().max(1);
    let each = (MOST_PICTURES / with).max(1);
    let chosen = holders.iter().flat_map(|holder| holder.pictures.iter().take(each));
    chosen.filter_map(|sample| Some((sample.name.clone(), thumb(&sample.bytes)?))).take(MOST_PICTURES).collect()
}
