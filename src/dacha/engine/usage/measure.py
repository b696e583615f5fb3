"""Measure what guests use: their processes by /proc (proc(5)), their disks by QEMU, their links by the kernel, their
own memory by their agents."""

from __future__ import annotations

import contextlib
import os
import time
from collections.abc import Iterable, Mapping
from pathlib import Path

from dacha.core.apply.machine import Machine
from dacha.core.errors import DachaError
from dacha.core.named import NamedTuple
from dacha.core.units import MIB
from dacha.core.usage.usage import HostUsage, Place, Rates, Sample, Storage, rates
from dacha.engine.disks.room import space
from dacha.engine.home import Home
from dacha.engine.workspace import Workspace
from dacha.formats.disk.qcow2 import size_of
from dacha.host import facts
from dacha.hypervisor.command_line import WATCH

TICKS = os.sysconf("SC_CLK_TCK")
PAGE = os.sysconf("SC_PAGE_SIZE")
# How long QEMU and an agent may take (seconds).
QEMU_S, AGENT_S = 1.0, 1.5
NOT_COUNTED = "QEMU's user-mode networks have no counters"


class GuestUsage(NamedTuple):
    """A guest: its rates (None if it is off), its last sample, and its files. `unknown` are reasons for what could not
    be measured."""

    name: str
    rates: Rates | None
    sample: Sample | None
    storage: Storage
    unknown: tuple[str, ...]


class Usage(NamedTuple):
    """Every guest of a lab, and this host."""

    guests: tuple[GuestUsage, ...]
    host: HostUsage


def samples(ws: Workspace, *, agents: bool) -> dict[str, Sample]:
    """A sample of each running guest; with `agents`, also of the memory inside it."""
    found = {}
    for name in ws.lab.guests:
        record = ws.home.read(name)
        if not ws.home.is_running(name) or record.process is None or record.machine is None:
            continue
        with contextlib.suppress(OSError, ValueError, IndexError):
            found[name] = _sample(ws.home, name, record.process.pid, record.machine, agents=agents)
    return found


def _sample(home: Home, name: str, pid: int, machine: Machine, *, agents: bool) -> Sample:
    after_name = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    resident = int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * PAGE
    at = time.monotonic()
    read, written = _disks(home, name)
    received, sent = _links(machine)
    return Sample(
        at=at,
        cpu_s=(int(after_name[11]) + int(after_name[12])) / TICKS,
        resident=resident,
        promised=machine["memory_mib"] * MIB,
        available=_available(home, name) if agents else None,
        read=read,
        written=written,
        received=received,
        sent=sent,
    )


def _disks(home: Home, name: str) -> tuple[int | None, int | None]:
    """The bytes that a guest read from its disks and wrote to them since its start; None if QEMU does not answer."""
    from dacha.hypervisor.monitor.qmp import Qmp

    try:
        with Qmp(home.run(name) / WATCH, timeout_s=QEMU_S) as qmp:
            told = qmp.execute("query-blockstats")
        mine = [d["stats"] for d in told if "disk-" in str(d.get("qdev", "")) or "disk-" in str(d.get("node-name", ""))]
        return sum(int(s["rd_bytes"]) for s in mine), sum(int(s["wr_bytes"]) for s in mine)
    except (OSError, DachaError, KeyError, TypeError, ValueError):
        return None, None


def _links(machine: Machine) -> tuple[int | None, int | None]:
    """The bytes that a guest received and sent through its links; None if one of its networks has no counters."""
    taps = [a["tap"] for a in machine["adapters"]]
    if not taps or any(t is None for t in taps):
        return None, None
    try:
        lines = Path("/proc/net/dev").read_text().splitlines()[2:]
        counters = {name.strip(): told.split() for name, _, told in (line.partition(":") for line in lines)}
        # What this host sends into a link is what the guest receives.
        return sum(int(counters[str(t)][8]) for t in taps), sum(int(counters[str(t)][0]) for t in taps)
    except (OSError, KeyError, IndexError, ValueError):
        return None, None


