"""Files for remote desktop that a certificate signs: checked by OpenSSL, as a client would."""

from __future__ import annotations

import base64
import struct
import subprocess
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Lab

LAB = (
    '[lab]\nname = "saltmarsh"\n[network.pier]\nkind = "nat"\n'
    '[guest.desk]\nmemory = "64 MiB"\ndisk = [{ size = "1 MiB" }]\nadapter = [{ network = "pier" }]\n'
    'login = { user = "ops", keys = ["id.pub"] }\ndoor.rdp = { from = "host", port = 3390 }\n'
)


def openssl(*words: object, given: bytes = b"") -> bytes:
    done = subprocess.run(["openssl", *map(str, words)], input=given, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr.decode()
    return done.stdout


@pytest.fixture
def signers(tmp_path: Path) -> Path:
    """A folder with a key and its certificate, of RSA and of a curve; with a passphrase; and some that sign nothing."""
    subject = ["-x509", "-nodes", "-subj", "/CN=pier.example", "-days", "30"]
    for name, kind in (("rsa", ["rsa:2048"]), ("ec", ["ec", "-pkeyopt", "ec_paramgen_curve:prime256v1"]),
                       ("odd", ["ed25519"])):  # fmt: skip
        openssl("req", "-newkey", *kind, *subject, "-keyout", tmp_path / "k", "-out", tmp_path / f"{name}.crt")
        (tmp_path / f"{name}.pem").write_bytes((tmp_path / "k").read_bytes() + (tmp_path / f"{name}.crt").read_bytes())
        (tmp_path / f"{name}.key").write_bytes((tmp_path / "k").read_bytes())
    shut = openssl("pkey", "-in", tmp_path / "rsa.key", "-aes256", "-passout", "pass:tide table")
    (tmp_path / "shut.pem").write_bytes(shut + (tmp_path / "rsa.crt").read_bytes())
    (tmp_path / "two.pem").write_bytes((tmp_path / "rsa.key").read_bytes() + (tmp_path / "ec.crt").read_bytes())
    return tmp_path


def verified(file: Path, certificate: Path, work: Path) -> dict[str, str]:
    """The settings of a signed file that its signature covers. Fails where it is not the certificate's."""
    raw = file.read_bytes()
    assert raw[:2] == b"\xff\xfe"
    lines = raw[2:].decode("utf-16-le").split("\r\n")
    settings = {line.split(":", 2)[0]: line for line in lines if line}
    scope = settings["signscope"].split(":", 2)[2].split(",")
    text = "\r\n".join([*(settings[n.lower()] for n in scope), settings["signscope"], "\0"]).encode("utf-16-le")
    packed = base64.b64decode(settings["signature"].split(":", 2)[2].replace(" ", ""))
    version, one, length = struct.unpack("<III", packed[:12])
    assert (version, one, length) == (0x00010001, 1, len(packed) - 12)
    (work / "signature").write_bytes(packed[12:])
    (work / "text").write_bytes(text)
    openssl("cms", "-verify", "-binary", "-inform", "DER", "-in", work / "signature", "-content", work / "text",
            "-CAfile", certificate, "-purpose", "any", "-out", work / "verified")  # fmt: skip
    assert (work / "verified").read_bytes() == text
    return {name.lower(): settings[name.lower()].split(":", 2)[2] for name in scope}


def test_files_for_remote_desktop_are_signed(lab: Lab, key_files: Path, signers: Path, tmp_path: Path) -> None:
    (lab.folder / "id.pub").write_text((key_files / "id.pub").read_text())
    lab.file.write_text(LAB)

    def handed(*words: str, code: int = 0, given: str | None = None) -> str:
        typed: dict[str, Any] = {"input": given, "stdin": None} if given else {}
        done = lab("handout", "--from", "host", "--output", "out", *words, code=code, **typed)
        return str(done.out + done.err)

    for name in ("rsa", "ec"):
        handed("--sign-with", str(signers / f"{name}.pem"))
        covered = verified(lab.folder / "out/rdp/desk.rdp", signers / f"{name}.crt", tmp_path)
        assert covered["full address"] == covered["alternate full address"] == "127.0.0.1:3390"
    handed("--sign-with", str(signers / "shut.pem"), given="tide table\n")
    assert verified(lab.folder / "out/rdp/desk.rdp", signers / "rsa.crt", tmp_path)["authentication level"] == "2"
    # Whoever changes what is signed is found out.
    file = lab.folder / "out/rdp/desk.rdp"
    file.write_bytes(file.read_bytes().replace("127.0.0.1".encode("utf-16-le"), "192.0.2.6".encode("utf-16-le")))
    with pytest.raises(AssertionError):
        verified(file, signers / "rsa.crt", tmp_path)
    # What was changed by somebody is not written over.
    assert "it was changed since the handout was created" in handed(code=2)
    file.unlink()
    # Without it they are as they were.
    handed()
    assert (lab.folder / "out/rdp/desk.rdp").read_bytes().startswith(b"full address:s:127.0.0.1:3390\r\n")
    for name, said in (
        ("rsa.crt", "it contains no private key"), ("rsa.key", "it contains no certificate"),
        ("odd.pem", "cannot sign .rdp files"), ("two.pem", "does not match its private key"),
        ("none.pem", "cannot be read"),
    ):  # fmt: skip
        assert said in handed("--sign-with", str(signers / name), code=2)
    assert "wrong passphrase for its private key" in handed(
        "--sign-with", str(signers / "shut.pem"), code=2, given="no\n"
    )
