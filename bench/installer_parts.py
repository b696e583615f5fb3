"""The parts of Debian's installer for the bench's archive, where its place serves only some of them.

What is missing is made here from Debian's own sources and packages: four parts are built from their sources, libraries
and file system tools are taken out of the ordinary packages, and three that nothing asks for here are left empty. The
list of parts is then another than Debian's, so it is signed anew, and the key goes into the installer's own keyring: it
goes on checking every signature. The installed system is served Debian's own lists and packages, whose own key it has.
"""

from __future__ import annotations

import gzip
import hashlib
import io
import lzma
import re
import shutil
import subprocess
from pathlib import Path
from typing import Protocol

SUITE = "bookworm"
LIST = "main/debian-installer/binary-amd64/Packages"
# What is built, from the first suite that has its source (its scripts hardly differ between suites).
BUILT = {"apt-setup-udeb": "apt-setup", "debootstrap-udeb": "debootstrap", "tzsetup-udeb": "tzsetup",
         "user-setup-udeb": "user-setup"}  # fmt: skip
SUITES = (SUITE, "trixie", "sid")
# What is taken out of ordinary packages.
TAKEN = {
    "e2fsprogs-udeb": ("e2fsprogs", "libext2fs2", "libss2", "libcom-err2"),
    "dosfstools-udeb": ("dosfstools",),
    "libparted2-udeb": ("libparted2",),
    "libparted-fs-resize0-udeb": ("libparted-fs-resize0",),
    "libdevmapper1.02.1-udeb": ("libdevmapper1.02.1",),
}
# What others want and these installations do not use.
EMPTY = ("ntfs-3g-udeb", "os-prober-udeb", "rdate-udeb", "dmidecode-udeb")
# What needs parts that cannot be had, and nothing here: other file systems, other machines' boot loaders.
LEFT_OUT = re.compile(
    r"partman-(btrfs|jfs|xfs|md|auto-raid|iscsi|cros)|depthcharge|kickseed|(btrfs|jfs|xfs|md)-modules"
)
_KEPT = re.compile(r"(/bin|/sbin|/lib|/usr/lib|/usr/bin|/usr/sbin|/etc/mke2fs.conf)(/|$)")
KEYRING = "usr/share/keyrings/debian-archive-keyring.gpg"


class Archive(Protocol):
    """What fetches a file of the archive and keeps it."""

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

    def __init__(self, archive: Archive, work: Path, kernel: str) -> None:
        self._archive, self._work, self._kernel = archive, work, kernel
        self.own = work / "own"
        self.own.mkdir(parents=True)
        self._sources: dict[str, str] = {}
        self._gnupg = work / "gnupg"
        self._gnupg.mkdir(mode=0o700)

    def make(self) -> None:
        """Build what is missing, list all and sign the list."""
        listed = self._archive.fetch(f"dists/{SUITE}/{LIST}.xz")
        assert listed, "there is no list of the installer's parts"
        out = []
        for part in paragraphs(lzma.decompress(listed.read_bytes()).decode()):
            name = part["Package"]
            if LEFT_OUT.match(name) or part.get("Kernel-Version", self._kernel) != self._kernel:
                continue
            if name in BUILT or name in TAKEN or name in EMPTY:
                out.append(self._made(part))
            elif not name.endswith("-udeb"):
                out.append(part)
        text = "\n\n".join("\n".join(f"{k}: {v}" for k, v in part.items()) for part in out) + "\n"
        self._sign(text)

    def keyring(self, debians: bytes) -> bytes:
        """Debian's keyring with the key of this archive."""
        key = self._gpg("--export")
        return debians + key

    def _made(self, part: dict[str, str]) -> dict[str, str]:
        name = part["Package"]
        file = self._built(name) if name in BUILT else self._packed(part)
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

    def _built(self, name: str) -> Path:
        folder = self._work / "sources" / BUILT[name]
        folder.mkdir(parents=True)
        fetched = next((file for suite in SUITES if (file := self._source(BUILT[name], suite))), None)
        assert fetched, f"the source of {name} is nowhere"
        subprocess.run(["tar", "xf", fetched, "-C", folder], check=True)
        tree = next(p for p in folder.iterdir() if p.is_dir())
        subprocess.run(["dpkg-buildpackage", "-b", "-us", "-uc", "-d"], cwd=tree, capture_output=True, check=True)
        return next(folder.glob(f"{name}_*.udeb"))

    def _source(self, source: str, suite: str) -> Path | None:
        if suite not in self._sources:
            index = self._archive.fetch(f"dists/{suite}/main/source/Sources.xz")
            self._sources[suite] = lzma.decompress(index.read_bytes()).decode() if index else ""
        block = re.search(rf"^Package: {re.escape(source)}\n(?:.+\n)*", self._sources[suite], re.M)
        if block is None:
            return None
        told = paragraphs(block[0])[0]
        tarball = next(line.split()[2] for line in told["Checksums-Sha256"].split("\n") if ".tar." in line)
        return self._archive.fetch(f"{told['Directory']}/{tarball}")

    def _packed(self, part: dict[str, str]) -> Path:
        name = part["Package"]
        tree = self._work / "taken" / name
        for package in TAKEN.get(name, ()):
            at = self._work / "taken" / f"{name}.{package}"
            at.mkdir(parents=True)
            subprocess.run(["apt-get", "download", package], cwd=at, capture_output=True, check=True)
            subprocess.run(["dpkg-deb", "-x", next(at.glob("*.deb")), at / "x"], check=True)
            for file in sorted((at / "x").rglob("*")):
                inside = str(file.relative_to(at / "x"))
                if (file.is_file() or file.is_symlink()) and _KEPT.match("/" + inside) and "/share/" not in inside:
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

    def _gpg(self, *words: str, given: bytes = b"") -> bytes:
        command = ["gpg", "--homedir", str(self._gnupg), "--batch", "--pinentry-mode", "loopback", "--passphrase", ""]
        return subprocess.run([*command, *words], input=given, capture_output=True, check=True).stdout


def with_keyring(initrd: bytes, parts: Parts) -> bytes:
    """An initial file system whose keyring has the archive's key too: what comes later in it replaces what was there
    (Linux, Documentation/driver-api/early-userspace/buffer-format)."""
    import os
    import tempfile

    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        with gzip.open(io.BytesIO(initrd)) as f:
            subprocess.run(["cpio", "-id", "--quiet", KEYRING], cwd=folder, input=f.read(), check=True)
        file = folder / KEYRING
        file.write_bytes(parts.keyring(file.read_bytes()))
        os.chmod(file, 0o644)
        packed = subprocess.run(["cpio", "-o", "-H", "newc", "--quiet", "-R", "0:0"], cwd=folder, check=True,
                                input=KEYRING.encode(), capture_output=True).stdout  # fmt: skip
    return initrd + gzip.compress(packed)
