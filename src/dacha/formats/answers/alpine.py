"""Answer file for Alpine: the file for setup-alpine, in an overlay (.apkovl.tar.gz) that its medium loads from any
volume, with a start script that installs to the disk and powers off."""

from __future__ import annotations

import shlex
from collections.abc import Mapping
from gzip import GzipFile
from io import BytesIO
from tarfile import SYMTYPE, TarFile, TarInfo

from dacha.core.apply.answers import Answers
from dacha.formats.answers.finish import script

ANSWERS, FINISH, INSTALL = "etc/dacha/answers", "etc/dacha/finish.sh", "etc/local.d/dacha-install.start"
# Its default services are kept beside the added one, and its base package.
_STARTED = {"etc/.default_boot_services": "", "etc/apk/world": "alpine-base\n"}
_INSTALL = """\
#!/bin/sh
# Installs {host} by the answers beside this, nobody asked.
exec > /dev/console 2>&1
# The mark of a diskless start stays in memory: what is installed must not start this again.
rm -f /etc/runlevels/default/local /etc/local.d/dacha-install.start
export ERASE_DISKS={disk}
setup-alpine -e -f /etc/dacha/answers || {{ echo "{failed} setup-alpine"; exit 1; }}
root=
for part in $(ls {disk}* | grep -v '^{disk}$'); do
  mount -t ext4 "$part" /mnt 2> /dev/null || continue
  [ -d /mnt/etc/apk ] && root=$part && break
  umount /mnt
done
[ "$root" ] || {{ echo "{failed} finding the installed system"; exit 1; }}
cp /etc/dacha/finish.sh /mnt/root/dacha-finish.sh
for d in dev proc sys; do mount --bind /$d /mnt/$d; done
chroot /mnt sh /root/dacha-finish.sh
rm -rf /mnt/root/dacha-finish.sh /mnt/etc/dacha
for d in sys proc dev; do umount /mnt/$d; done
umount /mnt
sync
poweroff
"""


def documents(answers: Answers) -> dict[str, str]:
    """The members of the overlay, by path."""
    install = _INSTALL.format(host=answers.facts["host_name"], disk=answers.disk, failed="first boot: failed at")
    return {ANSWERS: answer_file(answers), FINISH: script(answers, "alpine"), INSTALL: install}


def overlay(documents: Mapping[str, str]) -> dict[str, bytes]:
    """The volume's only file: an archive of these documents, and of what starts them."""
    packed = BytesIO()
    # Without a date in the header, equal answers give equal bytes.
    with GzipFile(fileobj=packed, mode="wb", mtime=0) as zipped, TarFile(fileobj=zipped, mode="w") as archive:
        for path, text in (*documents.items(), *_STARTED.items()):
            member = TarInfo(path)
            member.mode = 0o755 if path.endswith((".start", ".sh")) else 0o600
            member.size = len(text.encode())
            archive.addfile(member, BytesIO(text.encode()))
        link = TarInfo("etc/runlevels/default/local")
        link.type, link.linkname = SYMTYPE, "/etc/init.d/local"
        archive.addfile(link)
    return {"dacha.apkovl.tar.gz": packed.getvalue()}


def answer_file(answers: Answers) -> str:
    """The variables for setup-alpine (its -c prints an example)."""
    setup, facts = answers.setup, answers.facts
    interfaces = ["auto lo", "iface lo inet loopback"]
    for n, a in enumerate(facts["adapters"]):
        interfaces += ["", f"auto eth{n}"]
        if a["address"]:
            interfaces += [f"iface eth{n} inet static", f"\taddress {a['address']}"]
            interfaces += [f"\tgateway {a['gateway']}"] if a["gateway"] else []
        else:
            interfaces += [f"iface eth{n} inet dhcp"]
        if a["address6"]:
            interfaces += [f"iface eth{n} inet6 static", f"\taddress {a['address6']}"]
            interfaces += [f"\tgateway {a['gateway6']}"] if a["gateway6"] else []
    servers = list(dict.fromkeys(s for a in facts["adapters"] for s in a["name_servers"]))
    layout = setup["keyboard"] or "us"
    values = {
        "KEYMAPOPTS": f"{layout} {layout}",
        "HOSTNAMEOPTS": f"-n {facts['host_name']}",
        "INTERFACESOPTS": "\n".join([*interfaces, ""]),
        "DNSOPTS": f"-d {answers.domain} {' '.join(servers)}".rstrip(),
        "TIMEZONEOPTS": f"-z {setup['time_zone'] or 'UTC'}",
        "PROXYOPTS": answers.proxy or "none",
        "APKREPOSOPTS": answers.mirror or "-1",
        "SSHDOPTS": "-c openssh",
        "NTPOPTS": "-c busybox",
        "DISKOPTS": f"-m sys {answers.disk}",
        "LBUOPTS": "none",
        "APKCACHEOPTS": "none",
        "USEROPTS": "none",
    }
    return "".join(f"{key}={shlex.quote(value)}\n" for key, value in values.items())
