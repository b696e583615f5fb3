"""The guest's own firewall, as the guest reports it: nft's listing, and what iptables reports of its own rules, which
nft does not show completely.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from typing import Any

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple
from dacha.core.network.firewall import Culprit, Packet, dropped_by
from dacha.core.network.iptables import entries, tables_of
from dacha.core.network.rule_words import culprit_words

# The lines of the answer: nft's listing, and a line of iptables-save or ip6tables-save ("saved ip …").
NFT, SAVED = "ruleset ", "saved "
# A longer answer is not read (characters), and a longer description is cut.
MOST, LONGEST = 400_000, 160


class Blocked(NamedTuple):
    """What of the guest's firewall drops a connection: the rule in words, the manager of the rules ("nft", "ufw",
    "firewalld", "iptables"), and where an accepting rule would belong. It is `sure` if no other outcome is possible."""

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
        sure = dropped_by(rules, hook, packet, "\0")
        found = sure or dropped_by(rules, hook, packet, "\0", worst=True)
        if found is None:
            return None
        words = harmless(culprit_words(rules, found))[:LONGEST]
        return Blocked(words, _owner(rules, found), found.family, found.table, found.base, sure is not None)
    except (KeyError, TypeError, AttributeError, ValueError, IndexError, RecursionError):
        return None


def _owner(rules: Mapping[str, Any], culprit: Culprit) -> str:
    """The manager of these rules."""
    names = {str(e["chain"]["name"]) for e in rules["nftables"] if "chain" in e}
    if culprit.table == "firewalld":
        return "firewalld"
    if any(name.startswith(("ufw-user-", "ufw6-user-")) for name in names):
        return "ufw"
    return "nft" if culprit.by == "nft" else "iptables"
