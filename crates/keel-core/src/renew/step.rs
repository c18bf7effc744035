//! What is asked of a draft, a step at a time, and how it is typed.

use keel_format::VolumeKind;
use keel_format::table::{Scheme, TypeCode};
use keel_source::{Lba, SectorSize, printable};

use super::Size;

/// What is asked of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NewTable {
    /// A new GPT or MBR without entries.
    Of(Scheme),
    /// None: one volume takes the whole drive.
    None,
    /// The signature and the identifier of sector 0 are written anew; its entries stay.
    Mark,
}

/// A step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Step {
    /// The table is made anew.
    Table(NewTable),
    /// The table becomes one of another scheme; its volumes stay.
    Convert(Scheme),
    /// An entry goes; what stands on its ground stays there.
    Delete(u32),
    /// A new volume in free ground.
    Add(Wish),
    /// An entry gets a new volume.
    Format(u32, Wish),
    /// An entry and the volume in it get longer.
    Grow(u32, Size),
    /// An entry and the volume in it get shorter.
    Shrink(u32, Size),
    /// An entry gets just these marks.
    Flags(u32, Vec<Flag>),
    /// An entry gets another type.
    Type(u32, TypeCode),
    /// An entry gets another name.
    Name(u32, String),
    /// The entries are numbered in this order.
    Order(Vec<u32>),
}

/// What a new volume shall be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wish {
    /// Its kind.
    pub kind: VolumeKind,
    /// How large.
    pub size: Option<Size>,
    /// Its first sector; else where there is room.
    pub at: Option<Lba>,
    /// Its label.
    pub label: String,
    /// Bytes of a cluster or block; else by the standard's table.
    pub cluster: Option<u32>,
    /// Whether it keeps a journal, where its format leaves that open.
    pub journal: bool,
}

/// A mark of an entry.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Flag {
    /// A system starts from it.
    Active,
    /// Systems do not show it.
    Hidden,
    /// Systems do not write to it.
    ReadOnly,
    /// Systems give it no letter by themselves.
    NoAutomaticMount,
    /// The computer needs it: tools leave it alone.
    Required,
}

impl Flag {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Active, Self::Hidden, Self::ReadOnly, Self::NoAutomaticMount, Self::Required];

    /// The word by which it is typed and shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Active => "active",
            Self::Hidden => "hidden",
            Self::ReadOnly => "read-only",
            Self::NoAutomaticMount => "no-automatic-mount",
            Self::Required => "required",
        }
    }
}

/// Why a text is no step.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum StepWrong {
    /// No kind that is made here.
    #[error("`{0}` is no kind that is made here: {words} are", words = kinds())]
    Kind(String),
    /// A word behind the kind that means nothing.
    #[error("`{0}`: size=SIZE, at=LBA, label=TEXT, cluster=BYTES or journal=no is wanted")]
    Word(String),
    /// No number of an entry.
    #[error("`{0}` names no entry: the number that the table shows is wanted, and an = behind it")]
    Number(String),
    /// No mark.
    #[error("`{0}` is no mark of an entry: active, hidden, read-only, no-automatic-mount, required or none is wanted")]
    Flag(String),
    /// No type.
    #[error("`{0}` is no type: 0x07 for an MBR, a GUID for a GPT")]
    Type(String),
    /// Nothing that can be done to a table.
    #[error("`{0}`: {words} can be typed for the table", words = super::TABLE_WORDS)]
    Table(String),
    /// Nothing that can be done to an entry.
    #[error("`{0}`: {words} can be typed for an entry", words = super::ENTRY_WORDS)]
    Entry(String),
    /// No size.
    #[error(transparent)]
    Size(#[from] super::SizeWrong),
}

/// The kinds of which new volumes are made here.
pub fn makeable() -> impl Iterator<Item = VolumeKind> {
    VolumeKind::ALL.iter().copied().filter(|kind| kind.facts().make.is_some())
}

/// The word by which a kind is typed: its name in small letters and digits.
#[must_use]
pub fn kind_word(kind: VolumeKind) -> String {
    let plain = kind.word().to_ascii_lowercase().replace('+', "plus");
    plain.chars().filter(char::is_ascii_alphanumeric).collect()
}

fn kinds() -> String {
    makeable().map(kind_word).collect::<Vec<_>>().join(" ")
}

impl Step {
    /// It as it would be typed where the draft is changed.
    #[must_use]
    pub fn text(&self) -> String {
        match self {
            Self::Table(NewTable::Of(scheme)) => format!("new {}", scheme.word().to_ascii_lowercase()),
            Self::Table(NewTable::None) => "new none".into(),
            Self::Table(NewTable::Mark) => "mark".into(),
            Self::Convert(scheme) => format!("convert {}", scheme.word().to_ascii_lowercase()),
            Self::Add(wish) => wish.text(),
            other => format!("{other:?}"),
        }
    }
}

impl Wish {
    /// It as it would be typed.
    #[must_use]
    pub fn text(&self) -> String {
        let mut text = kind_word(self.kind);
        match self.size {
            Some(Size::Bytes(bytes)) => text.push_str(&format!(",size={bytes}")),
            Some(Size::Share(share)) => text.push_str(&format!(",size={}%", f64::from(share) / 100.0)),
            Some(Size::Rest | Size::Least) | None => {}
        }
        self.at.into_iter().for_each(|at| text.push_str(&format!(",at={}", at.0)));
        self.cluster.into_iter().for_each(|bytes| text.push_str(&format!(",cluster={bytes}")));
        if !self.journal {
            text.push_str(",journal=no");
        }
        if !self.label.is_empty() {
            text.push_str(&format!(",label={}", self.label));
        }
        text
    }

