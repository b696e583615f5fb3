"""The parts of Debian's installer for the bench's archive, where its place serves only some of them.

What is missing is made here out of Debian's own packages: libraries and file system tools are taken from the ordinary
ones, and what nothing asks for here is left empty. The list of parts is then another than Debian's, so it is signed
anew, and the key goes into the installer's own keyring: it goes on checking every signature. The installed system is
served Debian's own lists and packages, whose own key it has.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import lzma
import re
import shutil
import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Protocol

SUITE = "trixie"
LIST = "main/debian-installer/binary-amd64/Packages"
# What is taken out of ordinary packages, where its place does not serve it.
TAKEN = {
    "e2fsprogs-udeb": ("e2fsprogs", "libext2fs2t64", "libss2", "libcom-err2"),
    "dosfstools-udeb": ("dosfstools",),
    "libparted2-udeb": ("libparted2t64",),
    "libparted-fs-resize0-udeb": ("libparted-fs-resize0t64",),
    "libdevmapper1.02.1-udeb": ("libdevmapper1.02.1",),
    "debootstrap-udeb": ("debootstrap",),
    "libzstd1-udeb": ("libzstd1",),
    "libmount1-udeb": ("libmount1",),
    "liblzma5-udeb": ("liblzma5",),
}
# What others want and these installations do not use.
EMPTY = ("ntfs-3g-udeb", "os-prober-udeb", "rdate-udeb", "dmidecode-udeb", "grub-mount-udeb", "libfuse2-udeb",
         "libfuse3-4-udeb", "fuse3-udeb", "libisns-udeb", "open-iscsi-udeb")  # fmt: skip
# What needs parts that cannot be had, and nothing here: other file systems, other machines' boot loaders.
LEFT_OUT = re.compile(r"partman-(btrfs|jfs|xfs|md|auto-raid|iscsi|cros)|depthcharge|kickseed|(btrfs|jfs|xfs)-modules")
_KEPT = re.compile(r"(/bin|/sbin|/lib|/usr/lib|/usr/bin|/usr/sbin|/etc/mke2fs.conf)(/|$)|/usr/share/debootstrap/")
KEYRING = "usr/share/keyrings/debian-archive-keyring.pgp"


class Archive(Protocol):
    """What fetches a file of the archive and keeps it."""

    kept: Path

    def fetch(self, path: str) -> Path | None: ...


def paragraphs(text: str) -> list[dict[str, str]]:
    """A control file's paragraphs (Debian policy 5.1); further lines of a field are kept with it."""
    found = []
    for block in text.split("\n\n"):
        fields = re.findall(r"^([A-Za-z0-9-]+):[ \t]*(.*(?:\n[ \t].*)*)$", block, re.M)
        if fields:
            found.append(dict(fields))
    return found


