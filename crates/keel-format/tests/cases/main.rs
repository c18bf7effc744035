//! Cases of the volumes: what formatters and drivers made, what is damaged, what is made new.
//! One program for all of them: they are linked once, and run beside each other.
#![allow(missing_docs, clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "../../../../xtask/guest/qemu.rs"]
mod qemu;

mod absurd_sizes;
mod as_drivers;
mod boot_structures;
mod checks;
mod every_field;
mod exfat_volumes;
mod ext_volumes;
mod fat_volumes;
mod hfsplus_volumes;
mod hostile;
mod new_volumes;
mod ntfs_volumes;
mod promises;
mod recognised_volumes;
mod resized_volumes;
mod support;
mod xfs_volumes;
