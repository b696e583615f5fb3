"""The kernel's packet rules through `nft`: loaded in one transaction, listed, removed."""

from __future__ import annotations

import contextlib
import json
import re
import subprocess
from collections import deque
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from dacha.core.errors import HostError
from dacha.core.network.firewall.iptables import LEGACY, entries, program_of, tables_of
from dacha.core.sha256 import sha256
from dacha.host.facts import program

_COUNTED = re.compile(r"(\tflags dynamic\n)\t+elements = \{.*?\}\n", re.S)

# A chain of a device in nft's plain text.
_DEVICES = re.compile(r"chain (\S+) \{\s*type \w+ hook (?:ingress|egress) devices? ([^;]*?) priority")

# The latest processes that loaded rules for this one: the kernel's notifications about them are not news.
loaders: deque[int] = deque(maxlen=64)


def _nft(arguments: list[str], text: str | None = None) -> subprocess.CompletedProcess[str]:
    found = program("nft")
    if not found:
        raise HostError("nft is not installed: it provides doors and NAT", remedy="on Debian: apt install nftables")
    with subprocess.Popen(
        [found, *arguments], stdin=subprocess.PIPE if text else subprocess.DEVNULL, stdout=subprocess.PIPE,
        stderr=subprocess.PIPE, text=True,
    ) as child:  # fmt: skip
        if text:
            loaders.append(child.pid)
        said, complaints = child.communicate(text)
        return subprocess.CompletedProcess(child.args, child.returncode, said, complaints)


def load(text: str) -> None:
    """Load rules, all or none. Raises HostError with nft's messages."""
    done = _nft(["-f", "-"], text)
    if done.returncode:
        words = done.stderr.strip().splitlines()
        raise HostError(
            "the kernel refused the lab's rules",
            why="\n".join(words[:3]),
            remedy="run it as root: loading rules requires it" if "not permitted" in done.stderr else "",
        )


def digest(name: str, families: Iterable[str]) -> str | None:
    """A digest of the tables `name`, without counters and kernel-managed elements of dynamic sets; None if one of them
    does not exist."""
    state = sha256()
    for family in families:
        done = _nft(["--stateless", "list", "table", family, name])
        if done.returncode:
            return None
        state.update(_COUNTED.sub(r"\1", done.stdout).encode())
    return state.hexdigest()[:16]


def listing(own: str) -> dict[str, Any] | None:
    """The rules of every table of this host whose name does not begin with `own`, in nft's JSON format; None if they
    are not readable. (The lab's own tables may hold ten thousand doors, and are known.)"""
    if _nft(["list", "tables"]).returncode:
        return None
    saved = {family: _saved(family) for family in ("ip", "ip6")}
    found: list[Any] = [entry for family, text in saved.items() for entry in entries(text, family)]
    found += [entry for family in ("ip", "ip6") for entry in entries(_older(family, saved[family]), family, LEGACY)]
    told = {(family, name) for family, text in saved.items() for name in tables_of(text)}
    for family, name in tables() - told:
        if not name.startswith(own):
            done = _nft(["-j", "list", "table", family, name])
            if done.returncode == 0 and done.stdout:
                found += _with_devices(family, name, json.loads(done.stdout)["nftables"])
    return {"nftables": found}


def _with_devices(family: str, name: str, rows: list[Any]) -> list[Any]:
    """A table's rows with the device of each chain of a device, which nft before 1.0.9 tells in its plain text only."""
    chains = [row["chain"] for row in rows if "chain" in row]
    if lacking := [c for c in chains if c.get("hook") in ("ingress", "egress") and "dev" not in c]:
        text = _nft(["list", "table", family, name]).stdout
        told = {chain: re.findall(r"[^\s\"={},]+", devices) for chain, devices in _DEVICES.findall(text)}
        for chain in lacking:
            chain["dev"] = told.get(chain["name"], [])
    return rows


def _older(family: str, saved: str) -> str:
    """The rules in the kernel's older tables, which nft does not see; nothing without any, or if iptables itself uses
    them and has reported them."""
    with contextlib.suppress(OSError):
        if Path(f"/proc/net/{family}_tables_names").read_text().split() and (not saved or "(nf_tables)" in saved):
            return _saved(family, f"{program_of(family, LEGACY)}-save")
    return ""


def _saved(family: str, name: str = "") -> str:
    """iptables' listing of its own rules, which nft does not show completely; nothing if it is not installed."""
    found = program(name or ("iptables-save" if family == "ip" else "ip6tables-save"))
    if not found:
        return ""
    done = subprocess.run([found], capture_output=True, text=True, check=False)
    return done.stdout if done.returncode == 0 else ""


def counters(table: str) -> dict[str, int]:
    """The bytes of each named counter in a table of the family inet, by name; empty without any."""
    done = _nft(["-j", "list", "counters", "table", "inet", table])
    if done.returncode or not done.stdout:
        return {}
    rows = (entry.get("counter") for entry in json.loads(done.stdout)["nftables"])
    return {str(row["name"]): int(row["bytes"]) for row in rows if row}


def element(table: str, name: str, key: str) -> str | None:
    """The target of a key in one of the lab's maps, as nft writes it; None if it has no such element."""
    done = _nft(["get", "element", "inet", table, name, f"{{ {key} }}"])
    if done.returncode:
        return None
    inside = done.stdout.partition("elements = {")[2].partition("}")[0]
    return inside.partition(" : ")[2].strip()


def tables() -> set[tuple[str, str]]:
    """Every existing table: (family, name)."""
    rows = (line.split() for line in _nft(["list", "tables"]).stdout.splitlines())
    return {(row[1], row[2]) for row in rows if len(row) == 3}
