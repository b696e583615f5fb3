"""The part of the setup script that is the same for every guest: functions in POSIX sh, with the tools of the families
that are known: apt, dnf, apk and pkg; systemd, OpenRC and BSD's rc."""

from dacha.core.inside.shell.accounts import ACCOUNTS
from dacha.core.inside.shell.clock import CLOCK
from dacha.core.inside.shell.frame import CONTENT_END, END, FRAME, SAID
from dacha.core.inside.shell.packages import PACKAGES
from dacha.core.inside.shell.services import SERVICES

FUNCTIONS = "\n".join((FRAME, PACKAGES, ACCOUNTS, SERVICES, CLOCK))

__all__ = ["CONTENT_END", "END", "FUNCTIONS", "SAID"]
