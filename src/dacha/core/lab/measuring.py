"""Settings for usage measurements: interval, retention, port for collectors."""

from __future__ import annotations

from dacha.core.named import NamedTuple

# The interval of measurements and its limits, and how long they are stored (seconds).
EVERY_S, EVERY_LEAST_S, EVERY_MOST_S = 300.0, 10.0, 3600.0
KEEP_S, KEEP_MOST_S = 30 * 86400.0, 366 * 86400.0


class Measuring(NamedTuple):
    """The table `usage`: guests are measured every `every_s` seconds, and that is stored for `keep_s` seconds; with
    `port`, the present measurements are served on this port of this host's loopback, for a collector."""

    every_s: float = EVERY_S
    keep_s: float = KEEP_S
    port: int | None = None
