//! `PartitionTypeGUID`s. Those of each kind of volume are told by its format. Source: the registries of
//! the systems that define them.

use uuid::{Uuid, uuid};

use super::layout::{BASIC_DATA, EFI_SYSTEM};

/// What Linux keeps its volumes behind. The kernel mounts them behind any of these types; installers used all.
pub(crate) const LINUX: (Uuid, &[Uuid]) = (LINUX_DATA, &[BASIC_DATA, LINUX_HOME, LINUX_ROOT]);
/// Encrypted volumes, which older installers kept behind plain types.
pub(crate) const LINUX_LUKS: (Uuid, &[Uuid]) = (LUKS_TYPE, &[LINUX_DATA, BASIC_DATA, LINUX_HOME, LINUX_ROOT]);
const LINUX_DATA: Uuid = uuid!("0FC63DAF-8483-4772-8E79-3D69D8477DE4");
/// Type of Linux swap space.
pub(crate) const LINUX_SWAP: Uuid = uuid!("0657FD6D-A4AB-43C4-84E5-0933C84B4F4F");
/// Type of LVM2 physical volumes.
pub(crate) const LINUX_LVM: Uuid = uuid!("E6D6D379-F507-44C2-A23C-238F2A3DF928");
/// Type of members of a Linux RAID.
pub(crate) const LINUX_RAID: Uuid = uuid!("A19D880F-05FC-4D3B-A006-743F0F84911E");
const LUKS_TYPE: Uuid = uuid!("CA7D7CCB-63ED-4C53-861C-1742536059CC");
const LINUX_HOME: Uuid = uuid!("933AC7E1-2EB4-4F13-B844-0E14E2AEF915");
const LINUX_ROOT: Uuid = uuid!("4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709");
/// Type of HFS+ and HFSX.
pub(crate) const HFS_PLUS: Uuid = uuid!("48465300-0000-11AA-AA11-00306543ECAC");
/// Type of APFS containers.
pub(crate) const APFS: Uuid = uuid!("7C3457EF-0000-11AA-AA11-00306543ECAC");
const RESERVED: Uuid = uuid!("E3C9E316-0B5C-4DB8-817D-F92DF00215AE");
const BIOS_BOOT: Uuid = uuid!("21686148-6449-6E6F-744E-656564454649");
const PREP_BOOT: Uuid = uuid!("9E1A2D38-C612-4316-AA26-8B49521E5A8B");
const DYNAMIC_METADATA: Uuid = uuid!("5808C8AA-7E8F-42E0-85D2-E1E90434CFB3");
/// Type of a volume with a recovery system.
pub const RECOVERY: Uuid = uuid!("DE94BBA4-06D1-4D40-A16A-BFD50179D6AC");

/// True for types whose ground is used without a file system: by a loader, or by the system itself.
#[must_use]
pub fn holds_no_volume(guid: Uuid) -> bool {
    matches!(guid, RESERVED | BIOS_BOOT | PREP_BOOT | DYNAMIC_METADATA)
}

/// What a type stands for, in words.
#[must_use]
pub fn word_for(guid: Uuid) -> &'static str {
    match guid {
        BASIC_DATA => "basic data",
        EFI_SYSTEM => "EFI system",
        LINUX_DATA => "Linux data",
        LINUX_SWAP => "Linux swap",
        LINUX_LVM => "Linux LVM",
        LINUX_RAID => "Linux RAID",
        LUKS_TYPE => "Linux LUKS",
        LINUX_HOME => "Linux home",
        LINUX_ROOT => "Linux root",
        HFS_PLUS => "HFS+",
        APFS => "APFS",
        RECOVERY => "recovery",
        RESERVED => "reserved",
        BIOS_BOOT | PREP_BOOT => "boot loader",
        DYNAMIC_METADATA => "dynamic disk metadata",
        _ => "other type",
    }
}