def _available(home: Home, name: str) -> int | None:
    """The memory that the guest could release, as its kernel says (MemAvailable, bytes); None without an agent."""
    from dacha.hypervisor.monitor import agent

    if agent.runs(home.run(name)) is False:
        return None
    said = agent.run_script(home.run(name), "cat /proc/meminfo", AGENT_S) or ""
    words = next((line.split() for line in said.splitlines() if line.startswith("MemAvailable:")), [])
    return int(words[1]) * 1024 if len(words) > 1 and words[1].isdigit() else None


def storage(home: Home, name: str) -> Storage:
    """The files of a guest on this host. Each is counted once, by the blocks that it has."""
    size, oldest, seen = 0, None, set[tuple[int, int]]()
    paths = [path for _, path in home.disks(name)]
    paths += [p for p in home.guest(name).rglob("*") if p.is_file()] if home.guest(name).is_dir() else []
    for path in paths:
        with contextlib.suppress(OSError):
            found = path.stat()
            if (found.st_dev, found.st_ino) not in seen:
                seen.add((found.st_dev, found.st_ino))
                size += found.st_blocks * 512
    for disk, _ in home.disks(name):
        with contextlib.suppress(OSError):
            # Its record is written once, when the disk is created.
            made = home.disk_note(name, disk).stat().st_mtime
            oldest = made if oldest is None else min(oldest, made)
    return Storage(size, None if oldest is None else max(0.0, time.time() - oldest))


def usage(
    ws: Workspace, before: Mapping[str, Sample], after: Mapping[str, Sample], growths: Mapping[str, float]
) -> Usage:
    """What guests use, from two samples of each, and the measured growth of their files (bytes a day) if known."""
    guests = []
    for name in ws.lab.guests:
        old, new = before.get(name), after.get(name)
        unknown = []
        if new is not None:
            if new.received is None and ws.lab.guests[name].adapters:
                unknown.append(f"traffic: {NOT_COUNTED}")
            if new.read is None:
                unknown.append("disks: QEMU does not respond")
            if new.available is None:
                unknown.append("free memory inside: no guest agent says it")
        stored = storage(ws.home, name)._replace(measured=growths.get(name))
        between = rates(old, new) if old is not None and new is not None and old.cpu_s <= new.cpu_s else None
        guests.append(GuestUsage(name, between, new, stored, tuple(unknown)))
    return Usage(tuple(guests), _host(ws, guests))


def _host(ws: Workspace, guests: Iterable[GuestUsage]) -> HostUsage:
    have = facts.facts([ws.home.folder])
    on = [g for g in guests if g.sample is not None]
    return HostUsage(
        cpus=have.cpus,
        cpus_promised=sum(ws.lab.guests[g.name].cpus for g in on),
        cpu=sum(g.rates.cpu for g in on if g.rates),
        memory=have.memory,
        memory_promised=sum(g.sample.promised for g in on if g.sample),
        memory_resident=sum(g.sample.resident for g in on if g.sample),
        memory_free=have.memory_free,
        places=tuple(_places(ws, {g.name: g.storage for g in guests})),
    )


def _places(ws: Workspace, stored: Mapping[str, Storage]) -> Iterable[Place]:
    """Each file system with disks of the lab."""
    by_device: dict[int, list[tuple[str, Path]]] = {}
    for name in ws.lab.guests:
        for _, path in ws.home.disks(name):
            with contextlib.suppress(OSError):
                real = path.resolve(strict=True)
                by_device.setdefault(real.stat().st_dev, []).append((name, real))
    for disks in by_device.values():
        free, size = space(disks[0][1])
        used = sum(p.stat().st_blocks * 512 for _, p in disks)
        promised = 0
        for _, path in disks:
            with contextlib.suppress(OSError), path.open("rb") as f:
                promised += max(0, size_of(f.read(32)) - path.stat().st_blocks * 512)
        growths = [g for name in {n for n, _ in disks} if (g := stored[name].growth) is not None]
        yield Place(
            str(disks[0][1].parent), size, free, used, promised,
            sum(growths) if growths else None,
        )  # fmt: skip
