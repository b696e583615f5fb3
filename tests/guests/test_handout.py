"""A handout in the hands of real clients: byte for byte as it was made, nobody is asked anything."""

import re
import shutil
import subprocess
import time
import zipfile
from pathlib import Path
from typing import Any

import pytest

from dacha.engine.people.new_key import raw_public
from dacha.formats.handout.ppk import ppk
from dacha.formats.handout.putty import cached_key, registry_file
from dacha.formats.handout.rdp import rdp_file
from dacha.formats.handout.sheet import sheet
from dacha.formats.handout.way_in import Shut, WayIn, apart
from dacha.formats.openssh import key_pair
from tests.conftest import Lab

KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOvZ/3SLrZtK2gWxjTNQ5G5R/90b5JjBZC9pDm21YcEl"
WAY = WayIn("gauge", "ssh", "ssh", "192.0.2.10", 2220, "gauge.saltmarsh.internal", "ops", KEY)
LAB = (
    '[lab]\nname = "saltmarsh"\n[network.pier]\nkind = "nat"\n[network.vault]\nkind = "host-only"\n'
    '[guest.gauge]\n@BOOT@\nadapter = [{ network = "pier" }]\n'
    'door.ssh = { from = "host" }\ndoor.tides = { service = "http", from = "lan" }\n'
    '[guest.desk]\n@BOOT@\nadapter = [{ network = "vault" }]\ndoor.rdp = { from = "host" }\n'
)


def as_root_with(folder: Path, home: str, command: list[str]) -> subprocess.CompletedProcess[str]:
    """A command of somebody whose ~/.ssh this folder is."""
    script = 'mkdir -p "$0" && mount --bind "$1" "$0" && shift && exec "$@"'
    return subprocess.run(["unshare", "-m", "sh", "-c", script, f"{home}/.ssh", folder, *command], capture_output=True,
                          text=True, stdin=subprocess.DEVNULL, timeout=60, check=False)  # fmt: skip


def test_clients_get_in_with_what_they_are_handed(guest_lab: Lab, tmp_path: Path) -> None:
    lab = guest_lab
    lab.write(LAB)
    lab("apply", "--no-wait")
    said = lab("handout", "gauge", "--from", "host", "--output", "out").out
    assert "as ops" in said and "Next: give them the folder" in said
    out = lab.folder / "out"
    # Nobody waited for its door: until its server listens, QEMU's forward ends what comes.
    deadline = time.monotonic() + 240
    while lab("connect", "gauge", "--", "true", code=None, timeout=240).code:
        assert time.monotonic() < deadline
        time.sleep(0.5)
    # This guest has no agent: it is by a login, and what it does not tell is not known.
    checked = lab("guest", "check", "gauge", code=None)
    assert "by a login" in checked.out and "it did not report its settings" in checked.out

    # Who logs in is nobody's administrator there: it keeps its host key, and so does the lab.
    known = (lab.folder / "state/labs/saltmarsh/known_hosts").read_text()
    refused = lab("guest", "host-key", "gauge", "--renew", code=1)
    assert "did not accept a new host key" in refused.err and "by a login" in refused.err
    assert (lab.folder / "state/labs/saltmarsh/known_hosts").read_text() == known

    # OpenSSH, as the sheet says: the folder into ~/.ssh, one line into its configuration.
    ssh = tmp_path / "ssh"
    shutil.copytree(out / "saltmarsh", ssh / "saltmarsh")
    (ssh / "config").write_text("Include saltmarsh/config\n")
    shutil.copy(lab.folder / "id", ssh / "id")
    done = as_root_with(ssh, str(Path("/root")), ["ssh", "-i", "/root/.ssh/id", "gauge", "hostname"])
    assert done.stdout == "gauge\n", done

    # PuTTY on this system keeps the same host keys in a file of its own, a line each.
    text = (out / "putty.reg").read_bytes().decode("utf-16")
    (found,) = re.findall(r'"(ssh-ed25519@[^"]+)"="([^"]+)"', text)
    putty = tmp_path / "home/.putty"
    putty.mkdir(parents=True)
    (putty / "sshhostkeys").write_text(" ".join(found) + "\n")
    subprocess.run(["puttygen", lab.folder / "id", "-O", "private", "-o", tmp_path / "id.ppk"], check=True)
    port, address = found[0].partition("@")[2].split(":")
    argv = ["plink", "-batch", "-P", port, "-l", "ops", "-i", str(tmp_path / "id.ppk"), address, "hostname"]
    done = subprocess.run(argv, env={"HOME": str(tmp_path / "home")}, capture_output=True, text=True, timeout=60,
                          check=False)  # fmt: skip
    assert done.stdout == "gauge\n", done
    # Another key than the one that was assigned by DHCP is refused.
    (putty / "sshhostkeys").write_text(f"{found[0]} {found[1].replace('0x', '0x1')}\n")
    done = subprocess.run(argv, env={"HOME": str(tmp_path / "home")}, capture_output=True, text=True, timeout=60,
                          check=False)  # fmt: skip
    assert done.returncode != 0 and "hostname" not in done.stdout

    # From the LAN only what the LAN may enter; from outside nothing, and what would open it.
    lan: Any = lab("handout", "--from", "lan", "--output", "lan", "--json", code=None)
    if lan.code == 0:
        assert [w["door"] for w in lan.json["ways"]] == ["tides"]
        assert {s["guest"] for s in lan.json["shut"]} == {"gauge", "desk"}
        assert not (lab.folder / "lan/putty.reg").exists()
    said = lab("handout", "--from", "outside", code=1).err
    assert "no door of this lab is reachable from outside" in said and "dacha " in said
    for path in out.rglob("*"):
        assert not path.is_file() or b"PRIVATE" not in path.read_bytes()


