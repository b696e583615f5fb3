"""What a medium is: read from its own bytes, never guessed. Unknown properties are reported as unknown."""

from __future__ import annotations

import re
import struct
from collections.abc import Mapping
from typing import BinaryIO, Protocol

from dacha.core.named import NamedTuple
from dacha.formats import wim

SECTOR = 2048


class Medium(NamedTuple):
    """An installer medium. `family`, `version` and `architecture` are "" if the medium does not contain them;
    `editions` are those of a Windows medium, each with its number, identifier and name; `problems` are reasons why it
    would not work."""

    kind: str
    label: str = ""
    bios: bool = False
    uefi: bool = False
    family: str = ""
    version: str = ""
    architecture: str = ""
    press_key: bool = False
    problems: tuple[str, ...] = ()
    editions: tuple[tuple[int, str, str], ...] = ()


def looks_like_web_page(head: bytes) -> bool:
    """True for an HTML page, which a failed download often leaves under the medium's name."""
    start = head.lstrip(b"\xef\xbb\xbf \t\r\n")[:200].lower()
    return start.startswith((b"<!doctype html", b"<html", b"<?xml", b"<head"))


def is_iso(fp: BinaryIO) -> bool:
    """True if an ISO 9660 volume descriptor is at its place (ECMA-119 section 6.7.1)."""
    fp.seek(16 * SECTOR + 1)
    return fp.read(5) == b"CD001"


def inspect_iso(fp: BinaryIO, size: int) -> Medium:
    """Examine an ISO image of `size` bytes; `fp` reads it."""
    fp.seek(16 * SECTOR)
    pvd = fp.read(SECTOR)
    if len(pvd) < SECTOR:
        return Medium("iso", problems=(f"truncated: it has only {size} bytes",))
    label = pvd[40:72].decode("latin-1").strip()
    blocks, block = struct.unpack_from("<I", pvd, 80)[0], struct.unpack_from("<H", pvd, 128)[0]
    problems = []
    if blocks * block > size:
        problems.append(f"truncated: it has {size} of {blocks * block} bytes")
        return Medium("iso", label, problems=tuple(problems))
    bios, uefi = _el_torito(fp)
    read = _reader(fp)
    family, version, architecture = _system(label, read)
    loaders = [a for name, a in _LOADERS if read(f"/EFI/BOOT/{name}", 0) is not None]
    if not architecture and len(loaders) == 1:
        architecture = loaders[0]
    uefi = uefi or bool(loaders)
    if architecture and architecture not in ("amd64", "i386"):
        problems.append(f"it is for {architecture}, but this host runs amd64")
    # A boot loader with this file beside it waits for a key before it starts from the medium ("press any key").
    press_key = read("/boot/bootfix.bin", 0) is not None
    editions = _editions(read) if family == "windows" else ()
    return Medium("iso", label, bios, uefi, family, version, architecture, press_key, tuple(problems), editions)


def _editions(read: Read) -> tuple[tuple[int, str, str], ...]:
    for path in wim.FILES:
        if found := wim.editions(lambda at, size, path=path: read(path, size, at)):  # type: ignore[misc]
            return tuple((e.number, e.edition, e.name) for e in found)
    return ()


def _el_torito(fp: BinaryIO) -> tuple[bool, bool]:
    """Whether a boot catalogue has entries for BIOS and for UEFI (El Torito 1.0 section 2; UEFI 2.10 section
    13.3.2.1)."""
    fp.seek(17 * SECTOR)
    record = fp.read(SECTOR)
    if record[:7] != b"\0CD001\x01" or not record[7:].startswith(b"EL TORITO SPECIFICATION"):
        return False, False
    fp.seek(struct.unpack_from("<I", record, 71)[0] * SECTOR)
    catalogue = fp.read(SECTOR)
    if len(catalogue) < SECTOR:
        return False, False  # it points beyond the medium
    platform = catalogue[1]
    found = {platform: catalogue[32:33] == b"\x88"}
    at = 64
    while at + 32 <= len(catalogue) and catalogue[at] in (0x90, 0x91):
        platform, count, last = catalogue[at + 1], catalogue[at + 2], catalogue[at] == 0x91
        for n in range(count):
            entry = catalogue[at + 32 * (n + 1) :][:32]
            found[platform] = found.get(platform, False) or entry[:1] == b"\x88"
        at += 32 * (count + 1)
        if last:
            break
    return found.get(0, False), found.get(0xEF, False)


