#!/bin/sh
# Sets up what Dacha and its tests need: Debian packages where they may be installed, then a Python environment. With
# "bench", "faults" or "screenshots" as the second word what those need too.
set -eu
venv=$1
python=${PYTHON:-python3}

# A program that tells whether each package is there, and the package.
missing=
need() {
    PATH="$PATH:/usr/sbin:/sbin" command -v "$1" > /dev/null 2>&1 || missing="$missing $2"
}
need qemu-system-x86_64 qemu-system-x86
need qemu-img qemu-utils
need ssh openssh-client
need ip iproute2
need nft nftables
need ping iputils-ping
need arping iputils-arping
need sysctl procps
need cpio cpio
need shellcheck shellcheck
need gpg gnupg
need gpgv gpgv
need setpriv util-linux
need grub-mkrescue grub-common
need xorriso xorriso
need mformat mtools
[ -d /usr/lib/grub/i386-pc ] || missing="$missing grub-pc-bin"
[ -d /usr/lib/grub/x86_64-efi ] || missing="$missing grub-efi-amd64-bin"
[ -e /usr/share/OVMF/OVMF_CODE_4M.fd ] || [ -e /usr/share/OVMF/OVMF_CODE.fd ] || missing="$missing ovmf"
need swtpm swtpm
need fuser psmisc
[ -e /usr/lib/shim/shimx64.efi.signed ] || missing="$missing shim-signed"
[ -e /usr/lib/grub/x86_64-efi-signed/gcdx64.efi.signed ] || missing="$missing grub-efi-amd64-signed"
need udhcpc udhcpc
need dhclient isc-dhcp-client
need dhcpcd dhcpcd-base
need dig dnsutils
need plink putty-tools
need ufw ufw
need iptables iptables
# Where a service that is installed would be started at once, this one is left to whoever wants it.
[ -d /run/systemd/system ] || need firewalld firewalld
need zsh zsh
need fish fish
[ -e /usr/lib/ipxe/qemu/efi-virtio.rom ] || missing="$missing ipxe-qemu"
need dpkg-deb dpkg
need sfdisk fdisk
need mkfs.ext4 e2fsprogs
need mkfs.xfs xfsprogs
need smbclient smbclient
need testparm samba-common-bin
need systemd-analyze systemd
need vncsnapshot vncsnapshot
# Where its own service would be started at once, it is left to whoever wants it.
[ -d /run/systemd/system ] || need smbd samba
if [ "${2:-}" = bench ]; then
    need perfdhcp kea-admin
    need dnsperf dnsperf
    need dnsmasq dnsmasq-base
    need curl curl
elif [ "${2:-}" = faults ]; then
    need debootstrap debootstrap
    command -v xfreerdp3 > /dev/null || need xfreerdp freerdp2-x11
    need import imagemagick
    need Xvfb xvfb
    need chromium chromium
elif [ "${2:-}" = screenshots ]; then
    need xterm xterm
    need Xvfb xvfb
    need import imagemagick
    need chromium chromium
    [ -e /usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf ] || missing="$missing fonts-dejavu-core"
    [ -e /usr/share/OVMF/OVMF_CODE_4M.fd ] || [ -e /usr/share/OVMF/OVMF_CODE.fd ] || missing="$missing ovmf"
fi
"$python" -c 'import venv, ensurepip' 2> /dev/null || missing="$missing python3-venv"

as_root=
if [ -n "$missing" ] && [ "$(id -u)" -ne 0 ]; then
    if command -v sudo > /dev/null 2>&1 && sudo -n true 2> /dev/null; then
        as_root="sudo -n"
    else
        echo "These Debian packages are missing:$missing. Install them as root: apt-get install$missing" >&2
        exit 1
    fi
fi

python_environment() {
    echo "Making the Python environment in $venv"
    [ -x "$venv/bin/python" ] || "$python" -m venv "$venv"
    # Compiled is what is used, when it is used first: all of it would take a third of the time.
    "$venv/bin/pip" install --quiet --disable-pip-version-check --no-compile --editable '.[test]'
}
# It needs none of the packages but python3-venv, and is made while they are installed. Whatever ends this script ends
# when it does.
making=
case $missing in
*python3-venv*) ;;
*)
    python_environment &
    making=$!
    trap 'wait "$making"' EXIT
    ;;
esac

if [ -n "$missing" ]; then
    echo "Installing Debian packages:$missing"
    $as_root apt-get update -qq
    # Debian 12 has the server of shared folders in a package of QEMU's, Debian 13 in one of its own.
    if [ ! -e /usr/lib/qemu/virtiofsd ] && apt-cache show virtiofsd > /dev/null 2>&1; then missing="$missing virtiofsd"; fi
    # What Debian 13 has the next version of.
    apt-cache show freerdp2-x11 > /dev/null 2>&1 || missing=$(echo "$missing" | sed 's/freerdp2-x11/freerdp3-x11/')
    # shellcheck disable=SC2086  # one word a package
    DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends $missing > /dev/null
fi

# The demo's guest is made from packages too; their lists are needed, the packages are not installed.
if ! apt-cache show busybox-static > /dev/null 2>&1 && [ "$(id -u)" -eq 0 ]; then
    apt-get update -qq
fi

if [ -n "$making" ]; then
    trap - EXIT
    wait "$making"
else
    python_environment
fi
