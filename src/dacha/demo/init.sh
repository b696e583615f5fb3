#!/bin/busybox sh
# The first and only program of the demo guest: a small Linux that takes its first-boot data from the
# volume labelled cidata, as any distribution's image would, and serves SSH and a page of tide readings.
# An emulated guest starts slowly whatever is a program of its own: what the shell can do, it does.
/bin/busybox --install -s /bin
export PATH=/bin:/usr/sbin:/usr/bin
mount -t proc proc /proc
mount -t sysfs sysfs /sys
mount -t devtmpfs dev /dev
mkdir /dev/pts
mount -t devpts devpts /dev/pts
echo unnamed > /proc/sys/kernel/hostname
load() { while read -r module; do insmod "/modules/$module.ko" 2>/dev/null; done < "/modules/$1"; }
load order
for found in /sys/bus/virtio/devices/*/device; do
    read -r kind < "$found"
    [ -f "/modules/$kind" ] && load "$kind"
done

say() { echo "demo guest: $*" > /dev/console; }

# The YAML here is the block form that Dacha writes; quotes round a value are dropped. One line a setting.
settings() {
    awk '
        { gsub(/[\047"]/, "") }
        FILENAME ~ /meta-data/ { if (/^local-hostname:/) print "name", $2; next }
        FILENAME ~ /network-config/ {
            if (/macaddress:/) print "mac", $2
            else if (/^    addresses:/) list = "address"
            else if (/nameservers:/) list = ""
            else if (/^ *dhcp4: true/) print "ask"
            else if (/^      addresses:/) list = "server"
            else if (/^ *via:/) print "via", $2
            else if (!/^ *- /) list = ""
            else if (/^ *- to:/) list = ""
            else if (list) print list, $2
            next
        }
        # A shared folder: three lines each behind the word "share": its name, where it goes, how.
        /^  - share$/ { left = 3; line = "share"; next }
        left { sub(/^  - /, ""); line = line " " $0; if (--left == 0) print line; next }
        /BEGIN OPENSSH PRIVATE KEY/ { host = 1; next }
        /END OPENSSH PRIVATE KEY/ { host = 0 }
        host { print "host", $1; next }
        /^[^ -]/ { users = /^users:/; next }
        !users { next }
        /^- name:/ { keys = 0; print "user", $3; next }
        /^  ssh_authorized_keys:/ { keys = 1; next }
        /^  - / { if (keys) { sub(/^  - /, ""); print "key", $0 }; next }
        { keys = 0 }
    ' /mnt/seed/meta-data /mnt/seed/user-data /mnt/seed/network-config
}

# An Ed25519 key as the SSH server keeps it: the kind and the 64 octets of both its halves, each behind its length. In
# the form that OpenSSH writes the second length begins at octet 157, when there is no passphrase.
host_key() {
    printf '\0\0\0\013ssh-ed25519'
    echo "$1" | base64 -d | tail -c +158 | head -c 68
}

seed=$(findfs LABEL=cidata 2>/dev/null)
if [ -n "$seed" ] && mount -t iso9660 -o ro "$seed" /mnt/seed 2>/dev/null; then
    ip link set lo up
    settings | {
        host='' device='' id=999
        while read -r word value more; do
            case $word in
                name) name=$value
                      echo "$name" > /proc/sys/kernel/hostname
                      printf '127.0.0.1 localhost\n127.0.1.1 %s\n' "$name" > /etc/hosts ;;
                host) host=$host$value ;;
                user) user=$value id=$((id + 1)) keys=/home/$value/.ssh/authorized_keys
                      echo "$user:*:$id:$id:$user:/home/$user:/bin/sh" >> /etc/passwd
                      echo "$user:x:$id:" >> /etc/group
                      umask 077
                      mkdir -p "${keys%/*}"
                      : > "$keys"
                      umask 022
                      chown -R "$id:$id" "/home/$user" ;;
                key) echo "$value $more" >> "$keys" ;;
                share) place=${more%% *} how=${more#* }
                       mkdir -p "$place"
                       mount -t virtiofs -o "${how%%,*}" "$value" "$place" || say "no share $value" ;;
                mac) for link in /sys/class/net/*; do
                         read -r address < "$link/address"
                         [ "$address" = "$value" ] && device=${link##*/} && ip link set "$device" up
                     done ;;
                address) ip address add "$value" dev "$device" ;;
                via) ip route add default via "$value" dev "$device" ;;
                server) echo "nameserver $value" >> /etc/resolv.conf ;;
                ask) udhcpc -i "$device" -b -S -s /etc/lease > /dev/null 2>&1 & ;;
            esac
        done
        umask 077
        [ -z "$host" ] || host_key "$host" > /etc/dropbear/host_key
        say "$name has its first-boot data"
    }
    umount /mnt/seed
else
    say "no volume labelled cidata"
fi

# A blank disk that the lab gave it keeps its readings; the first start makes a file system on it. A disk with
# anything else on it (this guest itself, once installed) is left alone.
disk=
for block in /sys/block/vd*; do
    serial=
    [ -f "$block/serial" ] && read -r serial < "$block/serial"
    [ "$serial" = disk0 ] && disk=/dev/${block##*/}
done
if [ -n "$disk" ]; then
    if [ "$(head -c 65536 "$disk" | tr -d '\0' | wc -c)" = 0 ]; then mke2fs -L readings "$disk" > /dev/null 2>&1; fi
    mount -t ext4 "$disk" /srv/readings 2>/dev/null
fi
echo "started $(date -u '+%Y-%m-%d %H:%M:%S') UTC" >> /srv/readings/log

acpid -d > /dev/null 2>&1 &

httpd -p 80 -h /srv/www
[ -s /etc/dropbear/host_key ] && dropbear -r /etc/dropbear/host_key -s -E 2>/var/log/dropbear
say "ready"
# A console that asks for nothing: this guest has no secrets.
while true; do setsid cttyhack sh -l < /dev/ttyS0 > /dev/ttyS0 2>&1; sleep 1; done
