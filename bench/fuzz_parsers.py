"""Every parser of foreign bytes, each by itself, with recorded samples that are cut, joined and changed at random.

A parser reads what it is given or refuses it by its own error; anything else is a defect, and its input is kept in
bench/corpus, where the next run begins with it. Arguments: seconds a parser (default 1; `make fuzz` takes a minute),
and names of parsers to take alone.
"""

from __future__ import annotations

import random
import struct
import sys
import time
from collections.abc import Callable
from io import BytesIO
from ipaddress import IPv4Address
from pathlib import Path

import dns.message

from dacha.caretaker.packets import frames, messages
from dacha.core import guest_settings
from dacha.core.errors import DachaError
from dacha.core.harmless import TerminalText
from dacha.core.lab.table.read import read_lab
from dacha.core.network.firewall.iptables import entries
from dacha.core.people import keys_inside, sessions_inside
from dacha.core.trace.seen.inside import read_inside
from dacha.formats import openssh, wim
from dacha.formats.disk import boot_sectors, partitions, qcow2
from dacha.formats.disk.disk_image import judge
from dacha.formats.iso_image import iso_image
from dacha.formats.linux.kernel_module import depends
from dacha.formats.medium import inspect_iso
from dacha.wire import credssp, http, tftp
from dacha.wire.dhcp import dhcp4, dhcp6
from dacha.wire.dns import multicast_records, upstream
from dacha.wire.link import conntrack, netlink
from dacha.wire.link.ethernet import decode_arp
from dacha.wire.link.neighbour import decode_neighbour
from dacha.wire.probes import probe_for
from dacha.wire.router import igd, nat_pmp, pcp, ssdp
from fuzz import ARP, DHCP, DHCP6, DNS, ND, ROUTER, broken
from labs import verdict

CORPUS = Path(__file__).with_name("corpus")
SLOWEST_S = 2.0
Parser = tuple[Callable[[bytes], object], list[bytes]]


def text(read: Callable[[str], object]) -> Callable[[bytes], object]:
    return lambda data: read(data.decode("utf-8", "replace"))


