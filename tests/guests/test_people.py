"""People with real guests: let in while a guest runs, shut out again, each by what they were handed."""

from __future__ import annotations

import subprocess
import time
import zipfile
from pathlib import Path

import pytest

from dacha.formats.openssh import key_pair
from tests.conftest import Lab
from tests.guests.test_handout import as_root_with

GAUGE = (
    '[lab]\nname = "saltmarsh"\n[network.pier]\nkind = "nat"\n'
    '[guest.gauge]\n@BOOT@\nadapter = [{ network = "pier" }]\ndoor.ssh = { from = "host", port = 2246 }\n'
)
LAB = GAUGE + (
    '[guest.charts]\n@BOOT@\nadapter = [{ network = "pier" }]\ndoor.ssh = { from = "host", port = 2247 }\n'
    'door.web = { service = "http", from = "host" }\n'
)


def make_key(folder: Path, name: str) -> Path:
    private, public = key_pair(name[0].encode() * 32, f"{name}@pier")
    (folder / f"{name}.pub").write_text(public)
    (folder / name).write_text(private)
    (folder / name).chmod(0o600)
    return folder / name


def gets_in(key: Path, port: int, user: str = "ops") -> bool:
    options = ["-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"]
    argv = ["ssh", "-F", "none", "-o", "BatchMode=yes", *options, "-i", str(key), "-p", str(port), f"{user}@127.0.0.1"]
    done = subprocess.run([*argv, "true"], capture_output=True, text=True, timeout=120, check=False)
    assert done.returncode == 0 or "Permission denied" in done.stderr, done
    return done.returncode == 0


def test_people_come_and_go_while_guests_run(guest_lab: Lab, tmp_path: Path) -> None:
    lab = guest_lab
    lab.write(LAB)
    lab("apply", timeout=400)
    mara, jo = make_key(lab.folder, "mara"), make_key(lab.folder, "jo")
    said = lab(
        "person", "add", "mara", "--key", "mara.pub", "--enter", "gauge", "--enter", "charts web", "--from", "host"
    )
    assert "enters gauge, charts web from this host, 1 key" in said.out
    lab("person", "add", "jo", "--key", "jo.pub", "--enter", "all", "--from", "host")
    assert not gets_in(mara, 2246)
    assert "keys: add mara@pier, jo@pier to ops" in lab("diff").out
    said = lab("apply")
    assert "added mara@pier, jo@pier to ops" in said.out and "first-boot data" not in said.out + lab("diff").out
    assert gets_in(mara, 2246) and gets_in(jo, 2246) and gets_in(jo, 2247)
    assert not gets_in(mara, 2247), "by its page alone she may not log in there"
    reach = lab("reach", "--for", "mara", "--json").json
    assert [(r["guest"], r["service"]) for r in reach["services"]] == [("gauge", "ssh"), ("charts", "http")]
    assert reach["places"] == ["host"] and reach["person"] == "mara"

    # She leaves: within seconds her key opens nothing, and nobody else is disturbed.
    assert "still open gauge" in lab("person", "remove", "mara").out
    began = time.monotonic()
    assert "removed mara@pier from ops" in lab("apply").out
    assert not gets_in(mara, 2246) and gets_in(jo, 2246) and gets_in(jo, 2247)
    print(f"shut out after {time.monotonic() - began:.1f} s")
    assert lab("apply", "--no-wait").out.strip().endswith("nothing to do, everything applied")

    # One that is off is told so, and it goes by what the lab says then; who logs in can be changed in the same way.
    lab("stop", "charts", "--force", "--wait", "0s")
    said = lab("person", "remove", "jo").out
    assert "still open gauge" in said and "keys are removed at its next start: charts" in said
    lab("apply")
    lab("start", "charts", timeout=400)
    assert not gets_in(jo, 2247) and not gets_in(jo, 2246) and gets_in(lab.folder / "id", 2247)
    inside = lab("connect", "charts", "--", "cat", ".ssh/authorized_keys").out
    assert inside.split()[1] == (lab.folder / "id.pub").read_text().split()[1] and inside.count("\n") == 1
    # A guest that cannot be queried is named, and nothing is forgotten.
    lab("person", "add", "mara", "--key", "mara.pub", "--enter", "gauge", "--from", "host")
    lab("pause", "gauge")
    assert "so it does not respond" in lab("apply", code=3).err
    lab("resume", "gauge")
    assert "added mara@pier to ops" in lab("apply").out

    handed(lab, tmp_path)


