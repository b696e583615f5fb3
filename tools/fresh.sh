#!/bin/sh
# The README on a fresh Debian, word for word: its lines under "Install" and its opening example are typed by an ordinary user in
# a new Debian root, to an SSH login. Wants root, debootstrap, and packages as this machine gets them. Some minutes.
#   tools/fresh.sh [FOLDER]     where the root is made (default: a temporary one); it is removed at the end
set -eu
here=$(cd "$(dirname "$0")/.." && pwd)
root=${1:-$(mktemp -d /var/tmp/dacha-fresh-XXXXXX)}
command -v debootstrap > /dev/null || apt-get install -y -qq debootstrap > /dev/null
away() {
    for place in dev/pts dev proc opt; do umount -l "$root/$place" 2> /dev/null || true; done
    rm -rf --one-file-system "$root"
}
trap away EXIT
mirror=$(sed -n 's/^URIs: *//p; s/^deb \([^ ]*\).*/\1/p' /etc/apt/sources.list.d/*.sources /etc/apt/sources.list 2> /dev/null | head -n 1)
# shellcheck source=/dev/null
release=$(. /etc/os-release && echo "$VERSION_CODENAME")
echo "a new $release in $root"
debootstrap --variant=minbase --include=ca-certificates,sudo,adduser,procps,git "$release" "$root" "$mirror" > "$root.log" 2>&1 ||
    { tail -n 20 "$root.log"; exit 1; }
rm -f "$root.log"
chmod 0755 "$root"
# Packages come from where this machine has them.
rm -f "$root/etc/apt/sources.list"
cp -a /etc/apt/. "$root/etc/apt/"
[ -d /etc/xdg/pip ] && mkdir -p "$root/etc/xdg" && cp -a /etc/xdg/pip "$root/etc/xdg/"
[ -f /etc/pip.conf ] && cp /etc/pip.conf "$root/etc/"
cp -a /etc/ssl/certs/. "$root/etc/ssl/certs/"
cp -L /etc/resolv.conf /etc/hosts "$root/etc/"
echo "127.0.1.1 $(hostname)" >> "$root/etc/hosts"
echo 'APT::Get::Assume-Yes "true";' > "$root/etc/apt/apt.conf.d/90yes"
mount -t proc proc "$root/proc"
mount --rbind /dev "$root/dev"
if [ -d /opt ]; then mkdir -p "$root/opt" && mount --bind /opt "$root/opt"; fi
chroot "$root" sh -c 'apt-get update -qq && groupadd -f kvm && adduser --quiet --disabled-password --gecos "" kim &&
    echo "kim ALL=(ALL) NOPASSWD: ALL" > /etc/sudoers.d/kim'
mkdir "$root/home/kim/dacha"
git -C "$here" archive HEAD | tar -x -C "$root/home/kim/dacha"
# An image that reads first-boot data, as the example's is: the demo's guest on a disk.
"${PYTHON:-$here/.venv/bin/python}" - "$root/home/kim" << 'END'
import subprocess, sys, tempfile
from pathlib import Path
from dacha.demo import guest_image
from dacha.demo.installer_image import installed_disk
with tempfile.TemporaryDirectory() as made:
    disk = installed_disk(Path(made), "grub-mkrescue", guest_image.unpack(Path(made), lambda text: None))
    subprocess.run(["qemu-img", "convert", "-O", "qcow2", disk, f"{sys.argv[1]}/debian-12.qcow2"], check=True)
END
chroot "$root" chown -R kim:kim /home/kim
# shellcheck disable=SC2016
install=$(sed -n '/^## Install/,/^## /p' "$here/README.md" | sed -n '/^```/,/^```/p' | sed '1d; /^```/,$d')
example=$(sed -n '/^\$ /s/^\$ //p' "$here/README.md" | head -n 4)
# A login shell each, as at a new prompt; the last line has somebody at its keyboard.
as_kim() { chroot "$root" sudo -iu kim sh -lc "cd $1 && $2"; }
echo "$install" | while read -r line; do
    echo "\$ $line"
    as_kim dacha "$line" < /dev/null > "$root/said" 2>&1 || { tail -n 20 "$root/said"; exit 1; }
done
as_kim . "mkdir lab && mv debian-12.qcow2 lab" < /dev/null
echo "$example" | while read -r line; do
    echo "\$ $line"
    printf 'hostname; id -un\nexit\n' > "$root/home/kim/typed"
    as_kim lab "$line < ~/typed"
done | tee "$root/answers"
tail -n 3 "$root/answers" | grep -qx gauge || { echo "no login"; exit 1; }
as_kim lab "dacha stop --all --force --wait 0s" < /dev/null
echo "from nothing to a login: $(du -sm "$root/home/kim/.local" | cut -f1) MB of Dacha with what it needs"
