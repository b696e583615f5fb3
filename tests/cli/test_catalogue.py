"""The catalogue of places: images and installers by name, downloaded and verified when they are needed."""

import hashlib
import subprocess
from collections.abc import Iterator
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread

import pytest

from tests.conftest import Lab


class Quiet(SimpleHTTPRequestHandler):
    def log_message(self, format: str, *args: object) -> None:
        pass


@pytest.fixture
def archive(tmp_path: Path) -> Iterator[tuple[Path, ThreadingHTTPServer]]:
    folder = tmp_path / "archive"
    folder.mkdir()
    server = ThreadingHTTPServer(("127.0.0.1", 0), partial(Quiet, directory=str(folder)))
    thread = Thread(target=server.serve_forever)
    thread.start()
    yield folder, server
    server.shutdown()
    server.server_close()
    thread.join()


def image(path: Path, size: int) -> None:
    subprocess.run(["qemu-img", "create", "-q", "-f", "qcow2", path, str(size)], check=True)


def publish(folder: Path, name: str, size: int) -> None:
    """A new file, and the list of checksums of all."""
    image(folder / name, size)
    images = sorted(folder.glob("*.qcow2"))
    lines = [f"{hashlib.sha256(p.read_bytes()).hexdigest()}  {p.name}\n" for p in images]
    (folder / "SHA256SUMS").write_text("".join(lines))


def test_an_image_is_named_fetched_once_and_a_newer_one_is_offered(
    lab: Lab, archive: tuple[Path, ThreadingHTTPServer]
) -> None:
    folder, server = archive
    lab.env["XDG_CONFIG_HOME"] = str(lab.folder / "config")
    said = lab("media", "find", code=1)
    assert "there is no catalogue" in said.err and "--example >" in said.err
    catalogue = lab.folder / "config/dacha/places.toml"
    catalogue.parent.mkdir(parents=True)
    catalogue.write_text(lab("media", "find", "--example").out)
    assert "debian-12-image" in lab("media", "find", "image").out
    web = f"http://127.0.0.1:{server.server_port}"
    tide = f'[tide-12]\nabout = "Tide 12"\naddress = "{web}/tide-12.*-amd64.qcow2"\nsums = "{web}/SHA256SUMS"\n'
    odd = f'[none]\naddress = "{web}/none.qcow2"\n[bare]\naddress = "{web}/bare-*.qcow2"\n'
    catalogue.write_text(tide + odd)
    publish(folder, "tide-12.9-amd64.qcow2", 8 << 20)
    lab("new", "saltmarsh")
    before = lab.file.read_text()
    assert "404" in lab("guest", "add", "gauge", "--from", "none", code=1).err
    assert "needs a list of checksums" in lab("guest", "add", "gauge", "--from", "bare", code=2).err
    assert lab.file.read_text() == before
    said = lab("guest", "add", "gauge", "--from", "tide-12", "--memory", "64MiB")
    assert "Downloaded tide-12: qcow2 disk of 8 MiB" in said.out and "on tide-12" in said.out
    (row,) = [r for r in lab("media", "find", "--json").json["places"] if r["name"] == "tide-12"]
    assert row["stored"] and row["about"] == "Tide 12"
    assert lab("media", "check", "tide-12").out == "tide-12: its content is unchanged\n"
    # 12.10 is newer than 12.9; nothing is taken unasked.
    publish(folder, "tide-12.10-amd64.qcow2", 9 << 20)
    said = lab("media", "check", "tide-12")
    assert "dacha media add tide-12 --name tide-12-10-amd64" in said.out
    assert lab("media", "check", "tide-12", "--json").json["newer"] == f"{web}/tide-12.10-amd64.qcow2"
    lab("media", "add", "tide-12", "--name", "tide-12-10-amd64")
    assert {m["name"] for m in lab("media", "list", "--json").json["media"]} == {"tide-12", "tide-12-10-amd64"}
    # A file that is not what the list says is not stored.
    publish(folder, "tide-12.11-amd64.qcow2", 10 << 20)
    image(folder / "tide-12.11-amd64.qcow2", 11 << 20)
    assert "different checksum" in lab("media", "add", "tide-12", "--name", "bad", code=1).err
    # Without a network everything that is stored is used as before.
    server.shutdown()
    server.server_close()
    assert "is unknown: " in lab("media", "check", "tide-12").out
    lab("guest", "add", "desk", "--from", "tide-12")
    said = lab("media", "add", "tide-13", code=2).err
    assert "does not exist" in said and "dacha media find" in said


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("[tide]\nadress = 'x'\n", "unknown key adress"),
        ("[tide\n", "not valid TOML"),
        ("[tide]\nabout = 'x'\n", "has no address"),
        ("[tide]\naddress = 5\n", "is not text"),
    ],
)
def test_a_wrong_catalogue_is_one_message(lab: Lab, text: str, words: str) -> None:
    lab.env["XDG_CONFIG_HOME"] = str(lab.folder / "config")
    catalogue = lab.folder / "config/dacha/places.toml"
    catalogue.parent.mkdir(parents=True)
    catalogue.write_text(text)
    said = lab("media", "find", code=2).err
    assert words in said and str(catalogue) in said
