//! Who may do what on a new volume: the descriptors of `$Secure`.

use super::attributes::{data_entry, last_entry};

/// `SecurityId` of what nobody writes by name.
pub(super) const READ: u32 = 0x100;
/// `SecurityId` of what the system writes.
pub(super) const WRITE: u32 = 0x101;
/// `SecurityId` of the root: administrators and the system do everything, who has signed in writes, others read.
pub(super) const ROOT: u32 = 0x102;

/// Descriptors stand twice in `$SDS`: again from this byte on.
pub(super) const COPY_AT: usize = 0x4_0000;

/// Relative identifiers: authority and the values below it.
type Sid = &'static [u32];
/// Local system.
const SYSTEM: Sid = &[18];
/// Whoever has signed in.
const SIGNED_IN: Sid = &[11];
/// Administrators of the machine.
const ADMINISTRATORS: Sid = &[32, 544];
/// Users of the machine.
const USERS: Sid = &[32, 545];

/// Access masks.
const READS: u32 = 0x0012_0089;
const WRITES: u32 = 0x0012_019F;
const EVERYTHING: u32 = 0x001F_01FF;
const MODIFIES: u32 = 0x0013_01BF;
const READS_AND_RUNS: u32 = 0x0012_00A9;
/// An entry that files and folders below inherit.
const INHERITED: u8 = 3;

/// An identifier below the authority of the system itself.
pub(super) fn sid(below: &[u32]) -> Vec<u8> {
    let mut bytes = vec![1, u8::try_from(below.len()).unwrap_or(0), 0, 0, 0, 0, 0, 5];
    bytes.extend(below.iter().flat_map(|value| value.to_le_bytes()));
    bytes
}

/// A self-relative descriptor whose owner and group are the administrators.
fn descriptor(allowed: &[(Sid, u32)], flags: u8) -> Vec<u8> {
    const HEAD: usize = 20;
    let entries: Vec<u8> = allowed
        .iter()
        .flat_map(|(who, mask)| {
            let who = sid(who);
            let size = u16::try_from(8 + who.len()).unwrap_or(0);
            [&[0, flags][..], &size.to_le_bytes(), &mask.to_le_bytes(), &who].concat()
        })
        .collect();
    let list_bytes = 8 + entries.len();
    let owner = sid(ADMINISTRATORS);
    let at = |offset: usize| u32::try_from(offset).unwrap_or(0).to_le_bytes();
    let short = |value: usize| u16::try_from(value).unwrap_or(0).to_le_bytes();
    let mut bytes = vec![1, 0];
    // A list of what is allowed, all in one piece.
    bytes.extend(0x8004u16.to_le_bytes());
    bytes.extend(at(HEAD + list_bytes));
    bytes.extend(at(HEAD + list_bytes + owner.len()));
    bytes.extend(at(0));
    bytes.extend(at(HEAD));
    bytes.extend([2, 0]);
    bytes.extend(short(list_bytes));
    bytes.extend(short(allowed.len()));
    bytes.extend([0, 0]);
    bytes.extend(entries);
    bytes.extend(&owner);
    bytes.extend(&owner);
    bytes
}

/// The hash by which descriptors are found.
fn hash(descriptor: &[u8]) -> u32 {
    let words = descriptor.as_chunks::<4>().0.iter().map(|word| u32::from_le_bytes(*word));
    words.fold(0, |hash: u32, word| hash.rotate_left(3).wrapping_add(word))
}

/// `$SDS`, and the entries of the indexes `$SDH` and `$SII`.
#[derive(Debug)]
pub(super) struct Descriptors {
    /// The stream: descriptors, and their copy.
    pub(super) stream: Vec<u8>,
    /// By hash.
    pub(super) by_hash: Vec<u8>,
    /// By identifier.
    pub(super) by_id: Vec<u8>,
}

/// The descriptors of a new volume.
pub(super) fn descriptors() -> Descriptors {
    let all = [
        (READ, descriptor(&[(SYSTEM, READS), (ADMINISTRATORS, READS)], 0)),
        (WRITE, descriptor(&[(SYSTEM, WRITES), (ADMINISTRATORS, WRITES)], 0)),
        (
            ROOT,
            descriptor(
                &[(ADMINISTRATORS, EVERYTHING), (SYSTEM, EVERYTHING), (SIGNED_IN, MODIFIES), (USERS, READS_AND_RUNS)],
                INHERITED,
            ),
        ),
    ];
    let mut stream: Vec<u8> = Vec::new();
    let mut heads = Vec::new();
    for (id, descriptor) in all {
        let bytes = u32::try_from(20 + descriptor.len()).unwrap_or(0);
        let hash = hash(&descriptor);
        let head =
            [&hash.to_le_bytes()[..], &id.to_le_bytes(), &(stream.len() as u64).to_le_bytes(), &bytes.to_le_bytes()].concat();
        stream.extend(&head);
        stream.extend(descriptor);
        stream.resize(stream.len().next_multiple_of(16), 0);
        heads.push((hash, id, head));
    }
    let own = stream.clone();
    stream.resize(COPY_AT, 0);
    stream.extend(own);
    let by_id: Vec<u8> = heads.iter().flat_map(|(_, id, head)| data_entry(&id.to_le_bytes(), head)).collect();
    heads.sort();
    let by_hash = heads.iter().flat_map(|(hash, id, head)| {
        let key = [hash.to_le_bytes(), id.to_le_bytes()].concat();
        let mut entry = data_entry(&key, head);
        // Four bytes that drivers write behind the data.
        let end = entry.len();
        entry.iter_mut().skip(end - 4).zip([b'I', 0, b'I', 0]).for_each(|(slot, byte)| *slot = byte);
        entry
    });
    let by_hash: Vec<u8> = by_hash.collect();
    Descriptors { stream, by_hash: [by_hash, last_entry(false)].concat(), by_id: [by_id, last_entry(false)].concat() }
}

/// Entries of `$Quota`: owners by identifier (`$O`), and what each may fill (`$Q`): nothing is limited.
pub(super) fn quotas(ticks: u64) -> (Vec<u8>, Vec<u8>) {
    let owner = sid(ADMINISTRATORS);
    let limits = |flags: u32, sid: &[u8]| {
        let mut entry = [2u32, flags].iter().flat_map(|word| word.to_le_bytes()).collect::<Vec<_>>();
        entry.extend(0u64.to_le_bytes());
        entry.extend(ticks.to_le_bytes());
        entry.extend([0xFF; 16]);
        entry.extend(0u64.to_le_bytes());
        entry.extend(sid);
        entry
    };
    const FIRST_OWNER: u32 = 0x100;
    const ALL: u32 = 1;
    let by_owner = [data_entry(&owner, &FIRST_OWNER.to_le_bytes()), last_entry(false)].concat();
    let what = [
        data_entry(&ALL.to_le_bytes(), &limits(1, &[])),
        data_entry(&FIRST_OWNER.to_le_bytes(), &limits(1, &owner)),
        last_entry(false),
    ]
    .concat();
    (by_owner, what)
}
