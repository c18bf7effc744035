//! A structure beside its copies and beside what the volume itself says: the three columns that mending compares.

use keel_source::{ByteOffset, ByteRange, SharedSource};

use crate::{FormatError, read_bytes};

/// Says whether bytes read at a place state the volume.
type Judge<'a> = &'a dyn Fn(ByteOffset, &[u8]) -> Result<(), FormatError>;

/// How the bytes of a field read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// A little-endian number.
    Little,
    /// A big-endian number.
    Big,
    /// Characters.
    Text,
    /// Characters, padded with zeros.
    Name,
    /// Plain bytes.
    Bytes,
}

/// A field of a structure, by the name that its standard gives it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Field {
    /// The standard's name.
    pub name: &'static str,
    /// Offset in the structure, in bytes.
    pub offset: usize,
    /// Length in bytes.
    pub len: usize,
    /// How it reads.
    pub form: Form,
    /// What does not work when it is wrong; empty where an operating system does not care.
    pub breaks: &'static str,
}

impl Field {
    /// A field.
    #[must_use]
    pub const fn new(name: &'static str, offset: usize, len: usize, form: Form, breaks: &'static str) -> Self {
        Self { name, offset, len, form, breaks }
    }

    /// The field's bytes in `structure`.
    #[must_use]
    pub fn of<'a>(&self, structure: &'a [u8]) -> Option<&'a [u8]> {
        structure.get(self.offset..self.offset.checked_add(self.len)?)
    }

    /// The bytes that a typed value makes of the field: a number, decimal or hexadecimal (`0x…`); characters, padded as the field is; bytes in
    /// hexadecimal, as many as the field has. None where it does not fit.
    #[must_use]
    pub fn typed(&self, text: &str) -> Option<Vec<u8>> {
        let text = text.trim();
        let number = || {
            let value = match text.strip_prefix("0x") {
                Some(digits) => u128::from_str_radix(digits, 16).ok()?,
                None => text.parse().ok()?,
            };
            let bytes = value.to_be_bytes();
            let (over, own) = bytes.split_at(bytes.len().checked_sub(self.len)?);
            over.iter().all(|byte| *byte == 0).then(|| own.to_vec())
        };
        match self.form {
            Form::Big => number(),
            Form::Little => number().map(|bytes| bytes.into_iter().rev().collect()),
            Form::Text | Form::Name => {
                let mut bytes = text.as_bytes().to_vec();
                (bytes.len() <= self.len).then(|| {
                    bytes.resize(self.len, if self.form == Form::Text { b' ' } else { 0 });
                    bytes
                })
            }
            Form::Bytes => {
                let digits: Vec<u8> = text.bytes().filter(|byte| !byte.is_ascii_whitespace()).collect();
                let (pairs, odd) = digits.as_chunks::<2>();
                let byte = |pair: &[u8; 2]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
                let bytes: Vec<u8> = pairs.iter().map(byte).collect::<Option<_>>()?;
                (odd.is_empty() && bytes.len() == self.len).then_some(bytes)
            }
        }
    }

    /// The field as text: numbers decimal and hexadecimal. Characters are as stored, control characters and all.
    #[must_use]
    pub fn text(&self, structure: &[u8]) -> Option<String> {
        let bytes = self.of(structure)?;
        let number = |bytes: &mut dyn Iterator<Item = &u8>| bytes.fold(0u128, |sum, byte| sum << 8 | u128::from(*byte));
        let shown = |value: u128| if value < 10 { value.to_string() } else { format!("{value} (0x{value:x})") };
        Some(match self.form {
            Form::Little => shown(number(&mut bytes.iter().rev())),
            Form::Big => shown(number(&mut bytes.iter())),
            Form::Text | Form::Name => String::from_utf8_lossy(bytes).trim_end_matches(['\0', ' ']).to_string(),
            Form::Bytes => bytes.iter().map(|byte| format!("{byte:02x}")).collect(),
        })
    }
}

