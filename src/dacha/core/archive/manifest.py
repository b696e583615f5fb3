"""The description of a guest in an archive, and the form of the archive itself.

An archive is a tar file (POSIX pax) whose members come in this order: `dacha-guest.json`, the description; for each
disk the blocks of its qcow2 image that are not empty, `disk-NAME/NUMBER.zst`, each of BLOCK bytes at NUMBER times
BLOCK (Zstandard, RFC 8878, with a checksum); further files; and `end.json`, with the number of the members before it
and one BLAKE2b (RFC 7693) of them all. So each block can be checked on its own, an archive can be written to a pipe
and read from one, and one that was truncated or altered has no valid end.

An archive may have only what changed since another one: then its images have those parts alone, and are read on top of
that one's. Each knows the other by an identifier, not by its file name.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from typing import Any

from dacha.core.errors import PeerError
from dacha.core.named import NamedTuple

# An archive with changes only is of version 2.
VERSION = 2
# A block of an image (bytes); the first and last member.
BLOCK = 4 << 20
FIRST, LAST = "dacha-guest.json", "end.json"
# The largest description, image and number of disks that are accepted.
DESCRIPTION_MOST, IMAGE_MOST, DISKS_MOST = 1 << 20, 64 << 40, 64
# The most archives that one builds on.
DEPTH_MOST = 100
# Further files that an archive may have, with the largest size of each (bytes).
FURTHER = {"uefi-variables.fd": 64 << 20, "uefi-secure-variables.fd": 64 << 20, "host_key": 64 << 10,
           "host_key.pub": 64 << 10}  # fmt: skip
_BLOCK_NAME = re.compile(r"disk-([A-Za-z0-9][A-Za-z0-9_.-]{0,62})/(\d{1,8})\.zst")
_ID = re.compile(r"[0-9a-f]{16}|")
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9_.-]{0,62}")


class ArchivedDisk(NamedTuple):
    """A disk in an archive: its name, bus, the size that the guest sees, and the length of its image (bytes)."""

    name: str
    bus: str
    size: int
    length: int


class Manifest(NamedTuple):
    """The description of a guest: its name and lab, when it was saved (Unix seconds), its processor architecture, its
    table of the lab file, its disks, the medium that it was installed from, whether it ran, and whether its file
    systems were frozen. `id` identifies an archive that others may build on; one with changes only has the identifier
    of its `base`, the time of that one in `since`, and in `depth` how many it builds on."""

    guest: str
    lab: str
    at: float
    architecture: str
    table: Mapping[str, Any]
    disks: tuple[ArchivedDisk, ...]
    installed: str | None
    running: bool
    frozen: bool
    id: str = ""
    base: str = ""
    since: float = 0.0
    depth: int = 0

    def text(self) -> str:
        """The description as JSON."""
        raw = self._asdict() | {"disks": [d._asdict() for d in self.disks], "table": dict(self.table)}
        return json.dumps({"version": 2 if self.base else 1, **raw}, indent=1, default=str)


def manifest_from(text: bytes) -> Manifest:
    """A description from an archive. Raises PeerError for one that is malformed, or of a newer version."""
    try:
        raw = json.loads(text)
        version = raw["version"]
        if not isinstance(version, int) or version > VERSION:
            raise PeerError(f"the archive was written by a newer dacha (version {version})")
        disks = tuple(
            ArchivedDisk(str(d["name"]), str(d["bus"]), int(d["size"]), int(d["length"])) for d in raw["disks"]
        )
        if len(disks) > DISKS_MOST or any(not 0 < d.length <= IMAGE_MOST or not _NAME.fullmatch(d.name) for d in disks):
            raise PeerError("the archive describes disks that are not possible")
        own, base, since = str(raw.get("id", "")), str(raw.get("base", "")), float(raw.get("since", 0.0))
        depth = int(raw.get("depth", 0))
        if not _ID.fullmatch(own) or not _ID.fullmatch(base) or bool(base) != (0 < depth <= DEPTH_MOST):
            raise PeerError("the archive does not tell what it builds on")
        if not isinstance(raw["table"], dict):
            raise PeerError("the archive's table of the guest is not a table")
        installed = raw["installed"]
        return Manifest(
            guest=str(raw["guest"]), lab=str(raw["lab"]), at=float(raw["at"]), architecture=str(raw["architecture"]),
            table=raw["table"], disks=disks, installed=None if installed is None else str(installed),
            running=bool(raw["running"]), frozen=bool(raw["frozen"]), id=own, base=base, since=since, depth=depth,
        )  # fmt: skip
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError, OverflowError) as e:
        raise PeerError("the archive's description is malformed", why=str(e)) from e


def block_of(member: str) -> tuple[str, int] | None:
    """The disk and the number of a block, from the name of its member; None for another member."""
    found = _BLOCK_NAME.fullmatch(member)
    return (found[1], int(found[2])) if found else None


def block_name(disk: str, number: int) -> str:
    """The name of the member with a block."""
    return f"disk-{disk}/{number:08}.zst"


class Seal:
    """The digest of all members, in their order: names and contents."""

    def __init__(self) -> None:
        self._digest, self.members = hashlib.blake2b(digest_size=32), 0

    def add(self, name: str, data: bytes) -> None:
        """Add a member."""
        for part in (name.encode(), data):
            self._digest.update(len(part).to_bytes(8, "big"))
            self._digest.update(part)
        self.members += 1

    def text(self) -> str:
        """The last member, as JSON."""
        return json.dumps({"members": self.members, "blake2b": self._digest.hexdigest()})
