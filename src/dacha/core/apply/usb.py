"""Which USB device of this host goes to which guest: pure, from what the lab file names, what is plugged in, and what
guests have already."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from dacha.core.apply.changes.usb_changes import AttachUsb, DetachUsb
from dacha.core.lab.usb import HostDevice, HostUse, Usb, fits, matched
from dacha.core.named import NamedTuple

# What a guest has: by the name in QEMU, the bus and number at which it was attached (None: not known).
Has = Mapping[str, tuple[int, int] | None]


class Seat(NamedTuple):
    """An entry of the lab file: the device that fits it (None: nothing of the kind is plugged in), whether the guest
    has it, and why it does not get it: this host uses it, or a guest holds it (its name)."""

    usb: Usb
    found: HostDevice | None
    attached: bool = False
    use: HostUse | None = None
    holder: str | None = None

    @property
    def given(self) -> HostDevice | None:
        """The device that the guest has, or gets when it runs."""
        return None if self.use or self.holder else self.found


def seats(
    wanted: Mapping[str, Collection[Usb]], here: Collection[HostDevice], has: Mapping[str, Has]
) -> dict[str, list[Seat]]:
    """The entries of each guest, in the lab's order. What a guest has, it keeps; the first running guest that names a
    device gets it. `has` are the running guests with a USB controller."""
    at = {(d.bus, d.number): d for d in here}
    holders = {
        place: guest
        for guest, attached in has.items()
        for identifier, place in attached.items()
        if place in at and any(u.identifier == identifier and fits(u, at[place]) for u in wanted.get(guest, ()))
    }
    found: dict[str, list[Seat]] = {}
    for guest, entries in wanted.items():
        found[guest] = []
        for usb, fitting in matched(entries, here).items():
            seat = _seat(usb, fitting, has.get(guest), at, holders)
            if seat.given and guest in has:
                holders[seat.given.bus, seat.given.number] = guest
            found[guest].append(seat)
    return found


def _seat(
    usb: Usb,
    fitting: list[HostDevice],
    mine: Has | None,
    at: Mapping[tuple[int, int], HostDevice],
    holders: Mapping[tuple[int, int], str],
) -> Seat:
    place = (mine or {}).get(usb.identifier)
    if place and at.get(place) in fitting:
        return Seat(usb, at[place], attached=True)
    free = [d for d in fitting if (d.bus, d.number) not in holders]
    usable = [d for d in free if not d.used]
    if usable:
        return Seat(usb, usable[0])
    if free:
        return Seat(usb, free[0], use=free[0].used[0])
    if fitting:
        return Seat(usb, fitting[0], holder=holders[fitting[0].bus, fitting[0].number])
    return Seat(usb, None)


def usb_changes(seated: Mapping[str, list[Seat]], has: Mapping[str, Has]) -> list[AttachUsb | DetachUsb]:
    """What gives running guests their devices: first, what they should not have any more is taken away, and what was
    unplugged since."""
    away: list[AttachUsb | DetachUsb] = []
    given: list[AttachUsb | DetachUsb] = []
    for guest, attached in has.items():
        kept = {seat.usb.identifier for seat in seated.get(guest, []) if seat.attached}
        away += [DetachUsb(guest, identifier) for identifier in attached if identifier not in kept]
        given += [
            AttachUsb(guest, seat.usb, seat.given) for seat in seated.get(guest, []) if seat.given and not seat.attached
        ]
    return [*away, *given]
