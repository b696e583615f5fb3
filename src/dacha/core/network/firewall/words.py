"""A rule of a firewall in nft's own words (nft(8)), from its JSON form (libnftables-json(5)).

Only what decides about a packet is written; an expression that is not known here is shown as "…".
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from dacha.core.network.firewall.walk import Culprit

# Expressions that decide nothing.
_ASIDE = ("counter", "log", "mangle", "masquerade", "notrack", "comment")
_UNKNOWN = "…"


def culprit_words(listing: Mapping[str, Any], culprit: Culprit) -> str:
    """What drops a packet: the rule or the policy, and where it is."""
    program = culprit.by if culprit.by != "nft" else ""
    where = f"chain {culprit.chain} of {program or f'table {culprit.family} {culprit.table}'}"
    if culprit.handle is None:
        return f"policy drop, {where}"
    place = (culprit.family, culprit.table, culprit.chain, culprit.handle)
    for entry in listing["nftables"]:
        rule = entry.get("rule")
        if rule and (rule["family"], rule["table"], rule["chain"], rule["handle"]) == place:
            return f"{rule_words(rule.get('expr', ()))}, {where}"
    return f"a rule of {where}"


def rule_words(expressions: Iterable[Mapping[str, Any]]) -> str:
    """A rule as nft writes it, without counters and comments."""
    return " ".join(word for e in expressions if (word := _expression(e)))


def _expression(e: Mapping[str, Any]) -> str:
    if "match" in e:
        match = e["match"]
        op = "" if match.get("op") in ("==", "in", None) else f" {match['op']}"
        return f"{_left(match.get('left'))}{op} {_right(match.get('right'))}"
    word = next(iter(e), "")
    if word in _ASIDE:
        return ""
    if word == "reject":
        kind = (e[word] or {}).get("type", "")
        return f"reject with {kind}" if kind.startswith("tcp") else "reject"
    if word in ("accept", "drop", "return"):
        return word
    if word in ("jump", "goto"):
        return f"{word} {e[word].get('target', _UNKNOWN)}"
    return _UNKNOWN


def _left(left: Any) -> str:
    if isinstance(left, dict):
        if "payload" in left and "field" in left["payload"]:
            return f"{left['payload'].get('protocol', '')} {left['payload']['field']}".strip()
        if "meta" in left:
            key = str(left["meta"].get("key", _UNKNOWN))
            return key if key.endswith("name") else f"meta {key}"
        if "ct" in left:
            return f"ct {left['ct'].get('key', _UNKNOWN)}"
    return _UNKNOWN


def _right(right: Any) -> str:
    if isinstance(right, dict):
        if "set" in right:
            return _right(right["set"])
        if "prefix" in right:
            return f"{right['prefix'].get('addr')}/{right['prefix'].get('len')}"
        if "range" in right:
            return "-".join(map(str, right["range"]))
        if "elem" in right:
            return _right(right["elem"].get("val"))
        return _UNKNOWN
    if isinstance(right, list) and len(right) == 1:
        return _right(right[0])
    if isinstance(right, list):
        return "{ " + ", ".join(map(_right, right)) + " }"
    return str(right)
