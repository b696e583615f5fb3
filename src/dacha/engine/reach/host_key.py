"""A guest's SSH host key: the one that Dacha created, the one that it presents, and which of them is trusted."""

from __future__ import annotations

from dacha.core.errors import AnswerNo, UsageError
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import entered_at
from dacha.engine.guest import prepare
from dacha.engine.guest.first_boot import trusted_key
from dacha.engine.lab.named import guest_named
from dacha.engine.network.live import live_plan
from dacha.engine.workspace import Workspace
from dacha.formats.openssh import fingerprint
from dacha.host.network.addresses import lan_address
from dacha.host.probe.connect import host_key

# A slow guest needs seconds to present its key.
SHOW_S = 10


class Keys(NamedTuple):
    """The fingerprints of the trusted key and of the presented one ("" for none), and whether they are equal."""

    trusted: str
    shown: str
    accepted: bool

    @property
    def same(self) -> bool:
        return bool(self.shown) and self.shown == self.trusted


def shown_key(ws: Workspace, name: str) -> str | None:
    """The host key that the guest's SSH server presents through its door; None if it presents none. Raises UsageError
    for a guest without an ssh door."""
    guest = guest_named(ws, name)
    door = next((d for d in guest.doors if d.service == "ssh"), None)
    if door is None:
        raise UsageError(f"{name} has no ssh door", remedy=f"dacha door add {name} ssh --from host, then dacha apply")
    place = entered_at(live_plan(ws).doors[name, door.name], lan_address())
    return host_key(*place, SHOW_S) if place else None


def keys_of(ws: Workspace, name: str) -> Keys:
    """The trusted and the presented key."""
    accepted = ws.home.read(name).accepted_key is not None
    return Keys(fingerprint(trusted_key(ws.home, name)), fingerprint(shown_key(ws, name) or ""), accepted)


def accept(ws: Workspace, name: str, shown: str | None = None) -> Keys:
    """Trust the key that the guest presents now, instead of Dacha's, or `shown`, which it presented before. Raises
    AnswerNo if it presents none."""
    shown = shown or shown_key(ws, name)
    if not shown:
        raise AnswerNo(f"{name} presents no host key", remedy=f"dacha trace {name} says why")
    with ws.home.lock("guest host-key", ws.path):
        record = ws.home.read(name)
        before = trusted_key(ws.home, name)
        # Without first-boot data, Dacha's own key is not the guest's even if it is the same.
        if fingerprint(shown) != fingerprint(before) or not guest_named(ws, name).first_boot:
            record.accepted_key = shown
            ws.home.write(name, record)
        lan = lan_address()
        prepare.write_known_hosts(ws, ws.plan, [lan] if lan else [])
    return Keys(fingerprint(before), fingerprint(shown), True)


def take_up_again(ws: Workspace, name: str) -> None:
    """Let the guest apply its first-boot data again at its next start: as a new instance, with Dacha's key."""
    guest = guest_named(ws, name)
    if not guest.first_boot:
        raise UsageError(f"{name} gets no first-boot data", where=ws.path.name, remedy="set first-boot = true")
    with ws.home.lock("guest first-boot", ws.path):
        if not ws.home.guest(name).is_dir():
            raise UsageError(f"{name} was never started: it reads its first-boot data at its first start")
        record = ws.home.read(name)
        record.again, record.accepted_key = record.again + 1, None
        ws.home.write(name, record)
        lan = lan_address()
        prepare.write_known_hosts(ws, ws.plan, [lan] if lan else [])


def documents_of(ws: Workspace, name: str) -> dict[str, str]:
    """The first-boot data by document, without the private key."""
    from dacha.engine.guest.first_boot import first_boot_facts
    from dacha.formats.seed.documents import documents

    facts = first_boot_facts(ws, ws.plan, guest_named(ws, name))
    hidden = "(stored by Dacha, passed to the guest only)"
    return documents(facts, instance=prepare.instance_of(facts, ws.home.read(name)), host_key_private=hidden)
