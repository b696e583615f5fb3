"""The processes beside a guest (shared folders, TPM), attacked from inside it and from its QEMU's place."""

from __future__ import annotations

import os
import stat
import subprocess
from pathlib import Path

import pytest

from dacha.host.facts import program
from tests.attacks.field import MOST_MIB, memory_of, on_console
from tests.attacks.report import Report
from tests.attacks.test_processes import processes
from tests.conftest import Lab
from tests.networks.test_smb import Smb, shared  # noqa: F401
from tests.networks.world import HostedLab, until

OWNER = 4321
LAB = """\
[lab]
name = "siege"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "host", port = 2293 }
share.tides = { folder = "tides", at = "/srv/tides" }
share.charts = { folder = "charts", at = "/srv/charts", read-only = true }
[guest.vault]
memory = "64 MiB"
tpm = true
disk = [{ size = "1 MiB" }]
"""
# Says anything to the sockets of its arguments.
SAYS = """
import os, socket, sys
for path in sys.argv[1:]:
    for n in range(20):
        s = socket.socket(socket.AF_UNIX); s.settimeout(0.1)
        try:
            s.connect(path); s.sendall(os.urandom(4096)); s.recv(4096)
        except OSError: pass
"""
# What root in the guest tries on a folder of this host: each prints its name if it worked.
IN_FOLDER = {
    "a device of this host": "mknod /srv/tides/disk b 254 0 && echo wor''ked",
    "a file of this host's root": "touch /srv/tides/root && chown 0:0 /srv/tides/root && ls -n /srv/tides/root | "
                                  "grep -q ' 0 *0 ' && echo wor''ked",
    "a read-only folder: a file": "touch /srv/charts/x && echo wor''ked",
    "a read-only folder: mounted anew": "mount -o remount,rw /srv/charts; touch /srv/charts/x && echo wor''ked",
    "a read-only folder: other rights": "chmod 777 /srv/charts/pier.txt && echo wor''ked",
    "the folder above": "ls /srv/tides/../tides/../charts/../../srv/tides/../../lab.toml && echo wor''ked",
    "a hard link to a read-only file": "ln /srv/charts/pier.txt /srv/tides/pier && echo wor''ked",
}  # fmt: skip


def test_root_in_a_guest_stays_in_the_folders_it_was_given(guest_lab: Lab) -> None:
    lab, report = guest_lab, Report()
    tides, charts = lab.folder / "tides", lab.folder / "charts"
    for folder in (tides, charts):
        folder.mkdir()
        os.chown(folder, OWNER, OWNER)
    (charts / "pier.txt").write_text("low water\n")
    secret = lab.folder / "secret"
    secret.write_text("of this host\n")
    secret.chmod(0o600)
    lab.write(LAB)
    lab("apply", timeout=240)
    run = Path(lab.env["DACHA_RUN"]) / "siege/gauge"
    for what, command in IN_FOLDER.items():
        said = on_console(run, f"({command}) 2>/dev/null")
        report.shut(what, "worked" if "worked" in said else "")
    # Links that lead out are the guest's own to follow.
    on_console(run, f"ln -s {secret} /srv/tides/way; cp /bin/busybox /srv/tides/tool; chmod 6755 /srv/tides/tool")
    said = on_console(run, "cat /srv/tides/way")
    report.shut("a file of this host, by a link", "of this host" in said)
    made = [p.lstat() for p in tides.rglob("*")]
    report.shut("files of somebody else here", [m.st_uid for m in made if m.st_uid != OWNER])
    kinds = {stat.S_IFMT(m.st_mode) for m in made} - {stat.S_IFREG, stat.S_IFDIR, stat.S_IFLNK}
    report.shut("something that is neither file, folder nor link here", [oct(k) for k in kinds])
    report.open("the folder", "low water" in on_console(run, "cat /srv/charts/pier.txt"))
    _garbage_from_the_guests_process(lab, run, report)
    report.judge()


def _garbage_from_the_guests_process(lab: Lab, run: Path, report: Report) -> None:
    """A QEMU that was taken over says anything to what serves its folders and plays its TPM: the guest loses them, this
    host nothing, and the next start has them again."""
    for guest in ("gauge", "vault"):
        uid = str(Path(f"/proc/{lab.pid(guest)}").stat().st_uid)
        names = [p for p in (run.parent / guest).iterdir() if p.is_socket() and p.name.startswith(("tpm", "share"))]
        assert names
        subprocess.run(
            ["setpriv", "--reuid", uid, "--regid", uid, "--clear-groups", "--bounding-set=-all", "--inh-caps=-all",
             "/usr/bin/python3", "-I", "-c", SAYS, *names],
            cwd="/", check=True, timeout=120,
        )  # fmt: skip
    report.shut("memory of a process after garbage", [f"{m} MiB" for m in memory_of().values() if m > MOST_MIB])
    lab("restart", "--all", "--force", "--wait", "0s", timeout=240)
    lab("apply", timeout=240)
    report.open("its folders after the next start", "low" in on_console(run, "cat /srv/charts/pier.txt"))
    report.open("its TPM after the next start", "swtpm of vault" in processes(lab))


GARBAGE = """
import os, random, socket, struct, sys
dice = random.Random(7)
negotiate = bytes.fromhex("fe534d4240000000000000000000010000000000000000000000000000000000"
    "00000000000000000000000000000000000000000000000000000000000000002400050001000000"
    "7f000000" + "11" * 16 + "7000000002000000" + "02021002000302031103")
held = []
for n in range({count}):
    s = socket.socket(); s.settimeout(0.3)
    try:
        s.connect(("10.77.4.1", 445))
        data = bytearray(negotiate)
        for _ in range(dice.randrange(6)): data[dice.randrange(len(data))] = dice.randrange(256)
        body = bytes(data) if n % 3 else os.urandom(3000)
        length = dice.choice((len(body), len(body) * 9, 0xFFFFFF, 0))
        s.sendall(struct.pack(">I", length & 0xFFFFFF) + body)
        if n % 4: s.recv(400); s.close()
        else: held.append(s)
    except OSError: pass
print(len(held), flush=True)
sys.stdin.read()
"""


@pytest.mark.whole
@pytest.mark.skipif(program("smbd") is None, reason="samba is not installed here")
def test_a_guest_that_says_anything_to_its_folders_by_smb_has_them_afterwards(shared: HostedLab) -> None:  # noqa: F811
    smb, report = Smb(shared), Report()
    words = smb.client.inside("/usr/bin/python3", "-I", "-c", GARBAGE.format(count=60))
    with subprocess.Popen(words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True) as attacker:
        assert attacker.stdout and attacker.stdout.readline().strip().isdigit()
        report.shut("memory of a process", [f"{m:.0f} MiB" for m in memory_of().values() if m > MOST_MIB])
        report.shut("servers without end", (n := _servers(shared)) > 40 and n)
        attacker.kill()
    until(lambda: _servers(shared) == 0)
    # A guest that connected all the time waits for a moment.
    report.open("the folders afterwards", until(lambda: "blocks available" in smb.ask("tides", "ls")))
    report.judge()


def _servers(lab: HostedLab) -> int:
    found = 0
    for process in Path("/proc").glob("[0-9]*"):
        try:
            words = (process / "cmdline").read_bytes()
        except OSError:
            continue
        found += b"smb_server" in words and str(lab.folder).encode() in words
    return found