def handed(lab: Lab, tmp_path: Path) -> None:
    """A new key in a handout opens what it should, with OpenSSH and with PuTTY, and is said to be there."""
    lab("person", "add", "kim", "--enter", "gauge", "--from", "host")
    done = lab("handout", "--for", "kim", "--with-key", "--no-passphrase", "--output", "kim")
    assert "A new private key for kim is in kim" in done.err and "from this host" in done.out
    assert "added kim@saltmarsh to ops" in lab("apply").out
    folder = lab.folder / "kim"
    assert (folder / "saltmarsh/kim").stat().st_mode & 0o777 == (folder / "kim.ppk").stat().st_mode & 0o777 == 0o600
    ssh = tmp_path / "ssh"
    ssh.mkdir()
    subprocess.run(["cp", "-r", folder / "saltmarsh", ssh], check=True)
    (ssh / "config").write_text("Include saltmarsh/config\n")
    found = as_root_with(ssh, "/root", ["ssh", "-o", "StrictHostKeyChecking=yes", "gauge", "hostname"])
    assert found.stdout == "gauge\n", found
    plink = ["plink", "-batch", "-P", "2246", "-l", "ops", "-i", str(folder / "kim.ppk")]
    fingerprint = lab("handout", "--for", "kim", "--output", "again", "--json").json["ways"][0]["fingerprint"]
    found = subprocess.run([*plink, "-hostkey", fingerprint, "127.0.0.1", "hostname"], capture_output=True, text=True,
                           timeout=120, check=False)  # fmt: skip
    assert found.stdout == "gauge\n", found
    # Made again without it, no private key stays; in an archive there is none either.
    lab("handout", "--for", "kim", "--output", "kim")
    assert not any(b"PRIVATE" in p.read_bytes() or p.suffix == ".ppk" for p in folder.rglob("*") if p.is_file())
    lab("handout", "--for", "kim", "--output", "kim.zip")
    with zipfile.ZipFile(lab.folder / "kim.zip") as archive:
        assert {n for n in archive.namelist() if n.startswith("kim/saltmarsh/")} == {
            "kim/saltmarsh/config", "kim/saltmarsh/known_hosts"
        }  # fmt: skip
    (lab.folder / "other.zip").write_text("no archive")
    assert "is not a handout" in lab("handout", "--for", "kim", "--output", "other.zip", code=2).err


