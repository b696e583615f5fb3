"""Changes of a guest's USB devices in the lab file."""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.errors import BadValue, HostError, UsageError
from dacha.core.findings import Path
from dacha.core.lab.model import Guest
from dacha.core.lab.text.edits import Edit, Remove, Set
from dacha.core.lab.usb import Usb, from_text, matched
from dacha.host.devices.usb import devices


def usb_edits(guest: Guest, here: Path, add: Iterable[str], remove: Iterable[str]) -> list[Edit]:
    """Add and remove devices, as typed. Raises UsageError for what is not there, HostError for a device that this host
    itself uses."""
    entries = list(guest.usb)
    for usb in map(_typed, remove):
        if usb not in entries:
            known = ", ".join(map(str, entries))
            remedy = f"choose one of its devices: {known}" if known else f"look at it: dacha guest show {guest.name}"
            raise UsageError(f"{guest.name} has no USB device {usb}", remedy=remedy)
        entries.remove(usb)
    new = [usb for usb in map(_typed, add) if usb not in entries]
    found = matched(new, devices()) if new else {}
    for usb in new:
        if found[usb] and all(d.used for d in found[usb]):
            use = found[usb][0].used[0]
            raise HostError(f"this host itself uses the USB device {usb}", why=str(use), remedy=use.remedy)
    entries += new
    if tuple(entries) == guest.usb:
        return []
    return [Set((*here, "usb"), [u.written for u in entries])] if entries else [Remove((*here, "usb"))]


def _typed(text: str) -> Usb:
    try:
        return from_text(text)
    except BadValue as e:
        raise UsageError(e.what, remedy=e.remedy) from None