class Read(Protocol):
    """A file's bytes from an offset on, at most as many as requested; None if no such file exists."""

    def __call__(self, path: str, most: int, at: int = 0) -> bytes | None: ...


def _reader(fp: BinaryIO) -> Read:
    """A function that reads files by path, from whichever of the image's name spaces has them. It returns None if none
    has."""
    import pycdlib

    iso = pycdlib.PyCdlib()  # type: ignore[attr-defined]  # untyped package
    try:
        iso.open_fp(fp)
    except MemoryError:
        raise  # the caller that set the limit reports it
    except Exception:  # in damaged images, the library may fail anywhere
        return lambda path, most, at=0: None

    def read(path: str, most: int, at: int = 0) -> bytes | None:
        plain = path.upper() if "." in path.rpartition("/")[2] else path.upper() + "."
        for form, name in (("rr_path", path), ("joliet_path", path), ("udf_path", path), ("iso_path", plain + ";1")):
            try:
                if not most:
                    iso.get_record(**{form: name})
                    return b""
                # Only as much as requested: a file in an image may claim any length.
                with iso.open_file_from_iso(**{form: name}) as f:
                    f.seek(at)
                    return bytes(f.read(most))
            except MemoryError:
                raise
            except Exception:  # as above
                continue
        return None

    return read


def read_files(fp: BinaryIO, wanted: Mapping[str, int]) -> dict[str, bytes] | None:
    """Files of an ISO image by path, each up to a maximum size; None if one is missing or larger."""
    read = _reader(fp)
    found: dict[str, bytes] = {}
    for path, most in wanted.items():
        content = read(path, most + 1)
        if not content or len(content) > most:
            return None
        found[path] = content
    return found


_LOADERS = (
    ("BOOTX64.EFI", "amd64"),
    ("BOOTAA64.EFI", "arm64"),
    ("BOOTIA32.EFI", "i386"),
    ("BOOTRISCV64.EFI", "riscv64"),
)
_ARCHITECTURES = {
    "x86_64": "amd64",
    "aarch64": "arm64",
    "i686": "i386",
    "x86": "i386",
    "amd64": "amd64",
    "arm64": "arm64",
    "i386": "i386",
    "x64": "amd64",
}
# Volume labels by family: family, pattern with version and architecture.
_LABELS = (
    ("alpine", r"alpine-\S+ v?(?P<version>[\d.]+) (?P<architecture>\S+)"),
    ("bsd", r"(?P<version>\d+_\d+)_RELEASE_(?P<architecture>[A-Z0-9]+)_(?:CD|DVD|BO)"),
    ("bsd", r"OpenBSD/(?P<architecture>\S+)\s+(?P<version>[\d.]+) Install"),
    ("bsd", r"NETBSD_(?P<version>\d+)"),
)


def _system(label: str, read: Read) -> tuple[str, str, str]:
    """Family, version and architecture, from known files of installers."""
    info = read("/.disk/info", 400)
    if info:
        found = re.match(r"(Debian|Ubuntu)\D*([\d.]+)?", text := info.decode("utf-8", "replace"))
        if found:
            words = re.findall(r"\b(amd64|arm64|i386|riscv64|ppc64el|s390x)\b", text)
            return str(found[1]).lower(), str(found[2] or "").strip("."), str(words[0]) if words else ""
    tree = read("/.treeinfo", 4000)
    if tree:
        text = tree.decode("utf-8", "replace")
        keys = dict(re.findall(r"^\s*(\w+)\s*=\s*(\S.*?)\s*$", text, re.M))
        arch = keys.get("arch", "")
        return "fedora", str(keys.get("version", "")), _ARCHITECTURES.get(arch, str(arch))
    for family, pattern in _LABELS:
        found = re.match(pattern, label)
        if found:
            named = found.groupdict()
            arch = named.get("architecture", "").lower()
            return family, named.get("version", "").replace("_", "."), _ARCHITECTURES.get(arch, arch)
    if read("/sources/boot.wim", 0) is not None or read("/sources/install.wim", 0) is not None:
        found = re.search(r"_(X64|X86|A64)F", label)
        return "windows", "", {"X64": "amd64", "X86": "i386", "A64": "arm64"}[found[1]] if found else ""
    return "", "", ""
