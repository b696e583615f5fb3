"""Another user of this host plants links, folders and files; root goes round none of them."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from dacha.host.files import replace_file
from tests.attacks.report import Report
from tests.conftest import Lab

OTHER = 65533


def planted(lab: Lab, path: Path) -> Path:
    """A folder that somebody else may write to, with the lab's own in it."""
    path.mkdir(mode=0o777)
    path.chmod(0o777)
    return path


def test_root_uses_nothing_that_others_may_change(lab: Lab) -> None:
    report = Report()
    lab("new", "siege")
    victim = lab.folder / "victim"
    victim.write_text("as it was")
    victim.chmod(0o600)
    loose = planted(lab, lab.folder / "loose")
    # The folders of state and of sockets, in a place where another may put his own.
    for name in ("DACHA_STATE", "DACHA_RUN"):
        said = lab("guest", "add", f"g{name[-3:].lower()}", "--disk", "1MiB", code=None)
        said = lab("apply", "--no-wait", code=3, env={name: str(loose / "state")})
        report.open(f"{name} below a folder of others is refused", f"other users can change {loose}" in said.err)
    # A lab file that others may write, or put another in the place of.
    for what, spoil, remedy in (
        ("others may write it", lambda: lab.file.chmod(0o666), lambda: lab.file.chmod(0o644)),
        ("it is another's", lambda: os.chown(lab.file, OTHER, OTHER), lambda: os.chown(lab.file, 0, 0)),
        ("its folder is open", lambda: lab.folder.chmod(0o777), lambda: lab.folder.chmod(0o700)),
    ):
        spoil()
        said = lab("apply", "--no-wait", code=3)
        report.open(f"a lab file, {what}: refused", "Dacha does not use this lab file as root" in said.err)
        remedy()
    os.chown(lab.file, OTHER, OTHER)
    said = lab("check", code=None, env={"SUDO_UID": str(OTHER)})
    report.open("a lab file of whoever called sudo is read", "does not read" not in said.err)
    os.chown(lab.file, 0, 0)
    # Names of temporary files that could be foreseen, taken by links before.
    lab("apply", "--no-wait")
    home = lab.folder / "state/labs/siege"
    for pid in range(os.getpid(), os.getpid() + 3000):
        (home / f".known_hosts.{pid}.part").symlink_to(victim)
    lab("apply", "--no-wait")
    report.shut("a planted temporary name", victim.read_text().replace("as it was", ""))
    for link in home.glob(".*.part"):
        link.unlink()
    (home / "lock").unlink()
    (home / "lock").symlink_to(victim)
    said = lab("apply", "--no-wait", code=3)
    report.shut("a lock that is a link", victim.read_text().replace("as it was", ""))
    report.open("login refused in words", "lock" in said.err)
    (home / "lock").unlink()
    report.judge()


def test_what_is_written_for_somebody_goes_where_it_is_named_and_to_nobody_else(lab: Lab) -> None:
    report = Report()
    lab("new", "siege")
    lab("guest", "add", "gauge", "--disk", "1MiB")
    victim = lab.folder / "victim"
    victim.write_text("as it was")
    sticky = lab.folder / "sticky"
    sticky.mkdir()
    sticky.chmod(0o1777)
    # Another user's link under the name, and on the way to it; a folder in which anybody replaces what is there.
    (sticky / "map.svg").symlink_to(victim)
    os.lchown(sticky / "map.svg", OTHER, OTHER)
    lab("map", "--save", str(sticky / "map.svg"))
    report.shut("a link of another user is followed", victim.read_text().replace("as it was", ""))
    report.open("its name is replaced by the map", (sticky / "map.svg").read_bytes()[:5] in (b"<?xml", b"<svg "))
    (lab.folder / "inner").mkdir()
    (sticky / "way").symlink_to(lab.folder / "inner")
    os.lchown(sticky / "way", OTHER, OTHER)
    said = lab("map", "--save", str(sticky / "way/map.svg"), code=3)
    report.open("a link on the way is refused in words", "symbolic link of another user" in said.err)
    loose = planted(lab, lab.folder / "loose")
    said = lab("map", "--save", str(loose / "map.svg"), code=3)
    report.open("a folder of everybody is refused in words", "every user may replace files" in said.err)
    report.shut("something was written there", os.listdir(loose) + os.listdir(lab.folder / "inner"))
    # A lab file that is kept elsewhere stays a link.
    elsewhere = lab.folder / "kept" / "lab.toml"
    elsewhere.parent.mkdir()
    lab.file.rename(elsewhere)
    lab.file.symlink_to(elsewhere)
    lab("guest", "add", "charts", "--disk", "1MiB")
    report.open("a lab file may be a link", lab.file.is_symlink() and "charts" in elsewhere.read_text())
    report.judge()


