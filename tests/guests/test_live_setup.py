"""A setup that is changed in a running guest; the tiny guest has no package manager and no service manager."""

from pathlib import Path

from tests.attacks.field import on_console
from tests.conftest import Lab

LAB = """\
[lab]
name = "changing"
[network.pier]
kind = "nat"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier" }]
door.ssh = { from = "host" }
"""
# What makes its login an administrator.
ROOT = (
    r"""printf '#!/bin/sh\nshift\nexec busybox su -s /bin/sh -c "$*" root\n' > /usr/bin/sudo; """
    "chmod 4755 /bin/busybox; chmod 755 /usr/bin/sudo; sed -i 's/^root:[*]/root:/' /etc/passwd; "
    # Account tools, which it lacks.
    r"""printf '#!/bin/sh\necho "$4:*:1500:1500::/home/$4:/bin/sh" >> /etc/passwd; mkdir -p /home/$4; """
    r"""chown 1500:1500 /home/$4\n' > /usr/sbin/useradd; """
    r"""printf '#!/bin/sh\nsed -i "/^$1:/d" /etc/passwd\n' > /usr/sbin/userdel; chmod 755 /usr/sbin/user*"""
)


def on(lab: Lab, command: str) -> str:
    return on_console(Path(lab.env["DACHA_RUN"]) / "changing/gauge", command, 120)


def setup(lab: Lab, text: str) -> None:
    """What apply wrote into the file stays."""
    lines = [line for line in lab.file.read_text().splitlines() if not line.startswith("setup")]
    lab.file.write_text("\n".join([*lines, f"setup = {{ {text} }}" if text else "", ""]))


def inside(lab: Lab) -> list[str]:
    return [str(c["what"]) for c in lab("diff", "--json", code=None).json["changes"] if c["change"] == "change-inside"]


def test_a_setup_comes_into_a_running_guest_and_leaves_it_again(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    lab("apply")
    before = on(lab, "cat /etc/passwd /etc/group; ls /etc /home").replace("root:*", "root:")
    motd = 'file = [{ path = "/etc/motd", text = "High water at six." }]'
    user = f'{{ name = "mara", keys = ["{lab.folder}/id.pub"] }}'
    setup(lab, f'{motd}, user = [{user}], run = ["echo wet > /tmp/wet"]')
    assert inside(lab) == ["inside: add user mara, file /etc/motd, command echo wet > /tmp/wet"]
    assert "1 change to apply" in lab("status").out
    # The login of this guest is nobody's root, and it has no agent.
    refused = lab("apply", code=3)
    assert "does not become root without a password" in refused.err
    on(lab, ROOT)
    done = lab("apply")
    assert "inside: changed" in done.out or "inside: added" in done.out
    assert "keys: added" in done.out and "to mara" in done.out
    assert "High water" in on(lab, "cat /etc/motd; id mara; cat /tmp/wet")
    assert lab("connect", "gauge", "--user", "mara", "--", "id -un").out == "mara\n"
    assert "nothing to do" in lab("apply").out and inside(lab) == []
    # A package needs a package manager; what else changed is made all the same.
    setup(lab, 'packages = ["tides"], file = [{ path = "/etc/motd", text = "Low water." }]')
    assert inside(lab)[0].startswith("inside: add package tides; change file /etc/motd; take back user mara, command")
    failed = lab("apply", code=3)
    assert "no known package manager is there" in failed.err and "took back user mara" in failed.out
    assert "what it did is not taken back" in failed.out and "Low water" in on(lab, "cat /etc/motd")
    # A file that is missing is an error, and takes nothing back.
    setup(lab, 'file = [{ path = "/etc/motd", from = "missing.txt" }]')
    assert "no readable file" in lab("apply", code=3).err and "Low water" in on(lab, "cat /etc/motd")
    setup(lab, "")
    lab("apply")
    assert on(lab, "cat /etc/passwd /etc/group; ls /etc /home") == before
    assert "nothing to do" in lab("apply").out


def test_what_the_first_boot_put_there_is_left_and_told(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    setup(lab, 'file = [{ path = "/etc/tides", text = "x" }], packages = ["tmux"]')
    lab("apply", "--wait", "60s")
    assert inside(lab) == []
    on(lab, ROOT)
    setup(lab, 'packages = ["tmux"]')
    done = lab("apply", "--json").json
    (change,) = done["done"]
    assert change["told"] == ["left file /etc/tides: it was there before, or its first boot put it there"]
    assert inside(lab) == []
    # A running guest that is not restarted for it: nothing waits for its next start.
    assert done["waiting"] == [] and done["failed"] == []
