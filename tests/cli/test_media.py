"""dacha media: taken in whole or not at all, once, from wherever they come."""

import hashlib
import http.server
import subprocess
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any, ClassVar

import pytest

from tests.conftest import PROGRAM, Lab
from tests.formats.test_medium import MEDIA


@pytest.fixture
def medium(lab: Lab) -> Path:
    lab("new", "saltmarsh")
    path = lab.folder / "debian-12.5.0-amd64-netinst.iso"
    path.write_bytes(MEDIA["debian netinst"][0])
    return path


def stored(lab: Lab) -> list[str]:
    folder = lab.folder / "state/media"
    return sorted(p.name for p in folder.iterdir()) if folder.is_dir() else []


def test_a_medium_is_taken_in_shown_checked_and_removed(lab: Lab, medium: Path) -> None:
    assert "debian 12.5.0, amd64, boots by BIOS and UEFI" in lab("media", "add", str(medium)).out
    name = "debian-12-5-0-amd64-netinst"
    assert stored(lab) == [f"{name}.iso", f"{name}.json"]
    assert name in lab("media", "list").out and "GiB free in" in lab("media", "list").out
    shown = lab("media", "show", name, "--json").json
    assert shown["sha256"] == hashlib.sha256(medium.read_bytes()).hexdigest() and shown["family"] == "debian"
    assert "its content is unchanged" in lab("media", "check", name).out
    again = lab("media", "add", str(medium), "--name", "other")
    assert f"already stored as {name}" in again.out and len(stored(lab)) == 2
    lab("guest", "add", "gauge", "--install", name, "--disk", "1GiB")
    assert "gauge, install       lab saltmarsh" in lab("media", "remove", name, code=2).err
    assert 'system = "debian"' in lab.file.read_text()
    lab("guest", "remove", "gauge")
    lab("media", "remove", name)
    assert stored(lab) == []


def test_a_changed_medium_is_found_out(lab: Lab, medium: Path) -> None:
    lab("media", "add", str(medium), "--name", "debian")
    (lab.folder / "state/media/debian.iso").write_bytes(b"other")
    assert "its content has changed" in lab("media", "check", "debian", code=1).err


def test_standard_input_and_checksums(lab: Lab, medium: Path) -> None:
    digest = hashlib.sha256(medium.read_bytes()).hexdigest()
    with medium.open("rb") as f:
        lab("media", "add", "-", "--name", "piped", "--sha256", digest, stdin=f)
    lab("media", "remove", "piped")
    sums = lab.folder / "SHA256SUMS"
    for line in (f"{digest}  {medium.name}", f"SHA256 ({medium.name}) = {digest}"):
        sums.write_text(f"{'0' * 64}  another.iso\n{line}\n")
        lab("media", "add", str(medium), "--name", "summed", "--sums", str(sums))
        lab("media", "remove", "summed")
    wrong = lab("media", "add", str(medium), "--sha256", "f" * 64, code=1).err
    assert "a different checksum" in wrong and digest in wrong and stored(lab) == []


REFUSED = [
    (b"<!DOCTYPE html><h1>404</h1>", "it is a web page"),
    (MEDIA["debian netinst"][0][:60000], "truncated"),
    (MEDIA["debian for another processor"][0], "for arm64"),
    (b"", "neither a known image header"),
    (b"plain text\n" * 100, "neither a known image header"),
]


@pytest.mark.parametrize(("content", "what"), REFUSED)
def test_what_would_not_work_is_said_at_once_and_not_kept(lab: Lab, content: bytes, what: str) -> None:
    (lab.folder / "x.iso").write_bytes(content)
    assert what in lab("media", "add", "x.iso", code=1).err
    assert stored(lab) == []


def test_an_overlay_without_its_base_and_a_damaged_image_are_refused(lab: Lab) -> None:
    lab("new", "pier")
    base, over = lab.folder / "base.qcow2", lab.folder / "over.qcow2"
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", base, "64M"], check=True)
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", "-b", base, "-F", "qcow2", over], check=True)
    assert "it is an overlay" in lab("media", "add", str(over), code=1).err
    assert "qcow2 disk of 64 MiB, no boot loader" in lab("media", "add", str(base)).out
    said = lab("guest", "add", "gauge", "--from", "base").out
    assert "disk 8 GiB on base" in said and "no image" not in lab("check").out
    assert "gauge, disk 0        lab pier" in lab("media", "remove", "base", code=2).err
    subprocess.run(["qemu-io", "-c", "write 0 8M", base], check=True, stdout=subprocess.DEVNULL)
    damaged = lab.folder / "cut.qcow2"
    damaged.write_bytes(base.read_bytes()[:300_000])
    lab("media", "add", str(damaged), code=1)
    assert stored(lab) == ["base.img", "base.json"]


