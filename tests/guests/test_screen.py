"""The display of a real guest: its picture, its text, keys typed on it, and a VNC client at its door."""

import socket
import subprocess
import time
import warnings
from pathlib import Path

import pytest

from dacha.core.errors import HostError
from dacha.host.unix_socket import connect
from dacha.hypervisor.live.screen import listen
from dacha.hypervisor.monitor.qmp import Qmp
from tests.conftest import Lab

TEXT = """\
[lab]
name = "screens"
[network.pier]
kind = "nat"
[guest.gauge]
memory = "64 MiB"
disk = [{ size = "1 MiB" }]
adapter = [{ network = "pier" }]
[guest.blind]
memory = "64 MiB"
video = false
disk = [{ size = "1 MiB" }]
"""


def des(key: bytes, blocks: bytes) -> bytes:
    """DES with each byte of the key turned round, as RFB has it (RFC 6143 section 7.2.2, with its erratum)."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        from cryptography.hazmat.decrepit.ciphers.algorithms import TripleDES
        from cryptography.hazmat.primitives.ciphers import Cipher, modes
    turned = bytes(int(f"{b:08b}"[::-1], 2) for b in key)
    return Cipher(TripleDES(turned * 3), modes.ECB()).encryptor().update(blocks)


def by_a_real_client(lab: Lab, port: str, password: str) -> bytes:
    """The picture that a VNC client of Debian's takes; empty where it is not let in. Its password file is the usual
    one: hidden from the eye by a key that everybody knows."""
    kept, picture = lab.folder / "vnc-password", lab.folder / "taken.jpg"
    kept.write_bytes(des(bytes((23, 82, 107, 6, 35, 78, 88, 7)), (password.encode() + bytes(8))[:8]))
    picture.unlink(missing_ok=True)
    words = ["vncsnapshot", "-quiet", "-passwd", kept, f"127.0.0.1:{int(port) - 5900}", picture]
    subprocess.run(words, capture_output=True, check=False, timeout=60)
    return picture.read_bytes() if picture.exists() else b""


def vnc_login(address: tuple[str, int], password: str) -> bool:
    """RFB 3.8 with its own authentication (RFC 6143 section 7.2.2): True when the password was right."""
    with socket.create_connection(address, timeout=60) as s, s.makefile("rb") as f:
        assert f.read(12) == b"RFB 003.008\n"
        s.sendall(b"RFB 003.008\n")
        kinds = f.read(f.read(1)[0])
        assert list(kinds) == [2], "nothing but password authentication is offered"
        s.sendall(b"\x02")
        s.sendall(des((password.encode() + bytes(8))[:8], f.read(16)))
        return f.read(4) == b"\0\0\0\0"


def test_a_screen_without_any_client(lab: Lab) -> None:
    lab.write(TEXT)
    lab("apply", "--no-wait")
    assert "has no display" in lab("screen", "blind", "--text", code=1).err

    # The firmware finds nothing to start and says so on its text screen (the option ROM's screen before has none).
    deadline = time.monotonic() + 60
    while "No bootable device" not in (said := lab("screen", "gauge", "--text", code=None).out):
        assert time.monotonic() < deadline, said
        time.sleep(0.3)
    assert "BIOS" in said
    saved = lab("screen", "gauge", "--save", "gauge.png", "--json").json["picture"]
    assert (lab.folder / "gauge.png").read_bytes().startswith(b"\x89PNG") and saved["width"] == 720
    lab("screen", "gauge", "--type", "Hello, pier!\\n", "--press", "ctrl-alt-delete")
    assert "unknown key entr" in lab("screen", "gauge", "--press", "entr", code=2).err
    assert "does not exist" in lab("screen", "gauge", "--save", "/nowhere/x.png", code=3).err

    # A client finds it where it was asked to be, with the password that was said and no other.
    opened = lab("screen", "gauge", "--listen", "host", "--json").json
    host, port = opened["vnc"].split(":")
    assert host == "127.0.0.1" and len(opened["password"]) == 8
    assert vnc_login((host, int(port)), opened["password"])
    assert not vnc_login((host, int(port)), "wrong")
    assert by_a_real_client(lab, port, opened["password"]).startswith(b"\xff\xd8")
    assert by_a_real_client(lab, port, "wrong") == b""
    again = lab(
        "screen", "gauge", "--listen", "host", "--port", str(int(port) + 50), "--password", stdin=_line(lab, "tide1234")
    )
    assert "tide1234" not in again.out + again.err
    assert vnc_login((host, int(port) + 50), "tide1234") and not vnc_login((host, int(port) + 50), opened["password"])
    with socket.socket() as s:
        assert s.connect_ex((host, int(port))) != 0, "the former listener is gone"
    # A port that somebody took meanwhile: the display stays where this host's own programs find it.
    (run,) = {path.parent for path in Path(lab.env["DACHA_RUN"]).rglob("qmp") if "gauge" in str(path)}
    with socket.create_server((host, 0)) as taken, Qmp(run / "qmp") as qmp, pytest.raises(HostError, match="in use"):
        listen(qmp, "host", taken.getsockname()[1])
    with connect(run / "screen", 60.0) as s:
        assert s.recv(12) == b"RFB 003.008\n"
    lab("screen", "gauge", "--listen", "none")
    with socket.socket() as s:
        assert s.connect_ex((host, int(port) + 50)) != 0

    # No password is in any file or argument list.
    for path in (lab.folder / "state").rglob("*"):
        assert not path.is_file() or b"tide1234" not in path.read_bytes()
    assert b"tide1234" not in Path(f"/proc/{lab.pid('gauge')}/cmdline").read_bytes()


def _line(lab: Lab, text: str) -> object:
    path = lab.folder / "typed"
    path.write_text(text + "\n")
    stream = path.open()
    path.unlink()
    return stream


def test_a_stored_password_is_the_same_after_a_restart(lab: Lab) -> None:
    lab.write(TEXT.replace("[guest.gauge]\n", '[guest.gauge]\nscreen = { from = "host", port = 5957 }\n'))
    lab("apply", "--no-wait")
    kept = lab("screen", "gauge", "--keep", "--json").json["password"]
    assert (lab.guest_folder("gauge") / "screen_password").stat().st_mode & 0o777 == 0o600
    lab("restart", "gauge", "--force", "--wait", "0s", "--no-wait")
    assert vnc_login(("127.0.0.1", 5957), kept)
    assert lab("screen", "gauge", "--json").json["password"] == kept
    lab("screen", "gauge", "--forget")
    assert not (lab.guest_folder("gauge") / "screen_password").exists()
    assert lab("screen", "gauge", "--json").json["password"] != kept
    assert "is stored" in lab("screen", "gauge", "--forget", code=1).err