class Parts:
    """The installer's own archive in a folder: `own` is served in front of Debian's."""

    def __init__(self, archive: Archive, work: Path) -> None:
        self._archive, self._work, self._kernel = archive, work, ""
        self.own = work / "own"
        self.own.mkdir(parents=True)
        self.missing: list[str] = []
        self._main = ""
        self._gnupg = work / "gnupg"
        self._gnupg.mkdir(mode=0o700)

    def make(self, kernel: str) -> None:
        """Make what is missing, list all that fits this version of the kernel, and sign the list."""
        self._kernel = kernel
        listed = paragraphs(self._list(LIST))
        wanted = [p for p in listed if p.get("Kernel-Version", self._kernel) == self._kernel]
        wanted = [p for p in wanted if not LEFT_OUT.match(p["Package"])]
        with ThreadPoolExecutor(8) as several:
            there = list(several.map(self._archive.fetch, [part["Filename"] for part in wanted]))
        out = [part for part, file in zip(wanted, there, strict=True) if file]
        gone = [part for part, file in zip(wanted, there, strict=True) if not file]
        out += [self._made(part) for part in gone if part["Package"] in (*TAKEN, *EMPTY)]
        self.missing = [part["Package"] for part in gone if part["Package"] not in (*TAKEN, *EMPTY)]
        text = "\n\n".join("\n".join(f"{k}: {v}" for k, v in part.items()) for part in out) + "\n"
        self._sign(text)

    def keyring(self, debians: bytes) -> bytes:
        """Debian's keyring with the key of this archive."""
        key = self._gpg("--export")
        return debians + key

    def _made(self, part: dict[str, str]) -> dict[str, str]:
        name = part["Package"]
        file = self._packed(part)
        path = f"pool/own/{name}.udeb"
        place = self.own / path
        place.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(file, place)
        content = place.read_bytes()
        told = {k: v for k, v in part.items() if k not in ("MD5sum", "SHA1", "SHA512")}
        return told | {
            "Filename": path, "Size": str(len(content)), "SHA256": hashlib.sha256(content).hexdigest(),
            "MD5sum": hashlib.md5(content, usedforsecurity=False).hexdigest(),
        }  # fmt: skip

    def kernels(self) -> set[str]:
        """The versions of the kernel that modules are listed for, and there."""
        listed = [p for p in paragraphs(self._list(LIST)) if p["Package"].startswith("ext4-modules-")]
        return {p["Kernel-Version"] for p in listed if self._archive.fetch(p["Filename"])}

    def before(self, package: Path) -> Iterator[Path]:
        """A package, and those that its place had before: lists and packages are not always of one day."""
        yield package
        found = re.search(r"u(\d+)_", package.name)
        for number in range(int(found[1]) - 1 if found else 0, 0, -1):
            older = re.sub(r"u\d+_", f"u{number}_", str(package.relative_to(self._archive.kept)))
            if file := self._archive.fetch(older):
                yield file

    def package(self, name: str) -> Path:
        """An ordinary package, as its place has it."""
        if not self._main:
            self._main = self._list("main/binary-amd64/Packages")
        block = re.search(rf"^Package: {re.escape(name)}\n(?:.+\n)*", self._main, re.M)
        assert block, f"there is no package {name} in {SUITE}"
        fetched = self._archive.fetch(paragraphs(block[0])[0]["Filename"])
        assert fetched, f"package {name} is listed, and is not there"
        return fetched

    def _list(self, which: str) -> str:
        file = self._archive.fetch(f"dists/{SUITE}/{which}.xz")
        assert file, f"there is no list {which} of {SUITE}"
        return lzma.decompress(file.read_bytes()).decode()

    def _packed(self, part: dict[str, str]) -> Path:
        name = part["Package"]
        tree = self._work / "taken" / name
        for package in TAKEN.get(name, ()):
            at = self._work / "taken" / f"{name}.{package}"
            at.mkdir(parents=True)
            subprocess.run(["dpkg-deb", "-x", self.package(package), at / "x"], check=True)
            for file in sorted((at / "x").rglob("*")):
                inside = str(file.relative_to(at / "x"))
                if (file.is_file() or file.is_symlink()) and _KEPT.match("/" + inside) and "/share/doc/" not in inside:
                    place = tree / inside
                    place.parent.mkdir(parents=True, exist_ok=True)
                    shutil.copy2(file, place, follow_symlinks=False)
        (tree / "DEBIAN").mkdir(parents=True)
        fields = {k: part[k] for k in ("Package", "Version", "Architecture", "Depends", "Provides") if k in part}
        fields |= {"Maintainer": "the bench <bench@example.org>", "Description": part.get("Description", name)}
        if name in EMPTY:
            fields.pop("Depends", None)
            part.pop("Depends", None)
        (tree / "DEBIAN/control").write_text("".join(f"{k}: {v}\n" for k, v in fields.items()))
        file = self._work / f"{name}.udeb"
        subprocess.run(["dpkg-deb", "--root-owner-group", "-Zxz", "-b", tree, file], capture_output=True, check=True)
        return file

    def _sign(self, text: str) -> None:
        plain = text.encode()
        forms = {"": plain, ".gz": gzip.compress(plain, mtime=0), ".xz": lzma.compress(plain)}
        released = self._archive.fetch(f"dists/{SUITE}/Release")
        assert released, "there is no Release"
        release = released.read_text()
        for ending, content in forms.items():
            place = self.own / f"dists/{SUITE}/{LIST}{ending}"
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(content)
            for hashed in (hashlib.md5(content, usedforsecurity=False), hashlib.sha256(content)):
                line = rf"^ [0-9a-f]{{{2 * hashed.digest_size}}} +\d+ {re.escape(LIST + ending)}$"
                release = re.sub(line, f" {hashed.hexdigest()} {len(content)} {LIST}{ending}", release, flags=re.M)
        self._gpg("--quick-generate-key", "bench archive <bench@example.org>", "rsa3072", "sign", "never")
        folder = self.own / f"dists/{SUITE}"
        (folder / "Release").write_text(release)
        (folder / "InRelease").write_bytes(self._gpg("--clearsign", given=release.encode()))
        (folder / "Release.gpg").write_bytes(self._gpg("--armor", "--detach-sign", given=release.encode()))
        # Its agent would stay.
        subprocess.run(["gpgconf", "--homedir", str(self._gnupg), "--kill", "all"], check=True)

    def _gpg(self, *words: str, given: bytes = b"") -> bytes:
        command = ["gpg", "--homedir", str(self._gnupg), "--batch", "--pinentry-mode", "loopback", "--passphrase", ""]
        return subprocess.run([*command, *words], input=given, capture_output=True, check=True).stdout


def with_keyring(initrd: bytes, parts: Parts) -> bytes:
    """An initial file system whose keyring has the archive's key too: what comes later in it replaces what was there
    (Linux, Documentation/driver-api/early-userspace/buffer-format)."""
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        with gzip.open(io.BytesIO(initrd)) as f:
            subprocess.run(["cpio", "-id", "--quiet", KEYRING], cwd=folder, input=f.read(), check=True)
        file = folder / KEYRING
        file.write_bytes(parts.keyring(file.read_bytes()))
        file.chmod(0o644)
        packed = subprocess.run(["cpio", "-o", "-H", "newc", "--quiet", "-R", "0:0"], cwd=folder, check=True,
                                input=KEYRING.encode(), capture_output=True).stdout  # fmt: skip
    return initrd + gzip.compress(packed)