def test_what_is_asked_wrongly_of_people_is_refused_and_changes_nothing(lab: Lab) -> None:
    lab("new", "saltmarsh")
    lab("guest", "add", "gauge", "--kernel", "x", "--anyway", "--door", "ssh", "--user", "ops")
    key = make_key(lab.folder, "mara")
    text = lab.file.read_text()
    for words, said in (
        (["person", "add", "mara", "--key", "mara"], "this is a private key"),
        (["person", "add", "mara", "--key", "no.pub"], "no key file"),
        (["person", "add", "mara", "--enter", "gaug"], "did you mean gauge"),
        (["person", "add", "mara", "--enter", "gauge rdp"], "gauge has no door rdp"),
        (["person", "add", "Mara"], "is not a valid name"),
        (["person", "edit", "mara", "--from", "lan"], "no person mara"),
        (["handout", "--for", "mara"], "no person mara"),
        (["handout"], "the location of the recipient is not specified"),
        (["handout", "--from", "host", "--with-key"], "a private key requires a person"),
        (["reach", "--for", "mara"], "no person mara"),
    ):
        assert said in lab(*words, code=2).err, words
        assert lab.file.read_text() == text
    lab("person", "add", "mara", "--key", "mara.pub", "--enter", "gauge ssh", "--from", "host")
    assert "no changes specified" in lab("person", "edit", "mara", code=2).err
    assert "does not enter charts" in lab("person", "edit", "mara", "--not-enter", "charts", code=2).err
    assert "from this host only" in lab("handout", "--for", "mara", "--from", "lan", code=1).err
    shown = lab("person", "show", "mara", "--json").json
    assert shown["enters"] == [{"guest": "gauge", "door": "ssh"}] and shown["in"] == {}
    assert shown["ways"][0]["address"] == "127.0.0.1" and shown["fingerprints"]["mara.pub"].startswith("SHA256:")
    lab("person", "edit", "mara", "--enter", "all", "--not-key", "mara.pub")
    assert "mara    this host  all guests  who logs in  none" in lab("person", "list").out
    assert "enters all guests" in lab("person", "edit", "mara", "--not-enter", "gauge", code=2).err
    lab("person", "edit", "mara", "--enter", "gauge ssh", "--unset", "enters")
    # A door that goes is entered by nobody any more; a guest likewise.
    lab("door", "remove", "gauge", "ssh")
    assert lab("person", "list", "--json").json["people"][0]["enters"] == []
    # A key that is lost later is a finding with its line, and apply does not go by half of what it should.
    lab("person", "edit", "mara", "--key", "mara.pub", "--enter", "gauge")
    key.with_suffix(".pub").unlink()
    found = [f for f in lab("check", "--json", code=1).json["findings"] if f["code"] == "key-file"]
    assert found and found[0]["subject"] == "person mara" and found[0]["line"]
    assert "no key file" in lab("apply", "--no-wait", code=3).err


