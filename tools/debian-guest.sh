#!/bin/sh
# A Debian guest for tests, from Debian's packages as this machine gets them: systemd, OpenSSH, the guest agent, first-boot software.
#   tools/debian-guest.sh FOLDER [--desktop|--host|RELEASE]   makes FOLDER/disk.qcow2, vmlinuz and initrd.img, which a lab starts
#                                                directly; with --desktop also a small desktop by RDP; with --host it is a host
#                                                of guests itself; of bookworm, or RELEASE
# Wants root and debootstrap; needs no loop device: the file system is written by mke2fs from a folder. Some two minutes. What is
# there already, made by this same script, is left as it is.
set -eu
folder=$1
desktop=
release=bookworm
case "${2:-}" in --desktop | --host) desktop=$2 ;; ?*) release=$2 ;; esac
made=$(sha256sum "$0" | cut -d ' ' -f 1)$desktop$([ "$release" = bookworm ] || echo "$release")
more=
[ "$desktop" = --desktop ] && more="xrdp xorgxrdp icewm xterm xfonts-base dbus-x11 ssl-cert"
kernel=linux-image-cloud-amd64
if [ "$desktop" = --host ]; then
    more="qemu-system-x86 qemu-utils ipxe-qemu iputils-arping psmisc python3 tcpdump cpio"
    # With drivers for real devices, such as USB.
    kernel=linux-image-amd64
fi
[ "$(cat "$folder/made" 2> /dev/null)" = "$made" ] && [ -s "$folder/disk.qcow2" ] && exit 0
for pair in debootstrap:debootstrap mke2fs:e2fsprogs qemu-img:qemu-utils; do
    command -v "${pair%:*}" > /dev/null || apt-get install -y -qq "${pair#*:}" > /dev/null
done
mkdir -p "$folder"
work=$(mktemp -d "$folder/making-XXXXXX")
root=$work/root
away() {
    umount -l "$root/proc" 2> /dev/null || true
    rm -rf --one-file-system "$work"
}
trap away EXIT
mirror=$(sed -n 's/^URIs: *//p; s/^deb \([^ ]*\).*/\1/p' /etc/apt/sources.list.d/*.sources /etc/apt/sources.list 2> /dev/null | head -n 1)
debootstrap --variant=minbase "$release" "$root" "$mirror" > "$work/log" 2>&1 || { tail -n 30 "$work/log"; exit 1; }
cp -L /etc/resolv.conf /etc/hosts "$root/etc/"
printf '#!/bin/sh\nexit 101\n' > "$root/usr/sbin/policy-rc.d"
chmod 755 "$root/usr/sbin/policy-rc.d"
mount -t proc proc "$root/proc"
in_root() {
    chroot "$root" env -i PATH=/usr/sbin:/usr/bin:/sbin:/bin HOME=/root LC_ALL=C.UTF-8 DEBIAN_FRONTEND=noninteractive "$@"
}
if [ "$desktop" = --host ]; then
    # It starts from virtio alone: a small initial file system.
    mkdir -p "$root/etc/initramfs-tools/conf.d"
    echo MODULES=list > "$root/etc/initramfs-tools/conf.d/modules"
    printf '%s\n' virtio_pci virtio_blk ext4 > "$root/etc/initramfs-tools/modules"
fi
# shellcheck disable=SC2086  # one word a package
in_root apt-get install -y -qq --no-install-recommends $more "$kernel" initramfs-tools systemd-sysv systemd-resolved systemd-timesyncd udev dbus \
    libpam-systemd openssh-server sudo cloud-init qemu-guest-agent iproute2 iputils-ping netbase procps nftables socat \
    cifs-utils ca-certificates > "$work/log" 2>&1 || { tail -n 30 "$work/log"; exit 1; }
rm "$root/usr/sbin/policy-rc.d"
if [ "$desktop" = --desktop ]; then
    in_root adduser --quiet xrdp ssl-cert
    sed -i 's/^security_layer=.*/security_layer=tls/' "$root/etc/xrdp/xrdp.ini"
    echo 'exec icewm' > "$root/etc/skel/.xsession"
fi
# Only what the lab hands over, put in place by the system's own network service.
cat > "$root/etc/cloud/cloud.cfg.d/90-lab.cfg" << 'END'
datasource_list: [NoCloud, None]
system_info: { network: { renderers: [networkd] } }
END
ln -sf /run/systemd/resolve/stub-resolv.conf "$root/etc/resolv.conf"
in_root systemctl -q enable systemd-networkd systemd-resolved qemu-guest-agent ssh 2> /dev/null
if [ "$desktop" = --host ]; then
    # Nothing is handed over to it: it is steered by its agent, and what it runs is on a second disk.
    touch "$root/etc/cloud/cloud-init.disabled"
    printf '[Match]\nName=en*\n[Network]\nDHCP=ipv4\n' > "$root/etc/systemd/network/50-wired.network"
    mkdir -p "$root/opt/dacha"
    echo 'LABEL=dacha /opt/dacha ext4 ro 0 2' >> "$work/fstab"
    # What works by itself and would compete with the tests.
    in_root systemctl -q disable apt-daily.timer apt-daily-upgrade.timer e2scrub_all.timer fstrim.timer dpkg-db-backup.timer 2> /dev/null || true
    in_root systemctl -q mask systemd-networkd-wait-online ssh 2> /dev/null
    echo pier > "$root/etc/hostname"
    # A journal that survives a power cut.
    mkdir -p "$root/var/log/journal"
fi
rm -f "$root"/etc/ssh/ssh_host_* "$root/etc/machine-id" "$root"/var/cache/apt/archives/*.deb
: > "$root/etc/machine-id"
{ echo 'LABEL=root / ext4 defaults 0 1'; cat "$work/fstab" 2> /dev/null || true; } > "$root/etc/fstab"
cp "$root"/boot/vmlinuz-* "$work/vmlinuz"
cp "$root"/boot/initrd.img-* "$work/initrd.img"
umount -l "$root/proc" 2> /dev/null || true
truncate -s "$([ "$desktop" = --host ] && echo 6G || echo 3G)" "$work/disk"
mke2fs -q -t ext4 -L root -E root_owner=0:0 -d "$root" "$work/disk"
qemu-img convert -O qcow2 "$work/disk" "$work/disk.qcow2"
mv "$work/vmlinuz" "$work/initrd.img" "$work/disk.qcow2" "$folder/"
echo "$made" > "$folder/made"
