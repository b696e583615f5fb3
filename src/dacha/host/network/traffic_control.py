"""Filters on links through `tc`: they belong to the link and survive a flush of nftables by another program
(tc-bpf(8))."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Collection, Mapping

from dacha.core.errors import HostError
from dacha.host.facts import program
from dacha.host.network.iproute import reason

# Queueing disciplines that links have by themselves, or for filters.
_USUAL = frozenset({"noqueue", "noop", "mq", "fq", "fq_codel", "pfifo_fast", "clsact", "ingress"})
# The preference of the lab's own filters.
_OWN = 1

# A link's filter: its direction ("ingress", "egress"), and its program as tc-bpf(8) writes it.
Filter = tuple[str, str]


def _batch(lines: list[str], *options: str) -> subprocess.CompletedProcess[str]:
    tool = program("tc")
    if not tool:
        raise HostError(
            "tc is not installed: it blocks networks while their firewall rules are missing",
            remedy="on Debian: apt install iproute2",
        )
    return subprocess.run(
        [tool, *options, "-batch", "-"], input="\n".join(lines) + "\n", capture_output=True, text=True, check=False
    )


def attach(filters: Mapping[str, Filter]) -> None:
    """Attach or replace the filter of each of these links. Raises HostError."""
    lines = []
    for link, (direction, code) in filters.items():
        lines.append(f"qdisc replace dev {link} clsact")
        lines.append(
            f"filter replace dev {link} {direction} prio 1 handle 1 protocol all bpf direct-action bytecode '{code}'"
        )
    if lines and (done := _batch(lines)).returncode:
        why = reason(done.stderr)
        raise HostError(
            "the kernel refused the filter that blocks a network while its firewall rules are missing",
            why=why,
            remedy="run it as root: creating networks requires it"
            if "not permitted" in why
            else "use a kernel with CONFIG_NET_CLS_BPF and CONFIG_NET_SCH_INGRESS (Debian's has both)",
        )


def without(filters: Mapping[str, Filter], existing: Collection[str]) -> list[str]:
    """Those of these links that exist but lack their filter. Raises HostError."""
    asked = [link for link in filters if link in existing]
    if not asked:
        return []
    # One answer per link, in order; a link that was deleted ends the list early.
    done = _batch([f"filter show dev {link} {filters[link][0]}" for link in asked], "-json")
    read, at, answers = json.JSONDecoder(), 0, []
    while (at := done.stdout.find("[", at)) >= 0:
        rows, at = read.raw_decode(done.stdout, at)
        answers.append(rows)
    answers += [[]] * (len(asked) - len(answers))
    return [link for link, rows in zip(asked, answers, strict=False) if filters[link][1] not in map(_program, rows)]


def foreign(links: Collection[str]) -> list[str]:
    """What other programs have set on these links: "KIND on LINK" for each queueing discipline and filter that may
    delay or drop packets. Those behind a filter of the lab's see none: it decides about each."""
    found = []
    for link in links:
        for words in (f"qdisc show dev {link}", f"filter show dev {link} ingress", f"filter show dev {link} egress"):
            done = _batch([words], "-json")
            rows = json.loads(done.stdout or "[]") if done.returncode == 0 else []
            if any(row.get("pref") == _OWN for row in rows):
                continue
            for row in rows:
                kind = str(row.get("kind", ""))
                if kind not in _USUAL and f"{kind} on {link}" not in found:
                    found.append(f"{kind} on {link}")
    return found


def _program(row: dict[str, object]) -> str:
    """The program of a filter as tc lists it, in the form in which it was set."""
    options = row.get("options")
    code = options.get("bytecode") if isinstance(options, dict) and options.get("direct-action") else None
    steps = code.get("insns", []) if isinstance(code, dict) else []
    words = (" ".join(str(step[key]) for key in ("code", "jt", "jf", "k")) for step in steps)
    return ",".join([str(len(steps)), *words])