    /// A volume of `kind` of which nothing else is wanted.
    #[must_use]
    pub fn plain(kind: VolumeKind) -> Self {
        Self { kind, size: None, at: None, label: String::new(), cluster: None, journal: true }
    }

    /// What was typed: `KIND[,size=SIZE][,at=LBA][,label=TEXT][,cluster=BYTES][,journal=no]`. A label may hold commas where it stands last.
    ///
    /// # Errors
    /// [`StepWrong`].
    pub fn typed(text: &str, sector: SectorSize) -> Result<Self, StepWrong> {
        let mut rest = text.split(',');
        let word = rest.next().unwrap_or_default().trim().to_ascii_lowercase();
        let kind = makeable().find(|kind| kind_word(*kind) == word).ok_or_else(|| StepWrong::Kind(printable(&word)))?;
        let mut wish = Self::plain(kind);
        let mut in_label = false;
        for part in rest {
            let wrong = || StepWrong::Word(printable(part));
            match part.split_once('=').map(|(word, value)| (word.trim(), value)) {
                Some(("size", value)) => wish.size = Some(Size::typed(value, sector)?),
                Some(("at", value)) => wish.at = Some(Lba(value.trim().trim_end_matches('s').parse().map_err(|_| wrong())?)),
                Some(("label", value)) => wish.label = value.into(),
                Some(("cluster", value)) => {
                    let bytes = crate::place::size_named(value).and_then(|bytes| u32::try_from(bytes).ok());
                    wish.cluster = Some(bytes.ok_or_else(wrong)?);
                }
                Some(("journal", value)) => wish.journal = yes_or_no(value.trim()).ok_or_else(wrong)?,
                _ if in_label => wish.label = format!("{},{part}", wish.label),
                _ => return Err(wrong()),
            }
            in_label = part.trim_start().starts_with("label=") || (in_label && !part.contains('='));
        }
        Ok(wish)
    }
}

fn yes_or_no(word: &str) -> Option<bool> {
    match word {
        "yes" => Some(true),
        "no" => Some(false),
        _ => None,
    }
}

/// The number and what is said of it: `2=ntfs,label=QUAY`.
///
/// # Errors
/// [`StepWrong::Number`].
pub fn numbered(text: &str) -> Result<(u32, &str), StepWrong> {
    let wrong = || StepWrong::Number(printable(text));
    let (number, what) = text.split_once('=').ok_or_else(wrong)?;
    Ok((number.trim().parse().ok().filter(|number| *number > 0).ok_or_else(wrong)?, what))
}

/// Marks as they are typed: `active,hidden`, or `none`.
///
/// # Errors
/// [`StepWrong::Flag`].
pub fn flags(text: &str) -> Result<Vec<Flag>, StepWrong> {
    if text.trim() == "none" {
        return Ok(Vec::new());
    }
    let one = |word: &str| {
        let known = Flag::ALL.into_iter().find(|flag| flag.word() == word.trim());
        known.ok_or_else(|| StepWrong::Flag(printable(word)))
    };
    text.split(',').map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_wish_is_read_as_it_is_typed_and_what_is_wrong_is_named() {
        let typed = |text: &str| Wish::typed(text, SectorSize(512));
        let wish = typed("NTFS,size=2048s,at=4096,label=QUAY, EAST,cluster=64 KiB").unwrap();
        assert_eq!((wish.kind, wish.size, wish.at), (VolumeKind::Ntfs, Some(Size::Bytes(1 << 20)), Some(Lba(4096))));
        assert_eq!((wish.label.as_str(), wish.cluster, wish.journal), ("QUAY, EAST", Some(65_536), true));
        assert!(!typed("hfsplus,journal=no").unwrap().journal);
        for text in ["ntfs,size=1048576,at=4096,cluster=65536,label=QUAY, EAST", "hfsplus,size=12.5%,journal=no", "exfat"] {
            assert_eq!(typed(&typed(text).unwrap().text()), typed(text), "{text}");
        }
        for (text, what) in [
            ("", "is no kind"),
            ("xfs", "is no kind"),
            ("ext5", "ntfs fat12 fat16 fat32 exfat ext2 ext3 ext4 hfsplus are"),
            ("fat32,size", "size=SIZE"),
            ("fat32,at=start", "size=SIZE"),
            ("fat32,size=much", "is no size"),
            ("fat32,cluster=9 GB", "size=SIZE"),
            ("fat32,journal=maybe", "size=SIZE"),
        ] {
            let said = typed(text).unwrap_err().to_string();
            assert!(said.contains(what), "{text}: {said}");
        }
    }

    #[test]
    fn numbers_and_marks_are_read() {
        assert_eq!(numbered("2=exfat"), Ok((2, "exfat")));
        for text in ["exfat", "0=exfat", "-1=exfat", "=exfat", "99999999999=x"] {
            assert!(numbered(text).is_err(), "{text}");
        }
        assert_eq!(flags("active, required"), Ok(vec![Flag::Active, Flag::Required]));
        assert_eq!(flags("none"), Ok(Vec::new()));
        assert!(flags("bootable").is_err() && flags("").is_err());
    }
}
