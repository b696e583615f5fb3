"""What `apply` would refuse: one judgement, also used by `check`, `diff` and `status`."""

from __future__ import annotations

from collections.abc import Collection, Mapping

from dacha.core.apply.observed import ObservedGuest
from dacha.core.findings import Finding, errors
from dacha.core.named import NamedTuple
from dacha.engine import register
from dacha.engine.check import host as inspect
from dacha.engine.check.guest import file_findings, people_findings, setup_findings
from dacha.engine.disks import kept_disks
from dacha.engine.shares import shared_folders, smb
from dacha.engine.workspace import Workspace


class Refused(NamedTuple):
    """Errors that prevent the whole `apply` (`lab`), and those that prevent a single guest, by name."""

    lab: list[Finding]
    guests: dict[str, list[Finding]]

    @property
    def all(self) -> list[Finding]:
        """Every one of them."""
        return [*self.lab, *(f for found in self.guests.values() for f in found)]


def refused(
    ws: Workspace, seen: Mapping[str, ObservedGuest], only: Collection[str] | None = None, *, restarting: bool = False
) -> Refused:
    """The refusals for the lab, or for some guests of it, as observed; with `restarting`, also of those that run now
    and are about to start again."""
    concerned = [n for n in ws.lab.guests if only is None or n in only]
    starting = {n for n in concerned if restarting or (not seen[n].running and not seen[n].stopped_on_purpose)}
    lab = register.conflicts(ws.home, ws.plan)
    if starting:
        lab += [*inspect.program_findings(), *shared_folders.daemon_findings(ws), *smb.server_findings(ws)]
    lab += people_findings(ws)
    if any(n.by_kernel for n in ws.lab.networks.values()):
        from dacha.engine.check.links import kernel_findings

        lab += kernel_findings(ws)
    guests: dict[str, list[Finding]] = {}
    for name in concerned:
        guest = ws.lab.guests[name]
        if name not in starting:
            guests[name] = [*kept_disks.findings(ws, guest), *setup_findings(ws, guest)]
            continue
        guests[name] = [
            *file_findings(ws, guest, seen[name]),
            *shared_folders.findings(ws, guest),
            *smb.findings(ws, guest),
            *inspect.screen_findings(guest, seen[name]),
        ]
    on = {n for n in concerned if not seen[n].stopped_on_purpose}
    for finding in inspect.port_findings(ws, ws.plan, seen, on):
        guests[str(finding.path[1])].append(finding)
    return Refused(errors(lab), {n: wrong for n, found in guests.items() if (wrong := errors(found))})
