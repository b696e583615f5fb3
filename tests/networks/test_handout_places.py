"""What is handed out for each place, with real clients there: on a machine of the LAN, and beyond the router."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

from tests.networks.world import HostedLab, begin_router, end_router

LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "outside", port = 2220 }
"""


def clients(lab: HostedLab, machine: str, handed: Path, home: Path) -> list[str]:
    """What OpenSSH and PuTTY say on a machine that has nothing but what was assigned by DHCP, and the private key."""
    ssh = home / ".ssh"
    shutil.copytree(handed / "saltmarsh", ssh / "saltmarsh")
    (ssh / "config").write_text("Include saltmarsh/config\n")
    shutil.copy(lab.folder / "id", ssh / "id")
    # OpenSSH goes by the account's own home folder, whatever HOME says.
    place = 'mount --bind "$0" /root/.ssh && exec "$@"'
    openssh = ["unshare", "-m", "sh", "-c", place, str(ssh), "ssh", "-i", "/root/.ssh/id", "gauge", "hostname"]
    (found,) = re.findall(r'"(ssh-ed25519@[^"]+)"="([^"]+)"', (handed / "putty.reg").read_bytes().decode("utf-16"))
    (home / ".putty").mkdir()
    (home / ".putty/sshhostkeys").write_text(" ".join(found) + "\n")
    port, address = found[0].partition("@")[2].split(":")
    subprocess.run(["puttygen", lab.folder / "id", "-O", "private", "-o", home / "id.ppk"], check=True)
    plink = [
        "env",
        f"HOME={home}",
        "plink",
        "-batch",
        "-P",
        port,
        "-l",
        "ops",
        "-i",
        str(home / "id.ppk"),
        address,
        "hostname",
    ]
    said = []
    for command in (openssh, plink):
        done = subprocess.run(
            lab.world.inside(machine, *command), capture_output=True, text=True, stdin=subprocess.DEVNULL, timeout=90,
            check=False,
        )  # fmt: skip
        said.append(done.stdout or done.stderr)
    return said


def test_clients_on_the_lan_and_outside_get_in_with_what_they_are_handed(hosted: HostedLab, tmp_path: Path) -> None:
    lab = hosted
    Path("/root/.ssh").mkdir(exist_ok=True)
    lab.write(LAB)
    router = begin_router(lab.world)
    try:
        lab("apply", timeout=240)
        for machine, place, address in (("lan", "lan", "192.0.2.10"), ("outside", "outside", "198.51.100.1")):
            lab("handout", "--from", place, "--output", place)
            assert address in (lab.folder / place / "saltmarsh/config").read_text()
            assert clients(lab, machine, lab.folder / place, tmp_path / f"at-{machine}") == ["gauge\n", "gauge\n"]
        # Who is handed the LAN's comes nowhere from outside: the sheet of each says for whom it is.
        assert "192.0.2.10" not in (lab.folder / "outside/saltmarsh/config").read_text()
    finally:
        end_router(router)
