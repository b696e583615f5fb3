"""One session with the router: its present mappings, requests, deletions."""

from __future__ import annotations

from dacha.core.errors import AnswerNo
from dacha.core.router.mapping import LIFETIME_S, Mapping, MappingRequest, RouterState, lost, outside_address
from dacha.host.router import finding
from dacha.host.router.port_mapper import PortMapper


class Session:
    """One session with the router. Raises AnswerNo if it does not respond at all."""

    def __init__(self, there: tuple[str, str], before: RouterState, now: float) -> None:
        self._there, self._before, self._now = there, before, now
        mapper = finding.find(*there, before.speaks)
        seen = mapper.look()
        self.name, self.epoch_s = mapper.name, seen.epoch_s
        self.address = outside_address(seen.address) or before.address
        self._mappers = {mapper.name: mapper}
        self._forgot = lost(before, seen.epoch_s, now) or before.speaks not in ("", mapper.name)

    def _mapper(self, name: str) -> PortMapper:
        return self._mappers.setdefault(name, finding.named(name, *self._there))

    def unmap(self, mapping: Mapping) -> bool:
        """True if a mapping was deleted, or will expire by itself; UPnP routers of the first generation keep it."""
        if not mapping.stands(self._now):
            return True
        try:
            self._mapper(mapping.speaks).unmap(mapping)
        except AnswerNo as e:
            return mapping.speaks != "upnp" or "NoSuchEntry" in e.what
        return True

    def standing(self) -> dict[MappingRequest, Mapping]:
        """The mappings that the router still has, if it can be queried."""
        found = {}
        for name in {m.speaks for m in self._before.mappings}:
            mine = [m for m in self._before.mappings if m.speaks == name and m.stands(self._now)]
            if name != "upnp" and self._forgot:
                continue
            try:
                places = self._mapper(name).lookup(mine) if mine else None
            except AnswerNo:
                places = None
            for n, m in enumerate(mine):
                if places is None or places[n] == (m.wanted.to, m.wanted.port):
                    found[m.wanted] = m
        return found

    def map(self, wanted: MappingRequest, known: Mapping | None) -> Mapping:
        """Request one mapping. For another machine than this host, PCP servers rarely grant it, and UPnP ones
        often do."""
        names = [self.name] if not wanted.third or self.name == "upnp" else [self.name, "upnp"]
        for name in names:
            try:
                mine = known if known and known.speaks == name else None
                granted = self._mapper(name).map(wanted, mine, LIFETIME_S)
                break
            except AnswerNo:
                if name == names[-1]:
                    raise
        self.address = outside_address(granted.address) or self.address
        self.epoch_s = granted.epoch_s or self.epoch_s
        return Mapping(wanted, granted.outside_port, granted.nonce, self._now, granted.lifetime_s, name)
