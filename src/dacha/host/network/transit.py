"""This host forwards for the labs' sake only: without a lab's rules it forwards nothing, by policy rules (ip-rule(8)).

They stay when another program flushes nftables. What a lab's rules admit carries a mark; what this host itself sends,
and what is for it, is not forwarded and goes on as it did.
"""

from __future__ import annotations

import json
import subprocess
from collections.abc import Collection

from dacha.core.errors import HostError
from dacha.core.network.marks import FORWARD
from dacha.host.facts import program

# Their places in the list of rules: after the table of local addresses (0), before the main one (32766).
_OWN, _MARKED, _ALL, _END = 5601, 5602, 5603, 5604
# In this order nothing is ever dropped that is to pass: the target of the first two, these, and then all else.
_RULES = (
    (_END, "nop"),
    (_OWN, f"iif lo goto {_END}"),
    (_MARKED, f"fwmark {FORWARD:#x}/{FORWARD:#x} goto {_END}"),
    (_ALL, "blackhole"),
)


def _ip(version: int, *arguments: str, text: str | None = None) -> subprocess.CompletedProcess[str]:
    tool = program("ip")
    if not tool:
        raise HostError("the program ip is missing: it creates networks", remedy="on Debian: apt install iproute2")
    return subprocess.run([tool, f"-{version}", *arguments], input=text, capture_output=True, text=True, check=False)


def _places(version: int) -> set[int]:
    done = _ip(version, "-json", "rule", "show")
    try:
        return {int(row["priority"]) for row in json.loads(done.stdout or "[]")}
    except (ValueError, KeyError) as e:
        raise HostError("cannot read this host's policy rules", why=done.stderr.strip() or str(e)) from e


def closed(versions: Collection[int]) -> bool:
    """True if nothing is forwarded without a lab's rules, for these IP versions. Raises HostError."""
    return all({place for place, _ in _RULES} <= _places(version) for version in versions)


def close(versions: Collection[int]) -> None:
    """Let nothing be forwarded without a lab's rules, for these IP versions. Raises HostError."""
    for version in versions:
        there = _places(version)
        lines = [f"rule add pref {place} {rule}" for place, rule in _RULES if place not in there]
        _batch(version, lines)


def open_again() -> None:
    """Take these rules away. Raises HostError."""
    for version in (4, 6):
        there = _places(version)
        _batch(version, [f"rule delete pref {place}" for place, _ in reversed(_RULES) if place in there])


def _batch(version: int, lines: list[str]) -> None:
    if not lines:
        return
    done = _ip(version, "-batch", "-", text="\n".join(lines) + "\n")
    if done.returncode:
        why = next(iter(done.stderr.strip().splitlines()), "").removeprefix("RTNETLINK answers: ")
        raise HostError(
            "the kernel refused the rules that keep this host's other networks apart",
            why=why,
            remedy="it needs root" if "not permitted" in why else "use a kernel with CONFIG_IP_MULTIPLE_TABLES",
        )
