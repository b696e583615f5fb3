"""The guest's own firewall, as the guest reports it: nft's listing, and what iptables reports of its own rules, which
nft does not show completely.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from typing import Any

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple
from dacha.core.network.firewall.iptables import entries, plain_table, tables_of
from dacha.core.network.firewall.matches import Packet
from dacha.core.network.firewall.openings import owner_of
from dacha.core.network.firewall.passage import arriving, first_stop, leaving
from dacha.core.network.firewall.walk import Rules
from dacha.core.network.firewall.words import culprit_words

# The lines of the answer: nft's listing, and a line of iptables-save or ip6tables-save ("saved ip …").
NFT, SAVED = "ruleset ", "saved "
# A longer answer is not read (characters), and a longer description is cut.
MOST, LONGEST = 400_000, 160
# The names of tables and chains in a command (nft(8), identifiers).
_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_./-]{0,63}")


class Blocked(NamedTuple):
    """What of the guest's firewall drops a connection: the rule in words, the manager of the rules (as
    `core/network/firewall/openings.py` has it), and where an accepting rule would belong ("" if its names are no
    ordinary ones). It is `sure` if no other outcome is possible."""

    words: str
    owner: str
    family: str
    table: str
    chain: str
    sure: bool


def read_rules(lines: Iterable[str]) -> Mapping[str, Any] | None:
    """The rules in nft's JSON form; None if the guest reported none that are readable."""
    found: list[Any] = []
    listed, saved = "", dict[str, list[str]]()
    for line in lines:
        if line.startswith(NFT):
            listed = line.removeprefix(NFT)[:MOST]
        elif line.startswith(SAVED):
            family, _, rest = line.removeprefix(SAVED).partition(" ")
            saved.setdefault(family, []).append(rest)
    told: set[tuple[str, str]] = set()
    for family in ("ip", "ip6"):
        text = "\n".join(saved.get(family, ()))
        found += entries(text, family)
        told |= {(family, name) for name in tables_of(text)}
    try:
        rows = json.loads(listed)["nftables"] if listed else []
        # What iptables reported itself is complete there, and not here.
        found += [row for row in rows if not _among(row, told)]
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return {"nftables": found} if found else None
    return {"nftables": found} if listed or found else None


def _among(row: dict[str, Any], told: set[tuple[str, str]]) -> bool:
    inner = row.get("chain") or row.get("rule") or {}
    return (inner.get("family"), inner.get("table")) in told


def blocking(rules: Mapping[str, Any] | None, packet: Packet, hook: str = "input") -> Blocked | None:
    """What drops this first packet of a connection as it comes into the guest, or leaves it ("output"); None if nothing
    can. A guest may report anything: rules that are malformed explain nothing."""
    if rules is None:
        return None
    try:
        ready, way = Rules(rules), arriving if hook == "input" else leaving
        sure = first_stop(ready, way(packet), "\0")
        stop = sure or first_stop(ready, way(packet), "\0", worst=True)
        if stop is None:
            return None
        found = stop.culprit
        words = harmless(culprit_words(rules, found))[:LONGEST]
        # Its manager's own chains are at this hook; what is elsewhere was added by hand.
        owner, chain = owner_of(rules, found) if stop.hook == hook else (found.by, found.base)
        place = (found.family, plain_table(found.table), chain)
        # The names are printed as a part of a command.
        if not all(_NAME.fullmatch(name) for name in place):
            place = ("", "", "")
        return Blocked(words, owner, *place, sure is not None)
    except (KeyError, TypeError, AttributeError, ValueError, IndexError, RecursionError):
        return None
