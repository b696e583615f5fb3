#!/bin/sh
# A disk with Dacha as the README installs it, for a host in a guest (tools/debian-guest.sh --host), where an installation takes minutes:
#   tools/dacha-disk.sh SOURCE FILE [FOLDER [BEFORE]]   installs SOURCE into /opt/dacha/venv, adds FOLDER as /opt/dacha/guest, installs
#                                                       the older source BEFORE into /opt/dacha/before, and writes the file system
#                                                       FILE with the label dacha
# Wants root: /opt/dacha is this folder only in a mount namespace of its own. The guest's Python is this machine's (Debian 12: 3.11).
set -eu
source=$(realpath "$1")
file=$(realpath -m "$2")
more=${3:-}
before=${4:-}
if [ -z "${DACHA_DISK_FOLDER:-}" ]; then
    DACHA_DISK_FOLDER=$(mktemp -d)
    export DACHA_DISK_FOLDER
    trap 'rm -rf --one-file-system "$DACHA_DISK_FOLDER"' EXIT
    mkdir -p /opt/dacha
    unshare --mount --propagation private "$0" "$source" "$file" "$more" "$before"
    exit
fi
mount --bind "$DACHA_DISK_FOLDER" /opt/dacha
/usr/bin/python3 -m venv /opt/dacha/venv
/opt/dacha/venv/bin/pip install -q --disable-pip-version-check "$source"
if [ -n "$before" ]; then
    /usr/bin/python3 -m venv /opt/dacha/before
    /opt/dacha/before/bin/pip install -q --disable-pip-version-check "$before"
fi
[ -z "$more" ] || cp -rL "$more" /opt/dacha/guest
rm -f "$file"
truncate -s 512M "$file"
mke2fs -q -t ext4 -L dacha -E root_owner=0:0 -d /opt/dacha "$file"
