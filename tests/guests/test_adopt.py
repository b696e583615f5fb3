"""Taking over a machine that others made: its own account and password, its own host key, a static address."""

import subprocess
import time
from pathlib import Path

import pytest

from dacha.demo.installer_image import installed_disk
from tests.attacks.field import on_console
from tests.conftest import PROGRAM, Lab

LAB = """\
[lab]
name = "adopting"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.desk]
@BOOT@
first-boot = false
adapter = [{ network = "pier", address = "10.77.4.31" }]
door.ssh = { from = "host" }
"""
# Nobody of the lab made this account, and the network is set by hand.
MADE_BY_OTHERS = (
    "echo \"kim:$(mkpasswd -m sha512 'tide table'):1000:1000:kim:/home/kim:/bin/sh\" >> /etc/passwd; "
    "mkdir -p /home/kim; echo readings > /home/kim/notes; chown -R 1000:1000 /home/kim; "
    "ip link set eth0 up; ip addr add 10.77.4.31/24 dev eth0; ip route add default via 10.77.4.1; "
    "dropbear -R -E 2>/dev/null"
)


def on(lab: Lab, command: str) -> str:
    return on_console(Path(lab.env["DACHA_RUN"]) / "adopting/desk", command, 120)


def password(lab: Lab, text: str) -> object:
    path = lab.folder / "typed"
    path.write_text(text + "\n")
    stream = path.open()
    path.unlink()
    return stream


def test_a_machine_is_taken_over_with_one_password_and_nothing_else_in_it_changes(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    lab("apply", "--no-wait")
    end = time.monotonic() + 120
    while "/ #" not in (lab.guest_folder("desk") / "console.log").read_text(errors="replace"):
        assert time.monotonic() < end
        time.sleep(0.2)
    on(lab, MADE_BY_OTHERS)
    before = on(lab, "md5sum /etc/passwd /home/kim/notes; ls -la /home/kim")
    # Its host key is shown first; nothing is sent to a machine that somebody does not trust.
    said = lab("guest", "adopt", "desk", "--user", "kim", code=2, stdin=password(lab, "tide table"))
    key = next(word for word in said.err.split() if word.startswith("SHA256:"))
    assert "--host-key SHA256:" in said.err
    wrong = lab("guest", "adopt", "desk", "--user", "kim", "--host-key", "SHA256:other", code=2)
    assert "another host key" in wrong.err and key in wrong.err
    trusted = ("--user", "kim", "--host-key", key)
    text = lab.file.read_text()
    refused = lab("guest", "adopt", "desk", *trusted, code=1, stdin=password(lab, "wrong"))
    assert "refuses kim with this password" in refused.err
    assert on(lab, "md5sum /etc/passwd /home/kim/notes; ls -la /home/kim") == before
    assert lab.file.read_text() == text
    assert lab.guest_folder("desk").joinpath("guest.json").read_text().count('"accepted_key": null') == 1

    said = lab("guest", "adopt", "desk", *trusted, stdin=password(lab, "tide table"))
    assert "kim: added 1 key; created /home/kim/.ssh" in said.out and "trusted from now on" in said.out
    assert "10.77.4.31/24" in said.out or "address" not in said.out  # as far as its ip tells
    assert lab("connect", "desk", "--", "id -un; cat notes").out == "kim\nreadings\n"
    assert "fine" in lab("trace", "desk", "ssh").out
    # The same once more changes nothing, and needs no lab that was made anew.
    again = lab("guest", "adopt", "desk", *trusted, "--json", stdin=password(lab, "tide table")).json
    assert again["new"] == 0 and again["answers"] is True and again["user"] == "kim"
    assert on(lab, "wc -l < /home/kim/.ssh/authorized_keys").strip() == "1"
    assert "md5sum" not in before and before.splitlines()[0] in on(lab, "md5sum /etc/passwd /home/kim/notes")
    # The password is nowhere on this host.
    for path in lab.folder.rglob("*"):
        if path.is_file() and path.name != "console.log":
            assert b"tide table" not in path.read_bytes(), path
    assert not list(Path(lab.env["DACHA_RUN"]).glob("adopt-*"))


def test_what_cannot_be_adopted_is_one_message(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB.replace("first-boot = false\n", ""))
    assert "needs no adoption" in lab("guest", "adopt", "desk", "--user", "kim", code=2).err
    lab.write(LAB)
    assert "desk is off" in lab("guest", "adopt", "desk", "--user", "kim", code=1).err
    lab.write(LAB.replace('door.ssh = { from = "host" }\n', ""))
    assert "has no ssh door" in lab("guest", "adopt", "desk", "--user", "kim", code=None).err
    assert "--user USER" in lab("guest", "adopt", "new", "--from", "x.qcow2", code=2).err
    assert "no guest none" in lab("guest", "adopt", "none", "--user", "kim", code=2).err


@pytest.mark.whole
def test_a_disk_that_exists_is_taken_over_by_one_command(lab: Lab, tmp_path: Path) -> None:
    """While the command waits for its SSH server, the machine is set up as others would have it."""
    disk = installed_disk(tmp_path, "grub-mkrescue")
    subprocess.run(["qemu-img", "convert", "-O", "qcow2", disk, lab.folder / "desk.qcow2"], check=True)
    lab.write('[lab]\nname = "adopting"\n[network.pier]\nkind = "nat"\nsubnet = "10.77.4.0/24"\n')
    words = ["guest", "adopt", "desk", "--from", "desk.qcow2", "--user", "kim", "--memory", "192MiB",
             "--address", "10.77.4.31", "--yes"]  # fmt: skip
    run = subprocess.Popen(
        [PROGRAM, *words], cwd=lab.folder, env=lab.env, text=True,
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    )  # fmt: skip
    try:
        end, record = time.monotonic() + 240, None
        while record is None or "/ #" not in record.read_text(errors="replace"):
            assert time.monotonic() < end and run.poll() is None, run.communicate()
            record = next((lab.folder / "state/labs").glob("*/guests/desk/console.log"), None)
            time.sleep(0.3)
        on(lab, MADE_BY_OTHERS)
        out, err = run.communicate("tide table\n", timeout=240)
    finally:
        run.kill()
    assert run.returncode == 0, (out, err)
    assert "kim: added 1 key" in out and "Next: dacha connect desk" in out
    assert "first-boot = false" in lab.file.read_text() and 'user = "kim"' in lab.file.read_text()
    assert lab("connect", "desk", "--", "cat notes").out == "readings\n"