@pytest.mark.parametrize(
    ("command", "what"),
    [
        (("add", "nowhere.iso"), "nowhere.iso does not exist"),
        (("add", "-"), "needs a name"),
        (("add", "/tmp"), "is a folder"),
        (("add", "x.iso", "--name", "Two Words"), "is not a valid name"),
        (("add", "lab.toml", "--storage", "fast"), "no storage fast"),
        (("add", "lab.toml", "--sha256", "abc"), "64 hexadecimal digits"),
        (("show", "debain"), "no medium debain"),
        (("insert", "gauge", "x"), "no guest gauge"),
    ],
)
def test_wrong_use_is_said(lab: Lab, medium: Path, command: tuple[str, ...], what: str) -> None:
    assert what in lab("media", *command, code=2).err


@pytest.mark.parametrize(
    ("url", "why"),
    [("http://a..b/x.iso", "this is not a valid host name"), ("http://127.0.0.1:²/x.iso", "Invalid port")],
)
def test_an_address_that_is_none_is_no_defect(lab: Lab, url: str, why: str) -> None:
    assert why in lab("media", "add", url, code=1).err
    assert why in lab("media", "add", "x.iso", "--sums", url, code=1).err


class Server(http.server.BaseHTTPRequestHandler):
    """A small web server that can break off, and knows ranges."""

    content: ClassVar[bytes] = b""
    break_after: ClassVar[int | None] = None
    asked: ClassVar[list[str]] = []
    texts: ClassVar[dict[str, bytes]] = {}

    def do_GET(self) -> None:
        wanted = self.headers.get("Range", "")
        Server.asked.append(wanted)
        if self.path in Server.texts:
            self.send_response(200)
            self.end_headers()
            self.wfile.write(Server.texts[self.path])
            return
        if self.path != "/debian.iso":
            self.send_error(404, "Not Found")
            return
        start = (
            int(wanted.removeprefix("bytes=").rstrip("-")) if wanted and self.headers.get("If-Range") == '"v1"' else 0
        )
        self.send_response(206 if start else 200)
        self.send_header("ETag", '"v1"')
        if start:
            self.send_header("Content-Range", f"bytes {start}-{len(self.content) - 1}/{len(self.content)}")
        self.send_header("Content-Length", str(len(self.content) - start))
        self.end_headers()
        end = len(self.content) if Server.break_after is None else Server.break_after
        Server.break_after = None
        self.wfile.write(self.content[start:end])

    def log_message(self, *arguments: Any) -> None:
        pass


@pytest.fixture
def web() -> Iterator[str]:
    Server.content, Server.asked, Server.break_after = MEDIA["debian netinst"][0] + bytes(3 << 20), [], None
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Server)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}"
    server.shutdown()


def test_a_broken_download_goes_on_where_it_stopped(lab: Lab, web: str) -> None:
    Server.break_after = 2 << 20
    assert "run the same command again" in lab("media", "add", f"{web}/debian.iso", code=1).err
    assert "No media yet" in lab("media", "list").out, "what is not whole is not kept as a medium"
    done = lab("media", "add", f"{web}/debian.iso", "--sha256", hashlib.sha256(Server.content).hexdigest())
    assert "debian 12.5.0" in done.out
    start = int(Server.asked[1].removeprefix("bytes=").rstrip("-"))
    assert 0 < start <= 2 << 20
    assert stored(lab) == ["debian.iso", "debian.json"]
    assert "answered 404" in lab("media", "add", f"{web}/none.iso", code=1).err


def signed_by(folder: Path, text: bytes, *, armour: bool) -> tuple[bytes, Path]:
    """A signature by a key of somebody's, and the file of that key."""
    home = folder / "gpg"
    home.mkdir(mode=0o700, exist_ok=True)

    def gpg(*words: str | Path, given: bytes = b"") -> bytes:
        argv = ["gpg", "--homedir", home, "--batch", "--passphrase", "", *words]
        return subprocess.run(argv, input=given, capture_output=True, check=True, timeout=120).stdout

    if not (home / "pubring.kbx").exists():
        gpg("--quick-gen-key", "Mara of the pier <mara@pier.example>", "ed25519", "sign", "never")
    key = folder / "pier.gpg"
    key.write_bytes(gpg(*(["--armor"] if armour else []), "--export"))
    signature = gpg(*(["--armor"] if armour else []), "--detach-sign", given=text)
    # Its agent would stay.
    subprocess.run(["gpgconf", "--homedir", home, "--kill", "all"], check=True)
    return signature, key


