"""Names derived from other names: hardware addresses and machine identifiers.

They are derived, not random: the same file gives the same machines on every host, and a changed lab leaves no stale
neighbour entries on a LAN.
"""

from __future__ import annotations

from ipaddress import IPv6Address, IPv6Network

from dacha.core.sha256 import sha256

# Linux: IFNAMSIZ is 16 including the final zero (if.h).
LINK_NAME_MOST = 15


def hardware_address(lab: str, guest: str, index: int) -> str:
    """The Ethernet address of a guest's adapter: unicast, locally administered (IEEE 802, U/L bit)."""
    digest = sha256(f"adapter\0{lab}\0{guest}\0{index}".encode()).digest()
    return ":".join(f"{b:02x}" for b in (0x02, *digest[:5]))


def domain_of(lab: str) -> str:
    """The lab's domain, below the name reserved for private use."""
    return f"{lab}.internal"


def local_prefix(lab: str, network: str) -> IPv6Network:
    """The IPv6 prefix of a network without a configured one: unique local (RFC 4193 section 3.2), its global ID derived
    from the lab's name."""
    lab_bits = sha256(f"prefix\0{lab}".encode()).digest()[:5]
    network_bits = sha256(f"prefix\0{lab}\0{network}".encode()).digest()[:2]
    return IPv6Network((b"\xfd" + lab_bits + network_bits + bytes(8), 64))


def link_local(hardware: str) -> IPv6Address:
    """The link-local address for an Ethernet address (RFC 4291 section 2.5.1, appendix A)."""
    raw = bytes.fromhex(hardware.replace(":", ""))
    return IPv6Address(b"\xfe\x80" + bytes(6) + bytes((raw[0] ^ 2,)) + raw[1:3] + b"\xff\xfe" + raw[3:])


def machine_uuid(lab: str, guest: str) -> str:
    """The guest's UUID in the form of RFC 9562 version 8 (vendor-defined content)."""
    raw = bytearray(sha256(f"machine\0{lab}\0{guest}".encode()).digest()[:16])
    raw[6] = raw[6] & 0x0F | 0x80
    raw[8] = raw[8] & 0x3F | 0x80
    text = raw.hex()
    return "-".join((text[:8], text[8:12], text[12:16], text[16:20], text[20:]))


def host_name(lab: str, guest: str) -> str:
    """The guest's full name: GUEST.LAB.internal (the domain ICANN reserved for private use)."""
    return f"{guest}.{domain_of(lab)}"


def link_name(lab: str, *parts: str) -> str:
    """A stable link name within the kernel's limit: a letter, six digits of a hash, and a readable part. The hash
    separates labs, networks and guests; its six hexadecimal digits collide for two of a hundred links on one host in
    three thousand, and `apply` refuses a name that is in use."""
    digest = sha256("\0".join(("link", lab, *parts)).encode()).hexdigest()[:6]
    return f"d{digest}-{parts[1]}"[:LINK_NAME_MOST].rstrip("-")


def disk_serial(disk: str) -> str:
    """The serial number by which a guest sees a disk: at most 20 bytes (ATA, virtio-blk)."""
    return f"disk{disk}"[:20]