def test_a_folder_with_other_things_is_left_alone(lab: Lab) -> None:
    lab("new", "pier")
    lab("guest", "add", "gauge", "--kernel", "x", "--anyway", "--door", "ssh")
    (lab.folder / "mine").mkdir()
    (lab.folder / "mine/letter").write_text("keep\n")
    assert "contains other files" in lab("handout", "--from", "host", "--output", "mine", code=2).err
    assert [p.name for p in (lab.folder / "mine").iterdir()] == ["letter"]
    lab("handout", "--from", "host", "--output", "new")
    lab("handout", "--from", "host", "--output", "new")
    assert "no guest gaug" in lab("handout", "gaug", "--from", "host", code=2).err


def test_only_what_a_handouts_own_list_names_is_replaced(lab: Lab) -> None:
    """A web site, somebody's keys and an archive of others are not a handout, whatever they look like."""
    lab("new", "pier")
    lab("guest", "add", "gauge", "--disk", "1MiB")
    lab("door", "add", "gauge", "ssh", "--from", "host")
    lab("apply", "--no-wait")
    site = lab.folder / "site"
    (site / "pier").mkdir(parents=True)
    others = {"index.html": "<h1>tides</h1>", "my.ppk": "a key", "putty.reg": "mine", "pier/id": "a key"}
    for name, text in others.items():
        (site / name).write_text(text)
    archive = lab.folder / "thesis.zip"
    with zipfile.ZipFile(archive, "w") as z:
        z.writestr("thesis/index.html", "chapter one")
    before = archive.read_bytes()
    assert "is not a handout" in lab("handout", "--from", "host", "--output", "site", code=2).err
    assert "not a handout" in lab("handout", "--from", "host", "--output", "thesis.zip", code=2).err
    assert {n: (site / n).read_text() for n in others} == others and archive.read_bytes() == before
    # One of ours is made anew as often as is wanted; what was put beside it stays, what was changed is not lost.
    for target in ("mine", "mine.zip"):
        for _ in range(2):
            lab("handout", "--from", "host", "--output", target)
    mine = lab.folder / "mine"
    (mine / "notes.txt").write_text("call me")
    lab("handout", "--from", "host", "--output", "mine")
    assert (mine / "notes.txt").read_text() == "call me"
    (mine / "index.html").write_text("my own page")
    assert "it was changed since" in lab("handout", "--from", "host", "--output", "mine", code=2).err
    assert (mine / "index.html").read_text() == "my own page"
    with zipfile.ZipFile(lab.folder / "mine.zip", "a") as z:
        z.writestr("mine/thesis.txt", "chapter one")
    assert "was changed since" in lab("handout", "--from", "host", "--output", "mine.zip", code=2).err
    # A list that names what is elsewhere, or that nobody can read, names nothing.
    (mine / ".handout.json").write_text('{"version": 1, "files": {"../site/index.html": []}}')
    assert "is not a handout" in lab("handout", "--from", "host", "--output", "mine", code=2).err
    (mine / ".handout.json").write_text('{"version": 9, "files": {}}')
    assert "created by a newer dacha" in lab("handout", "--from", "host", "--output", "mine", code=3).err
    assert {n: (site / n).read_text() for n in others} == others


