//! Disks of machines that are none, and what is locked.

pub(crate) mod locked;
pub(crate) mod qcow;
pub(crate) mod vdi;
pub(crate) mod vhd;
pub(crate) mod vmdk;
