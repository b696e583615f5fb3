"""The present state of doors: each probed with its own protocol, all together."""

from __future__ import annotations

import selectors
import time
from collections.abc import Iterable
from ipaddress import IPv4Address

from dacha.core.heard import Heard
from dacha.core.plan.doors import DoorPlan, entered_at
from dacha.host.probe.patience import PatientProbe, Place
from dacha.host.probe.probing import door_targets, probe_all
from dacha.wire.probes import Verdict

# The interval of a waiting loop (seconds), and of its queries to QEMU.
TICK_S, TAKEN_S = 0.25, 0.5


class Watcher:
    """The environment of a wait, besides its doors."""

    def open(self, door: DoorPlan, after_s: float) -> None:
        """A door responds, `after_s` seconds after the wait began."""

    def tick(self, waiting: list[DoorPlan]) -> None:
        """These are still waited for."""

    def alive(self, guest: str) -> bool:
        """False for a guest that has stopped: its doors are not waited for."""
        return True

    def gave_up(self, guest: str) -> str | None:
        """The message of a guest's kernel panic: its doors are not waited for then."""
        return None

    def boot_failed(self, guest: str) -> str:
        """Why a guest's boot does not continue by itself, as its console shows it: its doors are not waited for then.
        "" while it may."""
        return ""

    def renew(self, door: DoorPlan) -> DoorPlan:
        """A door as it is known by now, for one whose guest had no address yet."""
        return door

    def taken(self, guest: str) -> frozenset[tuple[int, IPv4Address, int]] | None:
        """The connections through its process's forwards that a guest has accepted: host port, address, port."""
        return None


def probe_doors(
    doors: Iterable[DoorPlan],
    timeout_s: float,
    lan: IPv4Address | None,
    watcher: Watcher | None = None,
    more_s: float = 0.0,
) -> dict[object, Verdict]:
    """The verdict on each door by (guest, name), within `timeout_s` seconds; `lan` is this host's LAN address. UDP
    doors have no verdict. With a `watcher`, a service that accepts connections and sends nothing has `more_s` seconds
    more: it may be slow."""
    doors = list(doors)
    by_key: dict[object, DoorPlan] = {(d.door.guest, d.door.name): d for d in doors}

    def patient(keys: set[object]) -> set[object]:
        once = _Once(watcher) if watcher else None
        return {key for key in keys if once and has_arrived(by_key[key], once)}

    return probe_all(door_targets(doors, lan), timeout_s, patient, more_s if watcher else 0.0)


class _Once(Watcher):
    """Queries each guest only once for its accepted connections."""

    def __init__(self, watcher: Watcher) -> None:
        self._watcher = watcher
        self._taken: dict[str, frozenset[tuple[int, IPv4Address, int]] | None] = {}

    def taken(self, guest: str) -> frozenset[tuple[int, IPv4Address, int]] | None:
        if guest not in self._taken:
            self._taken[guest] = self._watcher.taken(guest)
        return self._taken[guest]


def has_arrived(door: DoorPlan, watcher: Watcher) -> bool:
    """True if an accepted connection proves that the guest accepted it: in user mode QEMU accepts first."""
    if door.backend != "user" or door.means != "forward":
        return True
    have = watcher.taken(door.door.guest)
    return have is None or any((f.port, f.address, f.to) in have for f in door.forwards())


def wait_for(
    doors: Iterable[DoorPlan], timeout_s: float, lan: IPv4Address | None, watcher: Watcher
) -> dict[DoorPlan, Verdict]:
    """Wait until every door responds; returns the last verdict on those that did not within `timeout_s` seconds.

    A guest may need minutes for its first answer: accepted connections are waited for, others are repeated.
    """
    began = time.monotonic()
    waiting = {(d.door.guest, d.door.name): d for d in doors if d.door.protocol == "tcp"}
    probes: dict[tuple[str, str], PatientProbe] = {}
    failed: dict[DoorPlan, Verdict] = {}
    with selectors.DefaultSelector() as selector:
        try:
            while waiting and time.monotonic() - began < timeout_s:
                watcher.tick(list(waiting.values()))
                ended = {g: why for g in {key[0] for key in waiting} if (why := _ended(watcher, g))}
                _step(waiting, probes, selector, lan, watcher)
                _answers(selector, min(time.monotonic() + TICK_S, began + timeout_s))
                for key, door in list(waiting.items()):
                    probe = probes.get(key)
                    if probe and probe.answer:
                        watcher.open(door, time.monotonic() - began)
                    elif key[0] in ended:
                        failed[door] = Verdict(False, ended[key[0]])
                    else:
                        continue
                    if probe:
                        probe.close()
                    del waiting[key]
            for key, door in waiting.items():
                failed[door] = _last(probes.get(key))
        finally:
            for probe in probes.values():
                probe.close()
    return failed


def _ended(watcher: Watcher, guest: str) -> str:
    """Why a guest cannot respond any more; "" while it may."""
    if not watcher.alive(guest):
        return "its guest has stopped"
    said = watcher.gave_up(guest)
    return f"its kernel panicked: {said}" if said else watcher.boot_failed(guest)


def _last(probe: PatientProbe | None) -> Verdict:
    """The result for a door that did not respond in time."""
    if probe is None:
        return Verdict(False, "it has no address yet")
    since = probe.silent_since
    if since is None:
        return probe.last
    return Verdict(
        False, f"it accepts connections, but sent nothing for {time.monotonic() - since:.0f} s", heard=Heard.MUTE
    )


def _step(
    waiting: dict[tuple[str, str], DoorPlan],
    probes: dict[tuple[str, str], PatientProbe],
    selector: selectors.BaseSelector,
    lan: IPv4Address | None,
    watcher: Watcher,
) -> None:
    """Advance every probe; create one for each door whose address is known."""
    told: dict[str, frozenset[tuple[int, IPv4Address, int]] | None] = {}
    now = time.monotonic()
    for key, door in waiting.items():
        place = entered_at(door, lan)
        if place is None:
            waiting[key] = door = watcher.renew(door)
            place = entered_at(door, lan)
        if place is None:
            continue
        if key not in probes:
            probes[key] = PatientProbe(selector, Place(*place, door.door.service))
        taken: bool | None = None
        since = probes[key].oldest_s
        if door.backend == "user" and door.means == "forward" and since is not None and now - since >= TAKEN_S:
            if key[0] not in told:
                told[key[0]] = watcher.taken(key[0])
            have = told[key[0]]
            if have is not None:
                taken = any((f.port, f.address, f.to) in have for f in door.forwards())
        probes[key].step(now, taken)


def _answers(selector: selectors.BaseSelector, until: float) -> None:
    """Process what arrives before `until` (seconds, monotonic); returns early if something did."""
    left = until - time.monotonic()
    if not selector.get_map():
        time.sleep(max(0.0, left))
        return
    for entry, mask in selector.select(max(0.0, left)):
        probe, connection = entry.data
        probe.ready(connection, mask, time.monotonic())