def test_puttys_form_of_a_key_is_a_point_of_the_curve() -> None:
    found = cached_key(WAY)
    assert found and found[0] == "ssh-ed25519@2220:192.0.2.10"
    x, y = (int(n, 16) for n in found[1].split(","))
    p = 2**255 - 19
    d = -121665 * pow(121666, -1, p) % p
    assert (-x * x + y * y - 1 - d * x * x * y * y) % p == 0
    none = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIGnJWTiPc5oWUtN2IGVMYcgVnUVaD8eHXMt6ZGOqHAo"
    assert cached_key(WAY._replace(host_key=none)) is None
    assert cached_key(WAY._replace(host_key="ssh-rsa AAAA")) is None and cached_key(WAY._replace(host_key="")) is None


def test_no_two_sessions_have_one_name_and_no_file_one_of_windows_devices() -> None:
    ways = [WAY._replace(door="rdp", service="rdp"), WAY._replace(guest="gauge-rdp"), WAY, WAY._replace(door="ssh2")]
    assert [w.session for w in apart(ways)] == ["gauge-rdp", "gauge-rdp-ssh", "gauge", "gauge-ssh2"]
    assert WAY._replace(guest="con").file_name == "guest-con" and WAY._replace(guest="cone").file_name == "cone"


@pytest.mark.parametrize("version", [2, 3])
@pytest.mark.parametrize("passphrase", ["", "low tide at nine"])
def test_puttys_own_program_reads_the_key_file(tmp_path: Path, version: int, passphrase: str) -> None:
    private, public = key_pair(b"s" * 32, "mara@saltmarsh", passphrase)
    (tmp_path / "key.ppk").write_text(
        ppk(b"s" * 32, raw_public(public), "mara@saltmarsh", passphrase=passphrase, salt=b"s" * 16, version=version)
    )
    (tmp_path / "phrase").write_text(passphrase)
    (tmp_path / "openssh").write_text(private)
    (tmp_path / "openssh").chmod(0o600)
    opened = ["--old-passphrase", str(tmp_path / "phrase"), "--new-passphrase", "/dev/null"] if passphrase else []
    argv = ["puttygen", str(tmp_path / "key.ppk"), "-O", "private-openssh", "-o", str(tmp_path / "out"), *opened]
    subprocess.run(argv, check=True, timeout=60)
    for file, phrase in (("out", ""), ("openssh", passphrase)):
        said = subprocess.run(["ssh-keygen", "-y", "-P", phrase, "-f", tmp_path / file], capture_output=True, text=True,
                              check=True, timeout=60)  # fmt: skip
        assert said.stdout.split()[1] == public.split()[1]
    if passphrase:
        (tmp_path / "phrase").write_text("another")
        assert subprocess.run(argv, capture_output=True, check=False, timeout=60).returncode


def test_each_file_has_what_its_client_reads() -> None:
    assert registry_file("saltmarsh", [WAY._replace(service="http")]) is None
    text = (registry_file("saltmarsh", [WAY]) or b"").decode("utf-16")
    assert '"PortNumber"=dword:000008ac' in text and r"Sessions\saltmarsh%20gauge]" in text
    six = rdp_file(WAY._replace(service="rdp", address="2001:db8::20", port=3389)).decode()
    assert "full address:s:[2001:db8::20]:3389\r\n" in six and "username:s:ops\r\n" in six
    page = sheet(
        "saltmarsh", "lan", [WAY], [Shut("desk", "rdp", "rdp", "<shut>", "dacha door edit desk rdp --from lan")]
    )
    assert WAY.fingerprint in page and "&lt;shut&gt;" in page
    assert "<svg" in page and "ssh://ops@192.0.2.10:2220" in page
    assert "<svg" not in sheet("saltmarsh", "host", [WAY._replace(address="127.0.0.1")], []), "no phone gets there"
    # Nothing is loaded from anywhere.
    assert not re.search(r"(src|href)=.?(https?:)?//|@import|url\(", page)