def probed(service: str) -> Callable[[bytes], object]:
    """A banner that comes in two pieces."""

    def take(data: bytes) -> object:
        probe = probe_for(service)
        return probe.receive(data[: len(data) // 2]) or probe.receive(data)

    return take


def shown(data: bytes) -> object:
    made = TerminalText()
    said = "".join(made.feed(data[n : n + 3]) for n in range(0, len(data), 3)) + made.feed(b"", last=True)
    colours = said.replace("\x1b[", "")
    assert "\x1b" not in colours and "\x9b" not in said and "\x00" not in said, said
    return said


def iso(data: bytes) -> object:
    return inspect_iso(BytesIO(data), len(data))


KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ9ZkmcQ3FyG1gkjm0tCNvmUXnEWv4xkBbJGnKb0Vb3n ops@pier"
LAB = (
    '[lab]\nname = "saltmarsh"\n[network.pier]\nkind = "nat"\nsubnet = "10.77.4.0/24"\n[guest.gauge]\n'
    'memory = "1 GiB"\ndisk = [{ size = "8 GiB" }]\nadapter = [{ network = "pier", address = "10.77.4.20" }]\n'
    'door.ssh = { from = "lan", port = 2220 }\n'
)
IGD = b"<root><device><service><serviceType>urn:schemas-upnp-org:service:WANIPConnection:1</serviceType><controlURL>/c"
IGD += b"</controlURL></service></device></root>"
NETLINK = struct.pack("=IHHII", 32, 10 << 8 | 2, 0, 1, 0) + b"\1\0\0\0" + struct.pack("=HH", 12, 1) + b"dacha_a\0"
CT = struct.pack("=IHHII", 20, 256, 0, 1, 0) + b"\2\0\0\0"
INSIDE = (
    b'listen LISTEN 0 128 0.0.0.0:22 x users:(("sshd"\nunit ssh active\nkeys 1 600 ops\nlink 2: eth0: <UP> x\nend\n'
)
ANSWER = dns.message.make_response(dns.message.from_wire(DNS[0])).to_wire()
WIM_LIST = '<IMAGE INDEX="1"><NAME>x</NAME><EDITIONID>Core</EDITIONID></IMAGE>'.encode("utf-16")
WIM = (b"MSWIM\0\0\0".ljust(72, b"\0") + struct.pack("<QQQ", len(WIM_LIST), 208, 0)).ljust(208, b"\0") + WIM_LIST
PARSERS: dict[str, Parser] = {
    "dhcp4": (dhcp4.decode, DHCP),
    "dhcp6": (dhcp6.decode, DHCP6),
    "dns query": (upstream.question_of, DNS),
    "dns answer": (upstream.leads_inside, [ANSWER, *DNS]),
    "multicast dns": (multicast_records.decode, [*DNS, multicast_records.encode(answers=[], proposed=[])]),
    "arp": (decode_arp, ARP),
    "neighbour": (decode_neighbour, ND),
    "pcp": (pcp.decode_response, ROUTER),
    "nat-pmp": (nat_pmp.decode_response, ROUTER),
    "ssdp": (lambda d: ssdp.location(d, "192.0.2.1"), [b"HTTP/1.1 200 OK\r\nLocation: http://192.0.2.1:5/d\r\n\r\n"]),
    "igd description": (lambda d: igd.controls(d, "192.0.2.1", igd.Place(80, "/")), [IGD]),
    "igd answer": (lambda d: igd.answer(200, d), [b"<e><NewExternalIPAddress>198.51.100.1</NewExternalIPAddress></e>"]),
    "tftp": (tftp.decode_request, [tftp.encode_request("pxelinux.0", {"blksize": 1428})]),
    "http": (http.decode_request, [b"GET /a%20b HTTP/1.1\r\nHost: x\r\nRange: bytes=0-9\r\n\r\n"]),
    "credssp": (credssp.read_message, [credssp.TsRequest(version=6, token=b"NTLMSSP\0").encoded()]),
    "ssh banner": (probed("ssh"), [b"SSH-2.0-OpenSSH_9.2p1 Debian\r\n"]),
    "rdp banner": (probed("rdp"), [bytes.fromhex("030000130ed000001234000200080002000000")]),
    "vnc banner": (probed("vnc"), [b"RFB 003.008\n"]),
    "tls banner": (probed("https"), [bytes.fromhex("160303002a020000260303") + bytes(34)]),
    "netlink rules": (netlink.rule_events, [NETLINK]),
    "netlink links": (netlink.link_events, [NETLINK, struct.pack("=IHHII", 40, 16, 0, 1, 0) + bytes(24)]),
    "conntrack": (conntrack.connections, [CT, NETLINK]),
    "worker's words": (
        messages.decode,
        [b'["used", "dt1", "10.77.4.20", "wire"]', b'["says", "pier", "x"]', b'["up"]'],
    ),
    "relay's words": (frames.read_heard, [frames.heard(frames.Heard("dt1", 0, 0x806, ARP[0]))]),
    "worker's frames": (frames.read_wanted, [frames.wanted(frames.SendProbe("pier", IPv4Address("10.77.4.7")))]),
    "agent's answers": (text(read_inside), [INSIDE]),
    "guest check": (text(guest_settings.read_answers), [b"sshd passwordauthentication no\nclock 1\nend\n"]),
    "keys' answers": (text(keys_inside.read_answers), [b"account ops done\nended ops 1\nend of keys\n"]),
    "strange keys": (text(sessions_inside.read_strangers), [f"strange ops /home/ops/k {KEY.split()[1]} x\n".encode()]),
    "authorized_keys": (text(lambda t: sessions_inside.strangers_among(t, [KEY])), [KEY.encode()]),
    "public key": (text(openssh.public_line), [KEY.encode()]),
    "console": (shown, [b"boot \x1b[32mok\x1b[0m\r\n\xc2\x9b2J\x9b31m\x1b]0;x\x07"]),
    "lab file": (text(read_lab), [LAB.encode()]),
    "iptables": (
        text(lambda t: list(entries(t, "ip"))),
        [b"*filter\n:FORWARD DROP [0:0]\n-A FORWARD -i x -j ACCEPT\nCOMMIT\n"],
    ),
    "boot sectors": (boot_sectors.boot_sectors, [bytes(510) + b"\x55\xaa" + b"EFI PART" + bytes(1000)]),
    "partitions": (
        lambda d: partitions.partitions(lambda at, n: d[at : at + n], 1 << 40),
        [bytes(446) + b"\0\0\0\0\5\0\0\0\1\0\0\0\x40\0\0\0" + bytes(48) + b"\x55\xaa"],
    ),
    "qcow2": (qcow2.decode, [b"QFI\xfb" + struct.pack(">IQIIQ", 3, 0, 0, 16, 1 << 20) + bytes(80)]),
    "disk image": (
        lambda d: judge(lambda at, n: d[at : at + n], len(d)),
        [b"QFI\xfb" + bytes(300), b"KDMV" + bytes(300)],
    ),
    "iso": (iso, [iso_image("FINE", {"a": b"x" * 100})]),
    "windows images": (lambda d: wim.editions(lambda at, n: d[at : at + n]), [WIM]),
    "kernel module": (depends, [b"\x7fELF" + bytes(60) + b"depends=virtio,virtio_ring\0"]),
}


def main() -> int:
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 1.0
    names = sys.argv[2:] or list(PARSERS)
    total, defects, slow = 0, [], []
    for name in names:
        take, samples = PARSERS[name]
        kept = CORPUS / name.replace(" ", "-").replace("'", "")
        samples = [*samples, *(f.read_bytes() for f in sorted(kept.glob("*")))] if kept.is_dir() else samples
        rng, count, refused, until = random.Random(f"{name} 20261130"), 0, 0, time.monotonic() + seconds
        worst = 0.0
        for known in samples:
            refused += _taken(take, known, name, defects)
        while time.monotonic() < until:
            data = broken(rng, samples)
            began = time.monotonic()
            before = len(defects)
            refused += _taken(take, data, name, defects)
            worst = max(worst, time.monotonic() - began)
            count += 1
            if len(defects) > before:
                kept.mkdir(parents=True, exist_ok=True)
                (kept / f"{len(list(kept.iterdir())):03}").write_bytes(data)
                break
        total += count
        if worst > SLOWEST_S:
            slow.append(name)
        print(f"{name:<18} {count:>8} inputs, {refused:>8} refused, slowest {worst * 1000:.1f} ms")
    for name, why in defects:
        print(f"{name}: {why}")
    held = not defects and not slow
    return verdict(
        f"{len(names)} parsers, {total} inputs, {len(defects)} defects", f"limit 0; each within {SLOWEST_S:.0f} s", held
    )


def _taken(take: Callable[[bytes], object], data: bytes, name: str, defects: list[tuple[str, str]]) -> int:
    """Let a parser read this; 1 where it was refused as it should be."""
    try:
        take(data)
    except DachaError:
        return 1
    except ValueError as e:
        # What is read from an administrator's own file is refused by (what, remedy).
        if name in ("public key", "kernel module") and e.args:
            return 1
        defects.append((name, f"{type(e).__name__}: {e} for {data[:60]!r}"))
    except Exception as e:
        defects.append((name, f"{type(e).__name__}: {e} for {data[:60]!r}"))
    return 0


if __name__ == "__main__":
    sys.exit(main())
