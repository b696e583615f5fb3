"""What the caretaker does for guests beside their networks: it minds them, archives them, measures them, and gives them
USB devices."""

from __future__ import annotations

from functools import partial

from dacha.caretaker.minding.alerts import Alerts
from dacha.caretaker.minding.archiving import Archiving
from dacha.caretaker.minding.measuring import Measuring
from dacha.caretaker.minding.minding import Minding
from dacha.caretaker.minding.plugging import Plugging
from dacha.engine.caretaker.process import RotatingLog
from dacha.engine.workspace import Workspace


class Housekeeping:
    """All of it for one lab, from the first `renew` until `close`; `alerts` run the user's commands."""

    def __init__(self, log: RotatingLog) -> None:
        self.alerts = Alerts()
        self._parts = (
            self.alerts,
            Minding(self.alerts, partial(log.say, bucket="minding")),
            Archiving(self.alerts, partial(log.say, bucket="archives")),
            Measuring(partial(log.say, bucket="usage")),
            Plugging(partial(log.say, bucket="usb")),
        )

    def renew(self, ws: Workspace) -> None:
        """The lab as it is now."""
        for part in self._parts:
            part.renew(ws)

    def close(self) -> None:
        for part in reversed(self._parts):
            part.close()
