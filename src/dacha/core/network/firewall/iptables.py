"""iptables rules (iptables-save(8)) in nft's JSON form (libnftables-json(5)).

nft shows an iptables extension by its name only; the usual ones in firewalls are understood here: connection states,
address types, several ports. Any other makes its rule uncertain.
"""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import Any

from dacha.core.units import whole_number

# The built-in chains, by table: hook, priority, and type of chain.
_HOOKS = {
    "filter": {"INPUT": ("input", 0), "FORWARD": ("forward", 0), "OUTPUT": ("output", 0)},
    "mangle": {
        "PREROUTING": ("prerouting", -150), "INPUT": ("input", -150), "FORWARD": ("forward", -150),
        "OUTPUT": ("output", -150), "POSTROUTING": ("postrouting", -150),
    },
    "raw": {"PREROUTING": ("prerouting", -300), "OUTPUT": ("output", -300)},
    "security": {"INPUT": ("input", 50), "FORWARD": ("forward", 50), "OUTPUT": ("output", 50)},
    "nat": {"PREROUTING": ("prerouting", -100), "OUTPUT": ("output", -100)},
}  # fmt: skip
_VERDICTS: dict[str, dict[str, Any]] = {
    "ACCEPT": {"accept": None}, "DROP": {"drop": None}, "REJECT": {"reject": None}, "RETURN": {"return": None},
    "DNAT": {"dnat": None}, "REDIRECT": {"redirect": None}, "MASQUERADE": {"masquerade": None},
    "NOTRACK": {"notrack": None},
}  # fmt: skip
# Targets without a verdict.
_ASIDE = frozenset({"LOG", "NFLOG", "ULOG", "MARK", "CONNMARK", "TCPMSS", "SNAT", "AUDIT", "TRACE", "CT", "CHECKSUM"})
# The origin of rules: the program itself (by way of nft), or the kernel's older tables, which nft does not list.
BY_IPTABLES, LEGACY = "iptables", "iptables-legacy"
_OLDER = "older "


def program_of(family: str, by: str) -> str:
    """The program that manages such rules, for IPv4 ("ip") or IPv6 ("ip6")."""
    return f"{family}tables{by.removeprefix(BY_IPTABLES)}"


def plain_table(table: str) -> str:
    """A table's name for the program: the older tables have another name here than the newer ones."""
    return table.removeprefix(_OLDER)


def entries(saved: str, family: str, by: str = BY_IPTABLES) -> Iterator[dict[str, Any]]:
    """Each chain and rule in the output of `iptables-save` (`family` "ip") or `ip6tables-save` ("ip6"), of its own
    rules or of the older tables. A rule's handle is its number in its chain, as in `iptables -L --line-numbers`."""
    table = kept = ""
    numbers: dict[str, int] = {}
    for line in saved.splitlines():
        if line.startswith("*"):
            table, numbers = line[1:].strip(), {}
            kept = f"{_OLDER}{table}" if by == LEGACY else table
        elif line.startswith(":"):
            name, _, policy = line[1:].partition(" ")
            policy = policy.partition(" ")[0]
            chain: dict[str, Any] = {"family": family, "table": kept, "name": name, "by": by}
            hook = _HOOKS.get(table, {}).get(name)
            if hook:
                kind = "nat" if table == "nat" else "filter"
                chain |= {"hook": hook[0], "prio": hook[1], "type": kind, "policy": policy.lower()}
            yield {"chain": chain}
        elif line.startswith("-A "):
            try:
                words = shlex.split(line)
            except ValueError:
                continue
            if len(words) < 2:
                continue
            name = words[1]
            numbers[name] = numbers.get(name, 0) + 1
            rule = {"family": family, "table": kept, "chain": name, "handle": numbers[name], "by": by}
            yield {"rule": rule | {"expr": list(_expressions(words[2:], family))}}


def tables_of(saved: str) -> set[str]:
    """The tables that are complete in a text."""
    found, table = set(), ""
    for line in saved.splitlines():
        if line.startswith("*"):
            table = line[1:].strip()
        elif line == "COMMIT":
            found.add(table)
    return found


def _expressions(words: list[str], family: str) -> Iterator[dict[str, Any]]:
    protocol = "tcp"
    inverted = False
    at = 0
    while at < len(words):
        word = words[at]
        value = words[at + 1] if at + 1 < len(words) else ""
        at += 1
        if word == "!":
            inverted = True
            continue
        op = "!=" if inverted else "=="
        if word in ("-j", "-g"):
            if value == "NOTRACK" or (value == "CT" and "--notrack" in words):
                value = "NOTRACK"
            yield from _target(word, value)
            return  # The rest belongs to the target.
        if word == "-p":
            protocol = value
            if value != "all":
                yield _matched(op, {"meta": {"key": "l4proto"}}, value)
        elif word in ("-i", "-o"):
            name = value[:-1] + "*" if value.endswith("+") else value
            yield _matched(op, {"meta": {"key": "iifname" if word == "-i" else "oifname"}}, name)
        elif word in ("-s", "-d"):
            field = "saddr" if word == "-s" else "daddr"
            yield _matched(op, {"payload": {"protocol": family, "field": field}}, _subnet(value))
        elif word in ("--dport", "--dports", "--sport", "--sports"):
            ports = [_ports(p) for p in value.split(",")]
            yield _matched(op, {"payload": {"protocol": protocol, "field": word[2:7]}}, {"set": ports})
        elif word in ("--ctstate", "--state"):
            yield _matched(op, {"ct": {"key": "state"}}, {"set": value.lower().split(",")})
        elif word == "--dst-type":
            kinds = value.lower().split(",")
            yield _matched(op, {"fib": {"result": "type", "flags": ["daddr"]}}, {"set": kinds})
        elif word == "-m":
            pass  # its options follow
        elif word in ("--comment", "--limit-burst"):
            pass
        elif word.startswith("-"):
            yield {"xt": {"name": word}}
        else:
            continue  # the value of an unknown option
        inverted = False
        at += 1


def _target(word: str, name: str) -> Iterator[dict[str, Any]]:
    if word == "-g":
        yield {"goto": {"target": name}}
    elif name in _VERDICTS:
        yield _VERDICTS[name]
    elif name in _ASIDE:
        yield {"log": None}
    else:
        yield {"jump": {"target": name}}


def _matched(op: str, left: dict[str, Any], right: Any) -> dict[str, Any]:
    return {"match": {"op": op, "left": left, "right": right}}


def _subnet(value: str) -> Any:
    address, _, length = value.partition("/")
    bits = whole_number(length)
    if bits is not None:
        return {"prefix": {"addr": address, "len": bits}}
    return address if not length else "@mask"  # A mask with holes is not supported here.


def _ports(value: str) -> Any:
    first, colon, last = value.partition(":")
    return {"range": [first or "0", last or "65535"]} if colon else value
