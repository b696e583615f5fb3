#!/bin/busybox sh
# The demo's installer: writes the demo guest to the first disk, asks nothing, and restarts or powers off.
/bin/busybox --install -s /bin
export PATH=/bin
mount -t proc proc /proc
mount -t sysfs sysfs /sys
mount -t devtmpfs dev /dev
load() { while read -r module; do insmod "/modules/$module.ko" 2>/dev/null; done < "/modules/$1"; }
load order
cat /sys/bus/virtio/devices/*/device | while read -r device; do [ -f "/modules/$device" ] && load "$device"; done
say() { echo "demo installer: $*" > /dev/console; }
say "looking for a disk"
disk=
n=0
while [ -z "$disk" ] && [ $n -lt 100 ]; do
    for name in vda sda nvme0n1 vdb; do
        [ -b /dev/$name ] && [ "$(cat /sys/block/$name/ro)" = 0 ] && { disk=/dev/$name; break; }
    done
    n=$((n + 1))
    sleep 0.1
done
if [ -z "$disk" ]; then
    say "no disk here"
    sleep 3600
fi
say "writing the demo guest to $disk"
dd if=/payload of="$disk" bs=1M conv=fsync 2>/dev/null
sync
say "installed on $disk"
case $(cat /proc/cmdline) in
    *finish=poweroff*) poweroff -f ;;
    *) reboot -f ;;
esac
