"""From a real Debian guest to a template and to further guests, each with an identity and accounts of its own."""

from __future__ import annotations

import subprocess

import pytest

from tests.conftest import Lab
from tests.guests.test_live_setup_debian import HERE, MADE
from tests.guests.test_live_setup_debian import LAB as PLAIN

LAB = (
    PLAIN.replace("[guest.gauge]", "[guest.base]")
    + """\
[guest.base.setup]
time-servers = ["192.0.2.1"]
user = [{ name = "mara", keys = ["id.pub"], groups = ["tides"] }]
"""
)
WHO = "sudo sh -c 'cat /etc/machine-id; cut -d \" \" -f 2 /etc/ssh/ssh_host_ed25519_key.pub; hostname'"


@pytest.mark.whole
def test_a_template_is_used_for_further_guests(lab: Lab) -> None:
    subprocess.run([HERE.parent.parent / "tools/debian-guest.sh", MADE], check=True, timeout=900)
    (lab.folder / "debian").symlink_to(MADE)
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", lab.folder / "id"], check=True)
    lab.write(LAB)
    lab("apply", "--wait", "15min", code=None, timeout=1000)  # (it has no tools for locales, and says so)
    # The second user enters, and the clock is set by the lab's servers: at the first boot, and after a change.
    assert lab("connect", "base", "--user", "mara", "--", "id -nG", timeout=300).out.split() == ["mara", "tides"]
    clock = "cat /etc/systemd/timesyncd.conf.d/*.conf; systemctl is-active systemd-timesyncd"
    said = lab("connect", "base", "--", clock, timeout=300).out
    assert "192.0.2.1" in said and said.endswith("active\n")
    lab.write(lab.file.read_text().replace("192.0.2.1", "192.0.2.2"))
    assert "time servers" in lab("diff", code=None).out
    lab("apply", timeout=900)
    assert (
        "NTP=192.0.2.2" in lab("connect", "base", "--", "cat /etc/systemd/timesyncd.conf.d/lab.conf", timeout=300).out
    )
    first = lab("connect", "base", "--", WHO, timeout=300).out.split()

    said = lab("media", "add", "--from-guest", "base", "--name", "template", timeout=900).out
    assert "its file systems were frozen" in said and "SSH host keys" in said and "machine identity" in said
    # The guest itself is as before.
    assert lab("connect", "base", "--", WHO, timeout=300).out.split() == first
    options = ("--kernel", "debian/vmlinuz", "--initrd", "debian/initrd.img",
               "--command-line", "root=LABEL=root rw console=ttyS0")  # fmt: skip
    lab("guest", "add", "heron", "--from", "template", "--system", "debian", "--memory", "512MiB", *options,
        "--user", "kim", "--key", "id.pub", "--door", "ssh")  # fmt: skip
    lab("apply", "--wait", "15min", code=None, timeout=1000)
    other = lab("connect", "heron", "--", WHO, timeout=300).out.split()
    assert other[2] == "heron" and other[0] != first[0] and other[1] != first[1]
    # Accounts of the template are there, and nobody enters them.
    look = "sudo sh -c 'id -un mara; cat ~mara/.ssh/authorized_keys 2>&1; passwd -S ops; ls /var/log/journal'"
    said = lab("connect", "heron", "--", look, timeout=300).out
    assert said.startswith("mara\n") and "No such file" in said and "ops L" in said and first[0] not in said
