"""A setup that is changed at random in a running Debian guest: it ends as it began."""

import random
import shlex
import subprocess
from pathlib import Path

import pytest

from tests.conftest import Lab
from tests.inside.scratch_root import ScratchRoot

HERE = Path(__file__).parent
MADE = Path("/var/tmp/dacha-debian")
LAB = """\
[lab]
name = "drawn"
[network.pier]
kind = "nat"
[guest.gauge]
system = "debian"
memory = "512 MiB"
boot = { kernel = "debian/vmlinuz", initrd = "debian/initrd.img", command-line = "root=LABEL=root rw console=ttyS0" }
disk = [{ from = "debian/disk.qcow2", size = "4 GiB" }]
adapter = [{ network = "pier" }]
login = { user = "ops", keys = ["id.pub"] }
door.ssh = { from = "host" }
"""
# What a setup is drawn from: the lists of several are joined.
CHOICES = {
    "packages": ['"tide-view"', '"tide-tools"', '"anchor"'],
    "user": ['{ name = "mara", groups = ["tides"] }', '{ name = "jo", keys = ["id.pub"], shell = "/bin/sh" }'],
    "file": [
        '{ path = "/etc/motd", text = "one\\n" }', '{ path = "/srv/tides/today", text = "4.2\\n", owner = "ops" }',
        '{ path = "/etc/systemd/system/lamp.service", text = "[Service]\\nExecStart=/bin/sleep 1d\\n[Install]\\n'
        'WantedBy=multi-user.target\\n" }',
    ],
}  # fmt: skip
LOOK = """\
export LC_ALL=C; cd /
find etc home srv root usr/local -xdev ! -type d | grep -vE '^etc/([a-z]+-$|[.]pwd|apt/|ld.so.cache)|bash_history' |
  sort | while read -r f; do
    if [ -L "$f" ]; then echo "$f $(readlink "$f")"; else echo "$f $(stat -c '%a %U %G' "$f") $(cksum < "$f")"; fi; done
dpkg-query -W; apt-mark showmanual; cat etc/passwd etc/group etc/shadow
systemctl list-unit-files --state=enabled --no-legend; ls /var/lib/dacha-setup 2>&1; cat etc/localtime | cksum
"""
PACKAGES = {
    "tide-lib": "", "tide-data": "tide-lib", "tide-tools": "tide-lib", "tide-view": "tide-tools, tide-data", "mast": "",
    "anchor": "mast",
}  # fmt: skip


@pytest.mark.whole
def test_a_drawn_setup_comes_and_goes_in_a_debian_guest(lab: Lab, tmp_path: Path) -> None:
    subprocess.run([HERE.parent.parent / "tools/debian-guest.sh", MADE, "bookworm"], check=True, timeout=900)
    (lab.folder / "debian").symlink_to(MADE)
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", lab.folder / "id"], check=True)
    archive = ScratchRoot(tmp_path / "scratch")
    archive.archive(PACKAGES)
    lab.write(LAB)
    lab("apply", "--wait", "15min", timeout=1000)
    lab("connect", "gauge", "--copy", str(tmp_path / "scratch/upper/archive"), ":/tmp/archive", timeout=600)
    root(lab, "mv /tmp/archive /opt/archive; rm -f /etc/apt/sources.list.d/*; "
              "echo 'deb [trusted=yes] file:/opt/archive ./' > /etc/apt/sources.list; apt-get -qq update")  # fmt: skip
    before = root(lab, LOOK)
    drawn = random.Random(34)
    for n in range(40):
        setup = {key: drawn.sample(those, drawn.randint(0, len(those))) for key, those in CHOICES.items()}
        lamp = any("lamp" in f for f in setup["file"])
        parts = [f"{key} = [{', '.join(those)}]" for key, those in setup.items() if those]
        parts += ['services = ["lamp"]'] if lamp and drawn.random() < 0.7 else []
        parts += [f'time-zone = "{drawn.choice(("Europe/London", "Asia/Tokyo"))}"'] if drawn.random() < 0.5 else []
        lines = [line for line in lab.file.read_text().splitlines() if not line.startswith("setup")]
        lab.file.write_text("\n".join([*lines, f"setup = {{ {', '.join(parts)} }}", ""]))
        done = lab("apply", timeout=900)
        print(n, done.out.strip().splitlines()[0][:150])
        assert "nothing to do" in lab("apply", timeout=300).out
        look = root(
            lab, "dpkg-query -W -f '${Package}\\n' 2>&1; id mara; id jo; cat /etc/motd; systemctl is-active lamp"
        )
        assert ("anchor\n" in look) == ('"anchor"' in setup["packages"]) == ("mast\n" in look)
        assert ("(jo)" in look) == any("jo" in u for u in setup["user"])
        assert ("\nactive" in look) == any("services" in p for p in parts)
    lines = [line for line in lab.file.read_text().splitlines() if not line.startswith("setup")]
    lab.file.write_text("\n".join([*lines, ""]))
    lab("apply", timeout=900)
    after = root(lab, LOOK)
    assert set(after.splitlines()) ^ set(before.splitlines()) == set()


def root(lab: Lab, script: str) -> str:
    command = f"sudo sh -c {shlex.quote(script)} 2>&1"
    return lab("connect", "gauge", "--", command, code=None, timeout=600).out
