"""Policy rules by which this host forwards nothing while the labs' firewall rules are missing (ip-rule(8)).

They survive a flush of nftables by another program. A lab's firewall rules mark the packets that they admit, and only
marked packets are forwarded. Packets that this host sends or receives itself are not affected.
"""

from __future__ import annotations

from collections.abc import Collection

from dacha.core.errors import HostError
from dacha.core.network.marks import FORWARD
from dacha.host.network import iproute, sysctls

# Their preferences: after the local table (0), before the main table (32766).
_OWN, _MARKED, _ALL, _END = 5601, 5602, 5603, 5604
# In this order, packets that must pass are never dropped: the target of the first two, these, and then everything else.
_RULES = (
    (_END, "nop"),
    (_OWN, f"iif lo goto {_END}"),
    (_MARKED, f"fwmark {FORWARD:#x}/{FORWARD:#x} goto {_END}"),
    (_ALL, "blackhole"),
)
# With `rp_filter`, the kernel also looks up the return path to a packet's source in these rules: with this setting it
# uses the packet's mark, else every forwarded packet would be dropped (Linux: ip-sysctl).
_REVERSE = "net/ipv4/conf/all/src_valid_mark"


def closed(versions: Collection[int]) -> bool:
    """True if nothing is forwarded without a lab's rules, for these IP versions. Raises HostError."""
    if 4 in versions and sysctls.read(_REVERSE) == "0":
        return False
    return all({place for place, _ in _RULES} <= iproute.policy_rules(version) for version in versions)


def close(versions: Collection[int]) -> None:
    """Forward nothing without a lab's rules, for these IP versions. Raises HostError."""
    if 4 in versions:
        sysctls.change(_REVERSE, "1")
    for version in versions:
        for last in (False, True):
            there = iproute.policy_rules(version)
            try:
                _batch(version, [f"rule add pref {place} {rule}" for place, rule in _RULES if place not in there])
                break
            except HostError:
                # Another lab's command may have created one of them at this moment.
                if last:
                    raise


def open_again() -> None:
    """Remove these rules. Raises HostError."""
    for version in (4, 6):
        there = iproute.policy_rules(version)
        _batch(version, [f"rule delete pref {place}" for place, _ in reversed(_RULES) if place in there])


def _batch(version: int, lines: list[str]) -> None:
    iproute.batch(lines, f"-{version}", remedy="use a kernel with CONFIG_IP_MULTIPLE_TABLES")