def test_a_secret_is_its_writers_alone_whatever_was_there_before(tmp_path: Path) -> None:
    there = tmp_path / "handout.zip"
    there.write_text("for all to read")
    there.chmod(0o666)
    os.chown(there, OTHER, OTHER)
    replace_file(there, b"a private key", mode=0o600)
    seen = there.stat()
    assert (seen.st_mode & 0o777, seen.st_uid) == (0o600, os.geteuid())
    there.chmod(0o640)
    replace_file(there, b"no secret", mode=0o644)
    assert there.stat().st_mode & 0o777 == 0o640


def test_sysctl_names_come_from_a_list(lab: Lab, tmp_path: Path) -> None:
    """The file of remembered settings names a path of its own: it is passed over."""
    victim = tmp_path / "victim"
    victim.write_text("as it was")
    names = (str(victim), "../../etc/x", "net/ipv6/conf/../all/accept_ra", "net/ipv4/ip_forward")
    run = Path(lab.env["DACHA_RUN"])
    run.mkdir(exist_ok=True, mode=0o700)
    (run / f"sysctls-{Path('/proc/self/ns/net').stat().st_ino}.json").write_text(json.dumps(dict.fromkeys(names, "1")))
    code = "from dacha.host.network import sysctls; print(sorted(sysctls.remembered()))"
    done = subprocess.run([sys.executable, "-c", code], env=lab.env, capture_output=True, text=True, check=True)
    assert done.stdout == "['net/ipv4/ip_forward']\n"
    assert victim.read_text() == "as it was"


def test_roots_folders_are_the_same_from_every_shell(tmp_path: Path) -> None:
    """A run folder of somebody else's session is not root's; an older state folder is taken over, with a word."""
    home, roots = tmp_path / "root", tmp_path / "var-lib-dacha"
    old = home / ".local/state/dacha"
    (old / "labs/pier/guests/gauge").mkdir(parents=True)
    disk = old / "labs/pier/guests/gauge/disk-0.qcow2"
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", "-o", "size=1M", disk], check=True)
    code = (
        "from pathlib import Path\nfrom dacha.host import folders\n"
        f"folders.ROOTS_STATE = Path({str(roots)!r}); folders.ROOTS_RUN = Path({str(tmp_path / 'run')!r})\n"
        "print(folders.take_over()); print(folders.take_over()); print(folders.state(), folders.run())\n"
    )
    env = {"PATH": os.environ["PATH"], "HOME": str(home), "XDG_RUNTIME_DIR": f"/run/user/{OTHER}"}
    done = subprocess.run([sys.executable, "-c", code], env=env, capture_output=True, text=True, check=True)
    first, second, places = done.stdout.splitlines()
    assert first == f"root's labs were moved to {roots}; {old} is now a link to it" and second == "None"
    assert places == f"{roots} {tmp_path / 'run'}"
    # By its old name, which other disks may have written down, a disk is found as before.
    assert disk.read_bytes()[:4] == b"QFI\xfb" and (roots / "labs/pier/guests/gauge/disk-0.qcow2").is_file()


@pytest.mark.parametrize("range_", ["70000", "5-9", "80000-70000"])
def test_a_wrong_range_of_users_is_one_message(lab: Lab, range_: str) -> None:
    lab("new", "siege")
    lab("guest", "add", "gauge", "--disk", "1MiB")
    said = lab("apply", "--no-wait", code=None, env={"DACHA_USERS": range_, "DACHA_SHARED": str(lab.folder / "own")})
    assert said.code != 0 and f"DACHA_USERS is not a range: {range_}" in said.out + said.err


def test_a_range_without_a_free_user_is_one_message(lab: Lab) -> None:
    lab("new", "siege")
    lab("guest", "add", "gauge", "--disk", "1MiB")
    places = {"DACHA_USERS": "65534-65534", "DACHA_SHARED": str(lab.folder / "own")}
    said = lab("apply", "--no-wait", code=None, env=places)
    assert "no user ID is free for a guest: all of 65534-65534 are in use" in said.out + said.err