/// One place where a structure stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Version {
    /// Where, in bytes of the volume.
    pub at: ByteOffset,
    /// Its bytes; empty where they cannot be read.
    pub bytes: Vec<u8>,
    /// Why it does not state this volume; `None` when it does.
    pub why_not: Option<FormatError>,
    /// A copy's bytes as they would stand in the main place: numbers that tell the places apart are set.
    pub as_main: Vec<u8>,
}

impl Version {
    /// True when its bytes are not delivered.
    #[must_use]
    pub fn is_unreadable(&self) -> bool {
        self.why_not.as_ref().is_some_and(FormatError::is_unreadable)
    }

    /// True when it states this volume.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.why_not.is_none()
    }
}

/// What the volume itself says the structure should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Computed {
    /// The structure, whole.
    pub bytes: Vec<u8>,
    /// The witness for fields, by their names.
    pub witnesses: Vec<(&'static str, String)>,
}

/// Whether structures are also computed that have a sound version on the drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compute {
    /// Only where no version on the drive holds: computing may take a walk over the whole volume.
    WhereNeeded,
    /// All that can be.
    All,
}

/// Where a structure's bytes are taken from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Take {
    /// As it stands in the main place.
    Main,
    /// From the copy of this number.
    Copy(usize),
    /// As computed from the volume.
    Computed,
}

impl Take {
    /// The word shown.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Main => "main",
            Self::Copy(_) => "copy",
            Self::Computed => "computed",
        }
    }
}

/// A structure in all its versions.
#[derive(Debug, Clone)]
pub struct Structure {
    /// Its name in the standard.
    pub name: String,
    /// The place that operating systems read first.
    pub main: Version,
    /// Its copies.
    pub copies: Vec<Version>,
    /// What it should be.
    pub computed: Option<Computed>,
    /// Its fields.
    pub fields: Vec<Field>,
    /// True where a copy that does not hold is worth putting back from a main structure that does.
    pub renews_copies: bool,
    /// Sets the checksums that follow from the other bytes.
    pub seal: fn(&mut [u8]),
    /// Where the volume starts on its drive: errors are told in bytes of the drive.
    pub start: ByteOffset,
}

/// One field in all versions, decoded.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Row {
    /// Which.
    pub field: Field,
    /// As it stands.
    pub main: Option<String>,
    /// In the first copy that holds, or the first one.
    pub copy: Option<String>,
    /// As computed.
    pub computed: Option<String>,
    /// The witness for the computed value.
    pub witness: Option<String>,
    /// True when not all that are there are equal.
    pub differs: bool,
}

/// Something that a structure's place should hold instead.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Repair {
    /// Name of the structure.
    pub name: String,
    /// Where it goes, in bytes of the volume.
    pub at: ByteOffset,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Where they are from.
    pub from: Take,
    /// The copy's place, when they are a copy's.
    pub copy: Option<ByteRange>,
    /// True for the place that operating systems read first.
    pub is_main: bool,
    /// Why, as a sentence.
    pub reason: String,
}

impl Structure {
    /// Reads `len` bytes at the main place and at each copy's. `judge` says whether bytes read there state the volume;
    /// `adapt` turns a copy into what would stand in the main place.
    pub(crate) fn read(
        window: &SharedSource,
        name: impl Into<String>,
        len: usize,
        places: (ByteOffset, &[ByteOffset]),
        judge: Judge<'_>,
        adapt: &dyn Fn(Vec<u8>) -> Vec<u8>,
    ) -> Self {
        let version = |at: ByteOffset| match read_bytes(window.as_ref(), at, len, "structure") {
            Ok(bytes) => {
                let why_not = judge(at, &bytes).err();
                let as_main = if why_not.is_none() { adapt(bytes.clone()) } else { bytes.clone() };
                Version { at, bytes, why_not, as_main }
            }
            Err(error) => Version { at, bytes: Vec::new(), why_not: Some(error), as_main: Vec::new() },
        };
        let main = version(places.0);
        let main = Version { as_main: main.bytes.clone(), ..main };
        Self {
            name: name.into(),
            main,
            copies: places.1.iter().map(|at| version(*at)).collect(),
            computed: None,
            fields: Vec::new(),
            renews_copies: false,
            seal: |_| {},
            start: ByteOffset(0),
        }
    }

