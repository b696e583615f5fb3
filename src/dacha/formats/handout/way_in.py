"""One way into one guest, as every client's file is made from it."""

from __future__ import annotations

import base64
import binascii
from hashlib import sha256
from typing import NamedTuple


class WayIn(NamedTuple):
    """A service of a guest, where somebody enters it from their place: `name` is the guest's name in the lab's domain,
    `user` who logs in ("" for nobody named), `host_key` its SSH host key as a public line ("" where none is known)."""

    guest: str
    door: str
    service: str
    address: str
    port: int
    name: str
    user: str = ""
    host_key: str = ""

    @property
    def session(self) -> str:
        """A name that no other way of the lab has: the guest's, with the door's unless that is its ssh door."""
        return self.guest if self.door == "ssh" else f"{self.guest}-{self.door}"

    @property
    def fingerprint(self) -> str:
        """The host key's, as clients show it at the first contact; "" where no key is known."""
        try:
            blob = base64.b64decode(self.host_key.split()[1], validate=True)
        except (IndexError, binascii.Error):
            return ""
        return "SHA256:" + base64.b64encode(sha256(blob).digest()).decode().rstrip("=")


class Shut(NamedTuple):
    """A service that cannot be entered from that place: why, and what would open it."""

    guest: str
    door: str
    service: str
    why: str
    remedy: str
