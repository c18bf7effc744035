#!/bin/bash
# build.sh FOLDER: makes the guest, a small machine for qemu, in FOLDER: Debian's own kernel, its file-system drivers and
# busybox. It judges repaired drives independently of this machine's kernel and fills volumes through real drivers.
# Installs what it needs by apt. A second call with the same contents does nothing.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
D=$1; mkdir -p "$D"; cd "$D"
exec 9>build.lock; flock 9
want=$(cat "$here/build.sh" "$here/init" | sha256sum)
[ "$(cat guest.ok 2>/dev/null)" = "$want" ] && exit 0
export DEBIAN_FRONTEND=noninteractive
kernel() { apt-cache depends linux-image-amd64 | awk '/Depends: linux-image/{print $2; exit}'; }
K=$(kernel || true); [ -n "$K" ] || { apt-get update -qq; K=$(kernel); }
rm -rf tree debs root; mkdir -p tree debs root; chmod 777 debs
(cd debs && apt-get download -qq "$K" busybox-static)
for deb in debs/*.deb; do dpkg-deb -x "$deb" tree; done
cp tree/boot/vmlinuz-* vmlinuz
V=$(ls tree/lib/modules); modules=tree/lib/modules/$V
mkdir -p root/{bin,proc,sys,dev,mnt,etc} "root/lib/modules/$V"
cp tree/bin/busybox root/bin/busybox
for applet in ps dmesg sed sh mount umount ls cat find sha256sum insmod modprobe echo sleep poweroff mkdir grep sort tr cut tar sync rm dd \
  test date kill wc head tail cmp seq touch readlink blkid time env id chown chmod su mknod basename; do
  ln -sf busybox root/bin/$applet
done
depmod -b tree "$V"
cp "$modules"/modules.{dep,alias,symbols,builtin,order} "root/lib/modules/$V/" 2>/dev/null || true
# The adapters and drives of the bench are loaded only where a script asks for them.
adapters="ahci virtio_scsi sd_mod nvme xhci_pci usb_storage uas loop"
for module in virtio_pci virtio_blk vfat exfat ext4 xfs hfsplus fuse nls_utf8 nls_cp437 nls_ascii nls_iso8859-1 crc32c_generic $adapters; do
  for file in $(modprobe -d tree -S "$V" --show-depends "$module" 2>/dev/null | awk '/^insmod/{print $2}'); do
    path=lib/modules/${file##*lib/modules/}
    mkdir -p "root/$(dirname "$path")"; cp "tree/$path" "root/$path"
  done
done
# NTFS through the driver that Debian ships, with the libraries it asks for.
driver=$(command -v ntfs-3g); cp "$driver" root/bin/ntfs-3g
for library in $(ldd "$driver" | grep -o '/[^ ]*'); do mkdir -p "root$(dirname "$library")"; cp -L "$library" "root$library"; done
cp "$here/init" root/init; chmod +x root/init
(cd root && find . | cpio -o -H newc --quiet | gzip -1) > initrd.gz
rm -rf tree debs root
echo "$want" > guest.ok
