"""The usage of a lab's guests as OpenMetrics text, for programs that collect it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from dacha.core.usage.usage import Sample
from dacha.engine.usage.doors import door_bytes
from dacha.engine.usage.history import recent_growths
from dacha.engine.usage.measure import Usage, samples, usage
from dacha.engine.workspace import Workspace
from dacha.formats.metrics.open_metrics import Family, text
from dacha.host.files import replace_file


def exposition(ws: Workspace) -> str:
    """The present counters and sizes: whoever collects them computes the rates."""
    now = samples(ws, agents=False)
    found = usage(ws, now, now, recent_growths(ws.home))
    lab = ws.lab.name

    def of(value: Callable[[Sample], float | None]) -> list[tuple[dict[str, str], float]]:
        rows = ((name, value(sample)) for name, sample in now.items())
        return [({"lab": lab, "guest": name}, told) for name, told in rows if told is not None]

    return text(
        [
            Family("dacha_guest_running", "gauge", "", "Whether the guest's process runs.",
                   [({"lab": lab, "guest": n}, float(n in now)) for n in ws.lab.guests]),
            Family("dacha_guest_cpu_seconds", "counter", "seconds", "Processor time of the guest's process.",
                   of(lambda s: s.cpu_s)),
            Family("dacha_guest_memory_resident_bytes", "gauge", "bytes", "Memory of the guest's process on this host.",
                   of(lambda s: float(s.resident))),
            Family("dacha_guest_memory_promised_bytes", "gauge", "bytes", "Memory of the guest by the lab file.",
                   of(lambda s: float(s.promised))),
            Family("dacha_guest_disk_read_bytes", "counter", "bytes", "Bytes that the guest read from its disks.",
                   of(lambda s: None if s.read is None else float(s.read))),
            Family("dacha_guest_disk_written_bytes", "counter", "bytes", "Bytes that the guest wrote to its disks.",
                   of(lambda s: None if s.written is None else float(s.written))),
            Family("dacha_guest_network_received_bytes", "counter", "bytes", "Bytes that the guest received.",
                   of(lambda s: None if s.received is None else float(s.received))),
            Family("dacha_guest_network_sent_bytes", "counter", "bytes", "Bytes that the guest sent.",
                   of(lambda s: None if s.sent is None else float(s.sent))),
            Family("dacha_guest_storage_bytes", "gauge", "bytes", "Size of the guest's files on this host.",
                   [({"lab": lab, "guest": g.name}, float(g.storage.size)) for g in found.guests]),
            *_doors(ws),
            *_host(found),
        ]
    )  # fmt: skip


def _doors(ws: Workspace) -> list[Family]:
    counted = door_bytes(ws)
    rows = [({"lab": ws.lab.name, "guest": g, "door": d}, told) for (g, d), told in counted.items()]
    return [
        Family("dacha_door_received_bytes", "counter", "bytes", "Bytes that came in through a door.",
               [(labels, float(told.received)) for labels, told in rows]),
        Family("dacha_door_sent_bytes", "counter", "bytes", "Bytes that went out through a door.",
               [(labels, float(told.sent)) for labels, told in rows]),
    ]  # fmt: skip


def _host(found: Usage) -> list[Family]:
    host = found.host
    places = [({"folder": p.folder}, p) for p in host.places]
    return [
        Family("dacha_host_memory_bytes", "gauge", "bytes", "Memory of this host.", [({}, float(host.memory))]),
        Family("dacha_host_memory_free_bytes", "gauge", "bytes", "Memory of this host that is available.",
               [({}, float(host.memory_free))]),
        Family("dacha_storage_free_bytes", "gauge", "bytes", "Free space of a file system with disks of the lab.",
               [(labels, float(p.free)) for labels, p in places]),
        Family("dacha_storage_size_bytes", "gauge", "bytes", "Size of a file system with disks of the lab.",
               [(labels, float(p.size)) for labels, p in places]),
    ]  # fmt: skip


def write(ws: Workspace, file: Path) -> None:
    """Replace a file with the present measurements: a collector never reads half of them. Raises HostError."""
    replace_file(file, exposition(ws), 0o644)
