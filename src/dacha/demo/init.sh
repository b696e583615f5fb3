#!/bin/busybox sh
# The first and only program of the demo guest: a small Linux that takes its first-boot data from the
# volume labelled cidata, as any distribution's image would, and serves SSH and a page of tide readings.
/bin/busybox mkdir -p /proc /sys /dev /tmp /run /etc/dropbear /mnt/seed /var/log /root
/bin/busybox --install -s /bin
export PATH=/bin:/usr/sbin:/usr/bin
mount -t proc proc /proc
mount -t sysfs sysfs /sys
mount -t devtmpfs dev /dev
mkdir -p /dev/pts
mount -t devpts devpts /dev/pts
hostname unnamed
# Everybody may ping: busybox is root's, and of its programs only those that need it go on as root.
chmod u+s /bin/busybox
load() { while read -r module; do insmod "/modules/$module.ko" 2>/dev/null; done < "/modules/$1"; }
load order
cat /sys/bus/virtio/devices/*/device | while read -r device; do [ -f "/modules/$device" ] && load "$device"; done

say() { echo "demo guest: $*" > /dev/console; }

# The YAML here is the block form that Dacha writes; quotes round a value are dropped.
plain() { sed "s/^[ -]*//; s/^[a-z0-9_-]*: //; s/^['\"]//; s/['\"]\$//"; }

seed=$(findfs LABEL=cidata 2>/dev/null)
if [ -n "$seed" ] && mount -t iso9660 -o ro "$seed" /mnt/seed 2>/dev/null; then
    name=$(grep '^local-hostname:' /mnt/seed/meta-data | plain)
    hostname "$name"
    printf '127.0.0.1 localhost\n127.0.1.1 %s\n' "$name" > /etc/hosts
    sed -n '/^  ed25519_private: |/,/END OPENSSH PRIVATE KEY/p' /mnt/seed/user-data | sed '1d; s/^ *//' > /tmp/host_key
    chmod 600 /tmp/host_key
    dropbearconvert openssh dropbear /tmp/host_key /etc/dropbear/host_key 2>/dev/null
    rm /tmp/host_key
    echo 'root:*:0:0:root:/root:/bin/sh' > /etc/passwd
    echo 'root:x:0:' > /etc/group
    # One line an account and a key: "user NAME", "key LINE".
    awk '
        /^users:/ { on = 1; next }
        /^[^ -]/ { on = 0 }
        !on { next }
        { gsub(/[\047"]/, "") }
        /^- name:/ { list = 0; print "user", $3; next }
        /^  ssh_authorized_keys:/ { list = 1; next }
        /^  - / { if (list) { sub(/^  - /, ""); print "key", $0 }; next }
        { list = 0 }
    ' /mnt/seed/user-data > /tmp/accounts
    id=999
    while read -r word value; do
        case $word in
            user) user=$value id=$((id + 1))
                  echo "$user:*:$id:$id:$user:/home/$user:/bin/sh" >> /etc/passwd
                  echo "$user:x:$id:" >> /etc/group
                  mkdir -p "/home/$user/.ssh"
                  : > "/home/$user/.ssh/authorized_keys"
                  chmod 700 "/home/$user" "/home/$user/.ssh"
                  chmod 600 "/home/$user/.ssh/authorized_keys"
                  chown -R "$id:$id" "/home/$user" ;;
            key) echo "$value" >> "/home/$user/.ssh/authorized_keys" ;;
        esac
    done < /tmp/accounts
    ip link set lo up
    # What an adapter without an address of its own does with the one that it is given.
    cat > /etc/lease <<'END'
#!/bin/sh
[ "$ip" ] || exit 0
ip address replace "$ip/$mask" dev "$interface"
[ "$router" ] && ip route replace default via "${router%% *}" dev "$interface"
{ [ "$domain" ] && echo "search $domain"; for server in $dns; do echo "nameserver $server"; done; } > /etc/resolv.conf
echo "demo guest: has the address $ip" > /dev/console
END
    chmod 755 /etc/lease
    # One line a setting: "mac ADDRESS", "address A/P", "via GATEWAY", "server ADDRESS".
    awk '
        /macaddress:/ { gsub(/[\047"]/, ""); print "mac", $2 }
        /^    addresses:/ { list = "address"; next }
        /nameservers:/ { list = ""; next }
        /^ *dhcp4: true/ { print "ask", 1; next }
        /^      addresses:/ { list = "server"; next }
        /^ *- to:/ { list = ""; to = $3; next }
        /^ *via:/ { gsub(/[\047"]/, ""); print "via", $2; next }
        /^ *- / { gsub(/[\047"]/, ""); if (list) print list, $2; next }
        { list = "" }
    ' /mnt/seed/network-config > /tmp/network
    while read -r word value; do
        case $word in
            mac) for link in /sys/class/net/*; do
                     [ "$(cat "$link/address")" = "$value" ] && { device=${link##*/}; ip link set "$device" up; }
                 done ;;
            address) ip address add "$value" dev "$device" ;;
            via) ip route add default via "$value" dev "$device" ;;
            server) echo "nameserver $value" >> /etc/resolv.conf ;;
            ask) udhcpc -i "$device" -b -S -s /etc/lease > /dev/null 2>&1 & ;;
        esac
    done < /tmp/network
    # Shared folders: three lines each behind the word "share": its name, where it goes, how.
    awk '
        /^  - share$/ { left = 3; line = ""; next }
        left { sub(/^  - /, ""); line = line " " $0; if (--left == 0) print line }
    ' /mnt/seed/user-data > /tmp/shares
    while read -r share place how; do
        mkdir -p "$place"
        mount -t virtiofs -o "${how%%,*}" "$share" "$place" || say "no share $share"
    done < /tmp/shares
    umount /mnt/seed
    say "$name has its first-boot data"
else
    say "no volume labelled cidata"
fi

# A blank disk that the lab gave it keeps its readings; the first start makes a file system on it. A disk with
# anything else on it (this guest itself, once installed) is left alone.
disk=
for block in /sys/block/vd*; do
    [ "$(cat "$block/serial" 2>/dev/null)" = disk0 ] && disk=/dev/${block##*/}
done
mkdir -p /srv/readings
if [ -n "$disk" ]; then
    if [ "$(head -c 65536 "$disk" | tr -d '\0' | wc -c)" = 0 ]; then mke2fs -L readings "$disk" > /dev/null 2>&1; fi
    mount -t ext4 "$disk" /srv/readings 2>/dev/null
fi
echo "started $(date -u '+%Y-%m-%d %H:%M:%S') UTC" >> /srv/readings/log

# The power button: press it and the guest ends properly.
mkdir -p /etc/acpi/PWRF
printf '#!/bin/sh\necho "demo guest: power button" > /dev/console\nsync\numount /srv/readings 2>/dev/null\npoweroff -f\n' > /etc/acpi/PWRF/00000080
chmod 755 /etc/acpi/PWRF/00000080
acpid -d > /dev/null 2>&1 &

httpd -p 80 -h /srv/www
[ -s /etc/dropbear/host_key ] && dropbear -r /etc/dropbear/host_key -s -E 2>/var/log/dropbear
say "ready"
# A console that asks for nothing: this guest has no secrets.
while true; do setsid cttyhack sh -l < /dev/ttyS0 > /dev/ttyS0 2>&1; sleep 1; done