@pytest.mark.whole
def test_files_are_copied_both_ways(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(GAUGE)
    lab("apply", timeout=400)
    tides = lab.folder / "tides"
    (tides / "may").mkdir(parents=True)
    for n in range(20):
        (tides / "may" / f"{n}.csv").write_bytes(bytes([n]) * 5000)
    odd = lab.folder / 'odd "name" [1]*.txt'
    odd.write_text("low tide\n")
    lab("connect", "gauge", "--copy", "tides", ":tides", timeout=300)
    lab("connect", "gauge", "--copy", str(odd), ":odd.txt", timeout=300)
    assert lab("connect", "gauge", "--", "cat odd.txt; ls tides/may | wc -l", timeout=300).out == "low tide\n20\n"
    lab("connect", "gauge", "--copy", ":tides", "back", timeout=300)
    assert {p.name: p.read_bytes() for p in (lab.folder / "back/may").iterdir()} == {
        p.name: p.read_bytes() for p in (tides / "may").iterdir()
    }
    # One that was broken off is gone on with, and one that is not there is said.
    (lab.folder / "half").write_bytes(b"low")
    lab("connect", "gauge", "--copy", ":odd.txt", "half", "--resume", timeout=300)
    assert (lab.folder / "half").read_text() == "low tide\n"
    lab("connect", "gauge", "--", "printf low > part.txt", timeout=300)
    lab("connect", "gauge", "--copy", str(odd), ":part.txt", "--resume", timeout=300)
    lab("connect", "gauge", "--copy", str(odd), ":new.txt", "--resume", timeout=300)
    assert lab("connect", "gauge", "--", "cat part.txt new.txt", timeout=300).out == "low tide\nlow tide\n"
    # Without that word nothing of another file stays: one that was shorter is not the beginning of this one.
    (lab.folder / "half").write_bytes(b"old")
    lab("connect", "gauge", "--copy", ":odd.txt", "half", timeout=300)
    lab("connect", "gauge", "--", "printf old > part.txt", timeout=300)
    lab("connect", "gauge", "--copy", str(odd), ":part.txt", timeout=300)
    assert (lab.folder / "half").read_text() == "low tide\n"
    assert lab("connect", "gauge", "--", "cat part.txt", timeout=300).out == "low tide\n"
    assert "the copy is incomplete" in lab("connect", "gauge", "--copy", ":none", "x", code=1, timeout=300).err
    for words, said in (
        (["--copy", "tides", "elsewhere"], "with a colon"), (["--copy", ":a", ":b"], "with a colon"),
        (["--copy", "nothing", ":a"], "nothing does not exist on this host"),
        (["--copy", ":a", "no/where"], "the folder no"),
        (["--copy", "tides", ":a", "--resume"], "--resume does not work for a folder"),
        (["--resume"], "requires --copy"),
        (["--desktop"], "gauge has no rdp door"), (["--copy", "tides", ":a", "--desktop"], "--copy only copies files"),
    ):  # fmt: skip
        assert said in lab("connect", "gauge", *words, code=2).err, words
    lab("door", "add", "gauge", "rdp", "--from", "host", "--port", "3391")
    client = lab.folder / "bin/xfreerdp3"
    client.parent.mkdir()
    client.write_text("#!/bin/sh\n")
    client.chmod(0o755)
    env = {"PATH": f"{client.parent}:{lab.env['PATH']}"}
    shown = lab("connect", "gauge", "--desktop", "--show", env=env).out
    assert shown.startswith(f"{client} /v:127.0.0.1:3391 ") and "/u:ops" in shown


@pytest.mark.whole
def test_the_labs_own_key_is_renewed_while_guests_run_and_nobody_is_shut_out(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(LAB)
    assert "has no key of its own" in lab("key", "renew", code=2).err
    lab("guest", "edit", "gauge", "--make-key")
    lab("guest", "edit", "charts", "--make-key")
    lab("apply", timeout=400)
    old, new = lab.folder / "saltmarsh_key", lab.folder / "saltmarsh_key_2"
    assert gets_in(old, 2246) and gets_in(old, 2247)
    lab("stop", "charts", "--force", "--wait", "0s")

    # A guest that is off keeps the old one, and the lab file names both for it.
    said = lab("key", "renew", code=1)
    assert "it is off, and still has the old key" in said.out and "dacha start charts" in said.out
    assert gets_in(new, 2246) and not gets_in(old, 2246) and gets_in(lab.folder / "id", 2246)
    assert new.stat().st_mode & 0o077 == 0
    text = lab.file.read_text()
    assert text.count('"saltmarsh_key_2.pub"') == 2 and text.count('"saltmarsh_key.pub"') == 1
    # One that cannot be queried, too: nothing is taken from it, and the next time it goes on with the same new one.
    lab("start", "charts", timeout=400)
    lab("pause", "charts")
    said = lab("key", "renew", "--json", code=1)
    assert [(g["guest"], g["state"]) for g in said.json["guests"]] == [("gauge", "renewed"), ("charts", "unreached")]
    lab("resume", "charts")
    said = lab("key", "renew", "--json")
    assert {g["guest"]: g["state"] for g in said.json["guests"]} == {"gauge": "renewed", "charts": "renewed"}
    assert said.json["old"] == ["saltmarsh_key.pub"] and said.json["file"] == f"{new}.pub"
    assert gets_in(new, 2247) and not gets_in(old, 2247) and '"saltmarsh_key.pub"' not in lab.file.read_text()
    shown = lab("key", "show").out
    assert f"{new}.pub" in shown.split("An older one")[0] and "opens no guest of the lab" in shown
    assert lab("apply", "--no-wait").out.strip().endswith("nothing to do, everything applied")
    assert lab("connect", "charts", "--", "hostname").out == "charts\n"
    lab("guest", "add", "harbour", "--kernel", "x", "--anyway", "--make-key")
    assert lab.file.read_text().count("saltmarsh_key_2.pub") == 3


def test_a_key_that_replaces_another_is_added_by_a_login_with_the_other(guest_lab: Lab, tmp_path: Path) -> None:
    """There is no agent in this guest, so nothing but the old key opens it."""
    lab = guest_lab
    lab.write(GAUGE)
    lab("apply", timeout=400)
    new = make_key(tmp_path, "mara")
    text = lab.file.read_text()
    lab.file.write_text(text.replace('"id.pub"', f'"{new}.pub"'))
    said = lab("trace", "gauge", "ssh", code=1).out
    assert "key was not added to gauge yet" in said and "remedy       dacha apply\n" in said
    said = lab("apply").out
    assert "added mara@pier to ops; removed" in said
    assert gets_in(new, 2246) and not gets_in(lab.folder / "id", 2246)
    assert lab("trace", "gauge", "ssh").code == 0
    assert lab("apply", "--no-wait").out.strip().endswith("nothing to do, everything applied")


def session(key: Path, port: int) -> subprocess.Popen[str]:
    """Somebody who is logged in, and stays."""
    options = ["-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=no", "-o", "UserKnownHostsFile=/dev/null"]
    argv = ["ssh", "-F", "none", "-o", "BatchMode=yes", *options, "-i", str(key), "-p", str(port), "ops@127.0.0.1"]
    process = subprocess.Popen([*argv, "echo in; sleep 300"], stdout=subprocess.PIPE, text=True)
    assert process.stdout and process.stdout.readline() == "in\n"
    return process


def strange_keys(lab: Lab) -> list[dict[str, str]]:
    settings = lab("guest", "check", "gauge", "--json", code=None).json["settings"]
    return [s for s in settings if s["name"] == "key in ops"]


def test_leaving_is_complete(guest_lab: Lab) -> None:
    """Her session ends with her key, what she left behind is named, and so is what else may let her in; a door that is
    closed ends what came in by it."""
    lab = guest_lab
    lab.write(GAUGE)
    mara, planted = make_key(lab.folder, "mara"), make_key(lab.folder, "planted")
    lab("person", "add", "mara", "--key", "mara.pub", "--enter", "gauge", "--from", "host")
    lab("apply", timeout=400)
    hers, line = session(mara, 2246), planted.with_suffix(".pub").read_text().strip()
    lab("connect", "gauge", "--", f"echo '{line}' >> .ssh/authorized_keys")
    assert gets_in(planted, 2246)
    said = lab("person", "remove", "mara").out
    assert "a key that they added themselves to ops's authorized_keys" in said and "dacha guest check gauge" in said
    said = lab("apply").out
    assert "removed mara@pier from ops; ended 1 SSH session of ops" in said
    assert "warning: ops is also opened by SHA256:" in said and "(planted@pier)" in said
    assert hers.wait(60) != 0
    # It is named by trace and by the guest's check, with the command that removes it.
    hop = next(h for h in lab("trace", "gauge", "ssh", "--json").json["hops"] if h["name"] == "login")
    assert hop["verdict"] == "warning" and "planted@pier" in hop["seen"] and hop["remedy"] == "dacha guest check gauge"
    (wrong,) = [
        s for s in lab("guest", "check", "gauge", "--json", code=1).json["settings"] if s["name"] == "key in ops"
    ]
    assert gets_in(planted, 2246)
    lab("connect", "gauge", "--", wrong["remedy"])
    assert not gets_in(planted, 2246) and gets_in(lab.folder / "id", 2246)
    assert not any(
        s["name"] == "key in ops" for s in lab("guest", "check", "gauge", "--json", code=None).json["settings"]
    )
    # A door that is closed: QEMU would keep its connection.
    mine = session(lab.folder / "id", 2246)
    lab("door", "remove", "gauge", "ssh")
    assert "door gauge port 2246 closed; ended 1 connection through it" in " ".join(lab("apply").out.split())
    assert mine.wait(60) != 0