    /// Why a version does not state the volume, with its place in bytes of the drive.
    #[must_use]
    pub fn why_not(&self, version: &Version) -> Option<String> {
        let error = version.why_not.as_ref()?;
        Some(FormatError { at: error.at + self.start.0, ..error.clone() }.to_string())
    }

    /// As [`Structure::read`], for an `adapt` that reads much: it is asked only where the main structure does not hold,
    /// and only for the first copy that does.
    pub(crate) fn read_sparingly(
        window: &SharedSource,
        name: impl Into<String>,
        len: usize,
        places: (ByteOffset, &[ByteOffset]),
        judge: Judge<'_>,
        adapt: &dyn Fn(Vec<u8>) -> Vec<u8>,
    ) -> Self {
        let mut read = Self::read(window, name, len, places, judge, &|bytes| bytes);
        if !read.main.holds()
            && let Some(copy) = read.copies.iter_mut().find(|copy| copy.holds())
        {
            copy.as_main = adapt(std::mem::take(&mut copy.as_main));
        }
        read
    }

    /// The same with the computed version, where it is wanted.
    pub(crate) fn with_computed(mut self, compute: Compute, computed: impl FnOnce() -> Option<Computed>) -> Self {
        let needed = !self.main.holds() && !self.copies.iter().any(Version::holds);
        if needed || compute == Compute::All {
            self.computed = computed();
        }
        self
    }

    /// The version that the evidence speaks for, when the main one does not hold: the first copy that holds, else the
    /// computed one.
    #[must_use]
    pub fn best(&self) -> Option<Take> {
        if self.main.holds() {
            return None;
        }
        let copy = self.copies.iter().position(Version::holds).map(Take::Copy);
        copy.or(self.computed.is_some().then_some(Take::Computed))
    }

    /// The bytes of a version as they would stand in the main place.
    #[must_use]
    pub fn bytes(&self, take: Take) -> Option<&[u8]> {
        let bytes = match take {
            Take::Main => &self.main.bytes,
            Take::Copy(index) => &self.copies.get(index)?.as_main,
            Take::Computed => &self.computed.as_ref()?.bytes,
        };
        Some(bytes.as_slice()).filter(|bytes| !bytes.is_empty())
    }

    /// The structure from `whole`, with single fields from elsewhere and others set by hand; checksums follow. `None` when a version
    /// is not there, or a value does not fit its field.
    #[must_use]
    pub fn put_together(&self, whole: Take, fields: &[(Field, Take)], by_hand: &[(Field, Vec<u8>)]) -> Option<Vec<u8>> {
        let mut bytes = self.bytes(whole)?.to_vec();
        let mut put = |field: &Field, from: &[u8]| {
            let place = bytes.get_mut(field.offset..field.offset.checked_add(field.len)?)?;
            (place.len() == from.len()).then(|| place.copy_from_slice(from))
        };
        for (field, take) in fields {
            put(field, field.of(self.bytes(*take)?)?)?;
        }
        for (field, value) in by_hand {
            put(field, value)?;
        }
        if !fields.is_empty() || !by_hand.is_empty() {
            (self.seal)(&mut bytes);
        }
        Some(bytes)
    }

    /// Every field in all versions.
    #[must_use]
    pub fn rows(&self) -> Vec<Row> {
        let copy = self.copies.iter().find(|copy| copy.holds()).or(self.copies.first());
        let row = |field: &Field| {
            let main = field.text(&self.main.bytes);
            let copy = copy.and_then(|copy| field.text(&copy.as_main));
            let computed = self.computed.as_ref().and_then(|computed| field.text(&computed.bytes));
            let witness = self.computed.as_ref().and_then(|computed| {
                computed.witnesses.iter().find(|(name, _)| *name == field.name).map(|(_, says)| says.clone())
            });
            let there: Vec<&String> = [&main, &copy, &computed].into_iter().flatten().collect();
            let differs = there.windows(2).any(|pair| pair.first() != pair.last());
            Row { field: *field, main, copy, computed, witness, differs }
        };
        self.fields.iter().map(row).collect()
    }