@pytest.mark.parametrize("armour", [True, False])
def test_a_medium_comes_from_a_place_with_signed_checksums(lab: Lab, web: str, tmp_path: Path, armour: bool) -> None:
    sums = f"{hashlib.sha256(Server.content).hexdigest()}  debian.iso\n{'0' * 64}  other.iso\n".encode()
    signature, _ = signed_by(lab.folder, sums, armour=armour)
    Server.texts = {"/SUMS": sums, "/SUMS.sign": signature, "/BAD": sums.replace(b"0000", b"1111")}
    signed = f'signature = "{web}/SUMS.sign"\nkey = "pier.gpg"\n'
    medium = f'address = "{web}/debian.iso"\n'
    (lab.folder / "places.toml").write_text(
        f'[tides]\n{medium}sums = "{web}/SUMS"\n{signed}[changed]\n{medium}sums = "{web}/BAD"\n{signed}'
        f'[other]\n{medium}sha256 = "{"1" * 64}"\n[half]\n{medium}sums = "{web}/SUMS"\nkey = "pier.gpg"\n'
        f'[odd]\nadress = "x"\n[nowhere]\naddress = "{web}/none.iso"\nsums = "{web}/SUMS"\n'
        '[bare]\nsha256 = "x"\n[number]\naddress = 5\n'
    )
    refusals = (
        ("changed", 1, "none of these keys"), ("other", 1, "checksum"), ("half", 2, "set all three"),
        ("odd", 2, "did you mean address?"), ("nowhere", 2, "it has no checksum for none.iso"),
        ("bare", 2, "has no address"),
        ("number", 2, "is not text"), ("tide", 2, "did you mean tides?"),
    )  # fmt: skip
    for name, code, words in refusals:
        assert words in lab("media", "add", name, "--from", "places.toml", code=code).err, name
    assert stored(lab) == []
    assert (
        "remove the other options" in lab("media", "add", "tides", "--from", "places.toml", "--sums", "x", code=2).err
    )
    done = lab("media", "add", "tides", "--from", "places.toml")
    assert "tides: debian 12.5.0" in done.out and 'Good signature from "Mara of the pier' in done.err
    # The same by options, with files.
    (lab.folder / "SUMS").write_bytes(sums)
    (lab.folder / "SUMS.sign").write_bytes(signature)
    options = ("--sums", "SUMS", "--signature", "SUMS.sign", "--key", "pier.gpg")
    assert "Good signature" in lab("media", "add", f"{web}/debian.iso", *options, "--name", "again").err
    (lab.folder / "pier.gpg").write_bytes(b"no key")
    assert "none of these keys" in lab("media", "add", f"{web}/debian.iso", *options, "--name", "third", code=1).err


def test_an_addition_killed_at_any_moment_leaves_nothing_half_made(lab: Lab, medium: Path) -> None:
    reading, writing = subprocess.PIPE, subprocess.DEVNULL
    for size in (0, 1000, 5 << 20):
        child = subprocess.Popen(
            [PROGRAM, "media", "add", "-", "--name", "half"], cwd=lab.folder, env=lab.env, stdin=reading, stdout=writing
        )
        assert child.stdin is not None
        child.stdin.write(b"x" * size)
        child.stdin.flush()
        child.kill()
        child.wait()
        assert "No media yet" in lab("media", "list").out
    lab("media", "add", str(medium), "--name", "half")
    assert stored(lab)[-2:] == ["half.iso", "half.json"]


def test_two_additions_of_one_name_at_once_keep_one_and_refuse_the_other(lab: Lab) -> None:
    """The first is still being read when the other begins: it waits for the end of its standard input."""
    content = b"\1" * 510 + b"\x55\xaa" + b"\1" * 4096
    command = [PROGRAM, "media", "add", "-", "--name", "tides"]
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "stderr": subprocess.PIPE}
    first = subprocess.Popen(command, cwd=lab.folder, env=lab.env, **pipes)  # type: ignore[call-overload]
    parts = lab.folder / "state/media"
    deadline = time.monotonic() + 120
    while not (list(parts.glob(".tides.*.part")) if parts.is_dir() else ()):
        assert time.monotonic() < deadline
        time.sleep(0.02)
    second = subprocess.Popen(command, cwd=lab.folder, env=lab.env, **pipes)  # type: ignore[call-overload]
    assert b"tides is already being added" in second.communicate(b"\2" * 8192, timeout=20)[1]
    assert second.returncode == 3
    first.communicate(content)
    assert first.returncode == 0
    (kept,) = lab("media", "list", "--json").json["media"]
    assert kept["sha256"] == hashlib.sha256(content).hexdigest()
    assert not list(parts.glob(".tides.*.part"))
