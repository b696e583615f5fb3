"""The links of this host that lead to a LAN, and what disconnects them (Linux: sysfs-class-net)."""

from __future__ import annotations

from pathlib import Path

from dacha.core.network.links import GROUP
from dacha.core.network.uplink import BLOCKED, DOWN, ISOLATED, NO_ARP, NO_CARRIER, NO_PORT, Cut

_LINKS = Path("/sys/class/net")
# Hardware types and flags (linux/if_arp.h, linux/if.h).
_ETHERNET, _UP, _NO_ARP = 1, 0x1, 0x80


def is_uplink(link: str) -> bool:
    """True for an Ethernet link, or a bridge with one, that belongs neither to a lab nor to the guests of another
    program: a tunnel, a tap, and a bridge of taps or containers lead to no LAN."""
    if _number(link, "type") != _ETHERNET or _number(link, "netdev_group") == GROUP:
        return False
    if (_LINKS / link / "tun_flags").exists():
        return False
    return not _is_bridge(link) or any(not _is_pair(port) for port in _ports(link))


def disconnected(link: str, tap: str = "") -> Cut | None:
    """What disconnects a link from its LAN, or the guest's `tap` in a bridge; None if nothing does, or if that cannot
    be read."""
    if not (_LINKS / link).exists():
        return None
    bridged = _is_bridge(link)
    wires = _wires(link) if bridged else [link]
    if not wires:
        return Cut(NO_PORT, (link,))
    for kind, true in ((DOWN, _is_down), (NO_CARRIER, _has_no_carrier), (BLOCKED, _is_blocked)):
        if all(map(true, wires)) and (bridged or kind != BLOCKED):
            return Cut(kind, tuple(wires))
    ports = [tap, *wires]
    if tap and bridged and all(_number(port, "brport/isolated") == 1 for port in ports):
        return Cut(ISOLATED, tuple(ports))
    return Cut(NO_ARP, (link,)) if _flags(link) & _NO_ARP else None


def _is_down(link: str) -> bool:
    return _flags(link) & _UP == 0


def _has_no_carrier(link: str) -> bool:
    return _number(link, "carrier") == 0


def _is_blocked(port: str) -> bool:
    """True for a port of a bridge that does not forward (linux/if_bridge.h: BR_STATE_FORWARDING)."""
    return _number(port, "brport/state") not in (None, 3)


def _flags(link: str) -> int:
    text = _text(link, "flags")
    return int(text, 16) if text.startswith("0x") else _UP


def _is_bridge(link: str) -> bool:
    return (_LINKS / link / "bridge").is_dir()


def _wires(bridge: str) -> list[str]:
    """The ports of a bridge that are neither taps nor one end of a pair with a container, unless there are only such
    pairs: the LAN may be at the other end of one."""
    ports = _ports(bridge)
    return [p for p in ports if not _is_pair(p)] or ports


def _ports(bridge: str) -> list[str]:
    folder = _LINKS / bridge / "brif"
    ports = sorted(p.name for p in folder.iterdir()) if folder.is_dir() else []
    return [p for p in ports if not (_LINKS / p / "tun_flags").exists()]


def _is_pair(link: str) -> bool:
    """True for one end of a veth pair: its other end is another link, and it is no VLAN of one."""
    folder = _LINKS / link
    paired = _number(link, "iflink") not in (None, _number(link, "ifindex"))
    return paired and not (folder / "device").exists() and not any(folder.glob("lower_*"))


def _number(link: str, name: str) -> int | None:
    text = _text(link, name)
    return int(text) if text.isdigit() else None


def _text(link: str, name: str) -> str:
    """A property of a link; "" if it has none (the carrier of a link that is down cannot be read)."""
    try:
        return (_LINKS / link / name).read_text().strip()
    except OSError:
        return ""
