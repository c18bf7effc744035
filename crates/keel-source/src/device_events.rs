//! The kernel's word when a device comes, changes or goes.

use std::io;
use std::os::fd::OwnedFd;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::net::{AddressFamily, RecvFlags, SocketFlags, SocketType, bind, netlink, recv, socket_with};

/// The group to which the kernel itself sends.
const KERNEL: u32 = 1;
/// The longest message, in bytes.
const LONGEST: usize = 16 << 10;

/// Listens for block devices that come, change or go.
pub struct DeviceEvents {
    socket: OwnedFd,
}

impl DeviceEvents {
    /// Begins to listen.
    ///
    /// # Errors
    /// The system's, where a process may not: in some containers.
    pub fn open() -> io::Result<Self> {
        let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
        let socket = socket_with(AddressFamily::NETLINK, SocketType::DGRAM, flags, Some(netlink::KOBJECT_UEVENT))?;
        bind(&socket, &netlink::SocketAddrNetlink::new(0, KERNEL))?;
        Ok(Self { socket })
    }

    /// Waits until a block device came, changed or went, `most` at the longest; true when one did.
    #[must_use]
    pub fn wait(&self, most: Duration) -> bool {
        let limit = Timespec::try_from(most).ok();
        let mut asked = [PollFd::new(&self.socket, PollFlags::IN)];
        if !poll(&mut asked, limit.as_ref()).is_ok_and(|count| count > 0) {
            return false;
        }
        let mut message = [0u8; LONGEST];
        let mut is_any = false;
        loop {
            match recv(&self.socket, &mut message, RecvFlags::DONTWAIT) {
                Ok((count, _)) => is_any |= is_of_block(message.get(..count).unwrap_or_default()),
                // More came than there was room for: one of them may have been.
                Err(rustix::io::Errno::NOBUFS) => is_any = true,
                Err(rustix::io::Errno::INTR) => {}
                Err(_) => return is_any,
            }
        }
    }
}

/// A message is an action and its fields, each ended by a zero.
fn is_of_block(message: &[u8]) -> bool {
    message.split(|byte| *byte == 0).any(|field| field == b"SUBSYSTEM=block")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_block_devices_count() {
        assert!(is_of_block(b"add@/devices/x/block/sdb\0ACTION=add\0SUBSYSTEM=block\0DEVNAME=sdb\0"));
        assert!(!is_of_block(b"add@/devices/x\0ACTION=add\0SUBSYSTEM=usb\0DEVNAME=SUBSYSTEM=block.\0"));
        assert!(!is_of_block(b""));
    }

    #[test]
    fn nothing_is_waited_for_longer_than_asked() {
        // Where the system lets nobody listen there is nothing to wait for.
        let Ok(events) = DeviceEvents::open() else { return };
        let begun = std::time::Instant::now();
        while events.wait(Duration::from_millis(20)) && begun.elapsed() < Duration::from_secs(2) {}
        assert!(begun.elapsed() < Duration::from_secs(3));
    }
}
