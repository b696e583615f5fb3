"""Which rule of a firewall drops or redirects a packet at a hook, from nft's JSON listing (libnftables-json(5)).

Only certain results are reported: a match that cannot be evaluated here (a limit, a mark, another module) makes a rule
uncertain, and an uncertain rule neither accepts nor drops.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from dacha.core.named import NamedTuple
from dacha.core.network.firewall.iptables import plain_table, program_of
from dacha.core.network.firewall.matches import Packet, Sets, holds, matches, plain

# The kernel allows 16 levels of chains.
_DEEPEST = 16
_EVERY = (-(1 << 31), 1 << 31)
# Expressions that neither match nor decide.
_ASIDE = frozenset({"counter", "log", "mangle", "masquerade"})


class Culprit(NamedTuple):
    """What drops or redirects the packet: the chain, and the handle of its rule, or None for its policy."""

    family: str
    table: str
    chain: str
    handle: int | None
    # The program whose rules these are, and the base chain of the hook, where an accepting rule would belong.
    by: str = "nft"
    base: str = ""

    def __str__(self) -> str:
        place = self._program if self.by != "nft" else f"table {self.family} {self.table}"
        if self.handle is None:
            return f"the policy of chain {self.chain} of {place}"
        which = f"rule {self.handle}" if self.by != "nft" else f"the rule with handle {self.handle}"
        return f"{which} in chain {self.chain} of {place}"

    @property
    def _program(self) -> str:
        return program_of(self.family, self.by)

    def shown_by(self) -> str:
        """The command that shows it."""
        if self.by != "nft":
            return f"{self._program} -t {plain_table(self.table)} -L {self.chain} -v --line-numbers"
        return f"nft -a list chain {self.family} {self.table} {self.chain}"


class Hook(NamedTuple):
    """A hook that a packet passes, and the base chains there that see it so: those of these families (by default those
    of its IP version) and priorities; at "ingress" and "egress" those of one device."""

    name: str
    families: tuple[str, ...] = ()
    device: str = ""
    priorities: tuple[int, int] = _EVERY


_Where = tuple[str, str, str]
# A verdict (None: none), the deciding rule and its chain, and whether an uncertain rule before it may have accepted.
_Outcome = tuple[str | None, tuple[int, _Where] | None, bool]


class Rules:
    """A listing, ready to be walked several times."""

    def __init__(self, listing: Mapping[str, Any]) -> None:
        self.base: list[dict[str, Any]] = []
        self.rules: dict[_Where, list[dict[str, Any]]] = {}
        self._sets: dict[tuple[str, str], dict[str, list[Any]]] = {}
        for entry in listing.get("nftables", ()):
            if "chain" in entry and "hook" in entry["chain"]:
                self.base.append(entry["chain"])
            elif "rule" in entry:
                rule = entry["rule"]
                self.rules.setdefault((rule["family"], rule["table"], rule["chain"]), []).append(rule)
            elif named := entry.get("set") or entry.get("map"):
                self._sets.setdefault((named["family"], named["table"]), {})[named["name"]] = named.get("elem", [])

    def tables_of(self, family: str) -> tuple[str, ...]:
        """The tables of a family that have chains in the path of packets."""
        return tuple(dict.fromkeys(str(c["table"]) for c in self.base if c["family"] == family))

    def at(
        self, hook: Hook, packet: Packet, own: str, kinds: tuple[str, ...], *, worst: bool = False
    ) -> list[dict[str, Any]]:
        """The base chains at a hook, in their order; tables whose name begins with `own` are skipped. An older nft does
        not tell the device of a chain: with `worst` it is each."""
        if hook.name in ("ingress", "egress") and not hook.device:
            return []  # the device is not known
        families = hook.families or ("inet", "ip" if packet.version == 4 else "ip6")
        first, last = hook.priorities
        found = [
            c for c in self.base
            if c["hook"] == hook.name and c["family"] in families and c.get("type") in kinds
            and first <= c.get("prio", 0) <= last and not c["table"].startswith(own) and _on(c, hook.device, worst)
        ]  # fmt: skip
        return sorted(found, key=lambda c: c.get("prio", 0))

    def sets(self, where: _Where) -> Sets:
        return self._sets.get(where[:2], {})


def _on(chain: Mapping[str, Any], device: str, worst: bool) -> bool:
    told = chain.get("dev")
    return not device or (worst if told is None else device in (told if isinstance(told, list) else [told]))


def dropped_by(
    rules: Rules | Mapping[str, Any], hook: str | Hook, packet: Packet, own: str, *, worst: bool = False
) -> Culprit | None:
    """What certainly drops the packet at a hook; None if nothing certainly does. With `worst`, what may drop it: each
    uncertain rule counts as the one that drops. Tables whose name begins with `own` are skipped."""
    chains = rules if isinstance(rules, Rules) else Rules(rules)
    at = Hook(hook) if isinstance(hook, str) else hook
    for chain in chains.at(at, packet, own, ("filter", "route"), worst=worst):
        where = (chain["family"], chain["table"], chain["name"])
        verdict, rule, doubt = _walk(chains, where, packet, _Sought("drop", worst), 0)
        if verdict == "drop" and not doubt:
            place = rule[1] if rule else where
            handle = rule[0] if rule else None
            return Culprit(place[0], place[1], place[2], handle, chain.get("by", "nft"), chain["name"])
        if verdict is None and chain.get("policy") == "drop" and not doubt:
            return Culprit(*where, None, chain.get("by", "nft"), chain["name"])
    return None


def led_by(rules: Rules, hook: str, packet: Packet, own: str, before: int) -> Culprit | None:
    """The rule that certainly redirects the connection at a hook, in a chain with a priority below `before`; None if
    none certainly does."""
    return _first(rules, Hook(hook, priorities=(_EVERY[0], before - 1)), packet, own, "nat", "led")


def untracked_by(rules: Rules, hook: str, packet: Packet, own: str, before: int) -> Culprit | None:
    """The rule that certainly exempts the connection from connection tracking (notrack): its address is not translated
    then. None if none certainly does."""
    return _first(rules, Hook(hook, priorities=(_EVERY[0], before - 1)), packet, own, "filter", "notrack")


def _first(rules: Rules, hook: Hook, packet: Packet, own: str, kind: str, verdict: str) -> Culprit | None:
    for chain in rules.at(hook, packet, own, (kind,)):
        where = (chain["family"], chain["table"], chain["name"])
        found, rule, doubt = _walk(rules, where, packet, _Sought(verdict), 0)
        if found == verdict and rule and not doubt:
            return Culprit(*rule[1], rule[0], chain.get("by", "nft"), chain["name"])
    return None


class _Sought(NamedTuple):
    """The verdict that is looked for; with `worst` an uncertain rule with it counts."""

    verdict: str
    worst: bool = False


def _walk(rules: Rules, where: _Where, packet: Packet, sought: _Sought, depth: int) -> _Outcome:
    """accept, drop, led (redirected), notrack or None (no verdict), the deciding rule, and whether an uncertain rule
    before it may have accepted the packet. (An uncertain drop before a certain drop changes nothing.)"""
    doubt = False
    for rule in rules.rules.get(where, ()) if depth < _DEEPEST else ():
        for matched, word, target in _outcomes(rule.get("expr", ()), packet, rules.sets(where)):
            verdict: str | None = word
            if matched is False or (word == "notrack" and sought.verdict != word):
                continue
            by: tuple[int, _Where] | None = (rule["handle"], where)
            if word in ("jump", "goto"):
                verdict, by, unsure = _walk(rules, (where[0], where[1], target), packet, sought, depth + 1)
                doubt |= unsure
                if verdict is None:
                    if word == "goto" and matched:
                        return None, None, doubt
                    continue
            if matched is None:
                if sought.worst and verdict == "drop":
                    return verdict, by, False
                doubt |= verdict not in ("drop", "notrack") and not sought.worst
            elif verdict == "return":
                return None, None, doubt
            else:
                return verdict, by, doubt
    return None, None, doubt


def _outcomes(
    expressions: list[Mapping[str, Any]], packet: Packet, sets: Sets
) -> Iterator[tuple[bool | None, str, str]]:
    """Whether a rule matches (None: uncertain), its verdict, and the target of a jump; one for each element of a
    verdict map. Nothing for a rule without a verdict."""
    matched: bool | None = True
    untracked = False
    for e in expressions:
        if "match" in e:
            one = matches(e["match"], packet, sets)
            if one is False:
                return
            matched = None if one is None else matched
        elif "vmap" in e:
            for key, verdict in _pairs(e["vmap"]["data"], sets):
                one = holds(e["vmap"]["key"], {"set": [key]}, packet, sets)
                if one is not False and (told := _verdict(verdict)):
                    yield None if one is None else matched, *told
        elif told := _verdict(e):
            yield matched, *told
            return
        elif "notrack" in e:
            untracked = True
        elif not e.keys() & _ASIDE:
            matched = None
    if untracked:
        yield matched, "notrack", ""


def _pairs(data: Any, sets: Sets) -> list[tuple[Any, Any]]:
    """The keys and verdicts of a map, of the rule itself or of its table."""
    rows = sets.get(data[1:], []) if isinstance(data, str) else data["set"]
    return [(plain(key), verdict) for key, verdict in rows]


def _verdict(e: Mapping[str, Any]) -> tuple[str, str] | None:
    """The verdict of an expression, and the target of a jump; None if it has no verdict."""
    if "accept" in e or "return" in e:
        return ("accept" if "accept" in e else "return"), ""
    if "drop" in e or "reject" in e:
        return "drop", ""
    if "dnat" in e or "redirect" in e:
        return "led", ""
    for word in ("jump", "goto"):
        if word in e:
            return word, str(e[word]["target"])
    return None
