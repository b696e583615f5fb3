"""The links of this host that lead to a LAN, and what disconnects them (Linux: sysfs-class-net)."""

from __future__ import annotations

from pathlib import Path

from dacha.core.network.links import GROUP

_LINKS = Path("/sys/class/net")
# Hardware types and flags (linux/if_arp.h, linux/if.h).
_ETHERNET, _NO_ARP = 1, 0x80


def is_uplink(link: str) -> bool:
    """True for an Ethernet link, or a bridge with one, that belongs neither to a lab nor to the guests of another
    program: a tunnel, a tap, and a bridge of taps or containers lead to no LAN."""
    if _number(link, "type") != _ETHERNET or _number(link, "netdev_group") == GROUP:
        return False
    if (_LINKS / link / "tun_flags").exists():
        return False
    return not _is_bridge(link) or bool(_wires(link))


def disconnected(link: str) -> str:
    """What disconnects a link from its LAN, in words; "" if nothing does, or if that cannot be read."""
    wires = _wires(link) if _is_bridge(link) else [link]
    if wires and all(_number(wire, "carrier") == 0 for wire in wires):
        return f"{' and '.join(wires)} {'has' if len(wires) == 1 else 'have'} no carrier"
    flags = _text(link, "flags")
    if flags.startswith("0x") and int(flags, 16) & _NO_ARP:
        return f"ARP is switched off on {link}"
    return ""


def _is_bridge(link: str) -> bool:
    return (_LINKS / link / "bridge").is_dir()


def _wires(bridge: str) -> list[str]:
    """The ports of a bridge that are neither taps nor one end of a pair with a container."""
    folder = _LINKS / bridge / "brif"
    ports = sorted(p.name for p in folder.iterdir()) if folder.is_dir() else []
    return [p for p in ports if not (_LINKS / p / "tun_flags").exists() and not _is_pair(p)]


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