    /// What should be put back by the evidence alone: the main place from a copy or as computed, and where that is worth
    /// it the copies that do not hold.
    #[must_use]
    pub fn repairs(&self) -> Vec<Repair> {
        let take = self.best();
        if !self.main.holds() && take.is_none() {
            return Vec::new();
        }
        self.repairs_with(take.unwrap_or(Take::Main), &[], &[])
    }

    /// As [`Structure::repairs`], with the version for the main place chosen, fields of others, and fields set by hand.
    #[must_use]
    pub fn repairs_with(&self, take: Take, fields: &[(Field, Take)], by_hand: &[(Field, Vec<u8>)]) -> Vec<Repair> {
        let Some(bytes) = self.put_together(take, fields, by_hand) else { return Vec::new() };
        let copy = match take {
            Take::Copy(index) => self.copies.get(index).map(|copy| ByteRange::sized(copy.at, copy.bytes.len() as u64)),
            Take::Main | Take::Computed => None,
        };
        let mut repairs = Vec::new();
        for version in self.copies.iter().filter(|copy| self.renews_copies && !copy.holds()) {
            let reason = format!("the copy of the {} does not hold ({})", self.name, self.why_not(version).unwrap_or_default());
            let from = if take == Take::Main { Take::Main } else { take };
            repairs.push(Repair {
                name: format!("copy of the {}", self.name),
                at: version.at,
                bytes: bytes.clone(),
                from,
                copy,
                is_main: false,
                reason,
            });
        }
        if bytes != self.main.bytes {
            let why = match self.why_not(&self.main) {
                Some(why) => format!("the {} does not hold ({why})", self.name),
                None => format!("the {} is changed by the technician's choice", self.name),
            };
            let how = match (take, fields.is_empty() && by_hand.is_empty()) {
                (Take::Copy(_), true) => "its copy does, and the volume's own metadata agrees".to_string(),
                (Take::Computed, true) => "it is computed from the volume's own metadata".to_string(),
                _ => {
                    let set = by_hand.iter().map(|(field, _)| field.name).collect::<Vec<_>>().join(", ");
                    let set = if set.is_empty() { set } else { format!("set by hand: {set}") };
                    let taken = match fields.len() {
                        0 => String::new(),
                        1 => "1 field is taken from elsewhere".to_string(),
                        count => format!("{count} fields are taken from elsewhere"),
                    };
                    [taken, set].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("; ")
                }
            };
            let reason = format!("{why}; {how}");
            repairs.push(Repair { name: self.name.clone(), at: self.main.at, bytes, from: take, copy, is_main: true, reason });
        }
        repairs
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use keel_source::{MemorySource, Overlay};

    use super::*;
    use crate::{Problem, View};

    const FIELDS: [Field; 4] = [
        Field::new("Magic", 0, 4, Form::Text, "nothing recognises it"),
        Field::new("Size", 4, 2, Form::Little, "every place is wrong"),
        Field::new("Count", 6, 2, Form::Big, ""),
        Field::new("Sum", 15, 1, Form::Bytes, "it is refused"),
    ];

    fn seal(bytes: &mut [u8]) {
        if let Some((last, counted)) = bytes.split_last_mut() {
            *last = counted.iter().fold(0, |sum, byte| sum ^ byte);
        }
    }

    fn sound(size: u16, copy: bool) -> Vec<u8> {
        let mut bytes = [&b"KEEL"[..], &size.to_le_bytes(), &[0, u8::from(copy)], &[7; 8]].concat();
        seal(&mut bytes);
        bytes
    }

    /// A main structure at 0 and copies at 64 and 128, laid over zeros.
    fn read(laid: &[(u64, Vec<u8>)]) -> Structure {
        let mut overlay = Overlay::new(Arc::new(MemorySource::new("s", vec![0; 512], 512)));
        laid.iter().for_each(|(at, bytes)| overlay.lay(ByteOffset(*at), bytes));
        let window: SharedSource = Arc::new(overlay);
        let judge = |at: ByteOffset, bytes: &[u8]| {
            let view = View::new("structure", at, bytes);
            let mut sealed = bytes.to_vec();
            seal(&mut sealed);
            match (bytes.starts_with(b"KEEL"), sealed == bytes) {
                (true, true) => Ok(()),
                (false, _) => Err(view.wrong(0, "Magic", 0, "KEEL")),
                (true, false) => Err(view.error(15, Problem::Coding("its sum does not hold"))),
            }
        };
        let adapt = |mut bytes: Vec<u8>| {
            bytes[7] = 0;
            seal(&mut bytes);
            bytes
        };
        let places = [ByteOffset(64), ByteOffset(128)];
        let read = Structure::read(&window, "header", 16, (ByteOffset(0), &places), &judge, &adapt);
        Structure { fields: FIELDS.to_vec(), seal, start: ByteOffset(4096), ..read }
    }

    #[test]
    fn values_are_typed_as_the_field_has_them_and_what_does_not_fit_is_none() {
        let [magic, size, count, sum] = FIELDS;
        assert_eq!(size.typed("513"), Some(vec![1, 2]));
        assert_eq!((size.typed("0x0201"), count.typed("513")), (Some(vec![1, 2]), Some(vec![2, 1])));
        assert_eq!((magic.typed("AB"), sum.typed("f F")), (Some(b"AB  ".to_vec()), Some(vec![0xff])));
        for (field, text) in
            [(size, "65536"), (size, "-1"), (size, ""), (size, "ten"), (magic, "FIVES"), (sum, "f"), (sum, "ffff"), (sum, "gg")]
        {
            assert_eq!(field.typed(text), None, "{} {text}", field.name);
        }
    }

    #[test]
    fn a_field_set_by_hand_goes_before_all_others_and_the_checksum_follows() {
        let structure = read(&[(0, sound(512, false)), (64, sound(9, true))]);
        let by_hand = [(FIELDS[1], vec![7, 0])];
        let bytes = structure.put_together(Take::Main, &[(FIELDS[1], Take::Copy(0))], &by_hand).unwrap();
        assert_eq!(bytes, sound(7, false));
        let [repair] = structure.repairs_with(Take::Main, &[], &by_hand).try_into().unwrap();
        assert!(
            repair.is_main && repair.bytes == sound(7, false) && repair.reason.contains("set by hand: Size"),
            "{}",
            repair.reason
        );
        assert_eq!(structure.put_together(Take::Main, &[], &[(FIELDS[1], vec![7])]), None, "a value of another length");
    }

    #[test]
    fn the_first_copy_that_holds_is_taken_as_it_would_stand_in_the_main_place() {
        let structure = read(&[(64, vec![9; 16]), (128, sound(512, true))]);
        assert_eq!(structure.best(), Some(Take::Copy(1)));
        let [repair] = <[Repair; 1]>::try_from(structure.repairs()).unwrap();
        assert_eq!((repair.at, repair.bytes, repair.from), (ByteOffset(0), sound(512, false), Take::Copy(1)));
        assert_eq!(repair.copy, Some(ByteRange::sized(ByteOffset(128), 16)));
        assert!(repair.reason.contains("byte 4096 (0x1000)") && repair.reason.contains("its copy does"), "{}", repair.reason);
    }

    #[test]
    fn a_main_structure_that_holds_is_left_and_renews_copies_only_where_that_is_worth_it() {
        let laid = [(0, sound(512, false)), (64, sound(512, true))];
        assert_eq!((read(&laid).best(), read(&laid).repairs()), (None, vec![]));
        let renewing = Structure { renews_copies: true, ..read(&laid) };
        let [repair] = <[Repair; 1]>::try_from(renewing.repairs()).unwrap();
        assert_eq!((repair.at, repair.is_main, repair.bytes), (ByteOffset(128), false, sound(512, false)));
    }

    #[test]
    fn nothing_is_put_back_without_a_version_that_holds() {
        let structure = read(&[(0, vec![1; 16]), (64, vec![2; 16])]);
        assert_eq!((structure.best(), structure.repairs()), (None, vec![]));
        let why = structure.why_not(&structure.copies[0]).unwrap();
        assert!(why.contains("byte 4160 (0x1040)") && why.contains("Magic"), "{why}");
    }

    #[test]
    fn a_computed_version_is_asked_for_where_nothing_holds_or_everything_is_wanted() {
        let computed = || Some(Computed { bytes: sound(1024, false), witnesses: vec![("Size", "what was counted".into())] });
        let gone = read(&[]).with_computed(Compute::WhereNeeded, computed);
        assert_eq!(gone.best(), Some(Take::Computed));
        assert_eq!(gone.repairs()[0].bytes, sound(1024, false));
        let never = || -> Option<Computed> { panic!("it was not needed") };
        let held = read(&[(64, sound(512, true))]).with_computed(Compute::WhereNeeded, never);
        assert_eq!(held.best(), Some(Take::Copy(0)));
        assert!(read(&[(0, sound(512, false))]).with_computed(Compute::All, computed).computed.is_some());
    }

    #[test]
    fn rows_show_every_version_and_mark_what_differs() {
        let computed = Some(Computed { bytes: sound(1024, false), witnesses: vec![("Size", "what was counted".into())] });
        let structure = Structure { computed, ..read(&[(0, sound(512, false)), (64, sound(512, true))]) };
        let rows = structure.rows();
        let size = &rows[1];
        assert_eq!((size.main.as_deref(), size.copy.as_deref()), (Some("512 (0x200)"), Some("512 (0x200)")));
        assert_eq!((size.computed.as_deref(), size.differs), (Some("1024 (0x400)"), true));
        assert_eq!(size.witness.as_deref(), Some("what was counted"));
        assert_eq!((rows[0].main.as_deref(), rows[0].differs), (Some("KEEL"), false));
        // The copy is shown as it would stand in the main place.
        assert_eq!((rows[2].copy.as_deref(), rows[2].differs), (Some("0"), false));
    }

    #[test]
    fn a_field_from_elsewhere_is_sealed_and_what_is_not_there_gives_nothing() {
        let computed = Some(Computed { bytes: sound(1024, false), witnesses: Vec::new() });
        let structure = Structure { computed, ..read(&[(0, sound(512, false))]) };
        let mixed = structure.put_together(Take::Main, &[(FIELDS[1], Take::Computed)], &[]).unwrap();
        assert_eq!(mixed, sound(1024, false));
        assert_eq!(structure.put_together(Take::Copy(9), &[], &[]), None);
        assert_eq!(structure.put_together(Take::Main, &[(FIELDS[1], Take::Copy(9))], &[]), None);
        let chosen = structure.repairs_with(Take::Main, &[(FIELDS[1], Take::Computed)], &[]);
        assert!(chosen[0].reason.contains("technician's choice") && chosen[0].reason.contains("1 field"), "{}", chosen[0].reason);
    }

    #[test]
    fn fields_outside_of_a_structure_and_unreadable_places_give_nothing() {
        let far = Field::new("Far", usize::MAX, 4, Form::Little, "");
        assert_eq!((far.of(&[0; 16]), far.text(&[0; 16])), (None, None));
        let bad = MemorySource::new("s", vec![0; 512], 512).with_bad(ByteRange::sized(ByteOffset(0), 512));
        let window: SharedSource = Arc::new(bad);
        let read = Structure::read(&window, "header", 16, (ByteOffset(0), &[ByteOffset(64)]), &|_, _| Ok(()), &|bytes| bytes);
        assert!(!read.main.holds() && read.main.bytes.is_empty() && read.best().is_none() && read.repairs().is_empty());
    }
}
