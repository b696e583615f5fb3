"""A storm of DHCP exchanges and DNS questions: `storm.py SECONDS RELAY SERVER NAME`; what came of it, as JSON.

It speaks DHCP as a relay for ever new machines, and asks for one name all the time by DNS.
"""

from __future__ import annotations

import json
import socket
import sys
import threading
import time
from ipaddress import IPv4Address

import dns.message

from dacha.wire.dhcp.dhcp4 import Kind, Message, Option, decode, encode

SECONDS, RELAY, SERVER, NAME = float(sys.argv[1]), sys.argv[2], sys.argv[3], sys.argv[4]
until = time.monotonic() + SECONDS
given: dict[str, list[str]] = {}
asked, unanswered, gap = 0, 0, 0.0


def dhcp() -> None:
    """Sixteen machines at once, each followed by another when it has its address or is left without an answer."""
    global unanswered
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    s.bind((RELAY, 67))
    s.settimeout(0.1)
    waiting: dict[int, float] = {}
    n = 1

    def send(number: int, kind: Kind, more: dict[int, bytes]) -> None:
        chaddr = (0x020000000000 + number).to_bytes(6, "big")
        said = {Option.KIND: bytes((kind,)), **more}
        s.sendto(encode(Message(1, number, chaddr, said, giaddr=IPv4Address(RELAY).packed)), (SERVER, 67))
        waiting[number] = time.monotonic()

    while time.monotonic() < until:
        for number in [k for k, since in waiting.items() if time.monotonic() - since > 1.5]:
            unanswered += 1
            del waiting[number]
        while len(waiting) < 16:
            n += 1
            send(n, Kind.DISCOVER, {})
        try:
            answer = decode(s.recv(2048))
        except TimeoutError:
            continue
        if answer.kind == Kind.OFFER and answer.xid in waiting:
            server = IPv4Address(SERVER).packed
            send(answer.xid, Kind.REQUEST, {Option.REQUESTED_ADDRESS: answer.yiaddr, Option.SERVER: server})
        elif answer.kind == Kind.ACK:
            waiting.pop(answer.xid, None)
            given.setdefault(str(IPv4Address(answer.yiaddr)), []).append(answer.chaddr.hex(":"))


def names() -> None:
    global asked, gap
    query = dns.message.make_query(NAME, "A").to_wire()
    last = time.monotonic()
    while time.monotonic() < until:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
            s.settimeout(0.05)
            s.connect((SERVER, 53))
            try:
                s.send(query)
                s.recv(2048)
                asked += 1
                last = time.monotonic()
            except OSError:
                pass
        gap = max(gap, time.monotonic() - last)


threads = [threading.Thread(target=dhcp), threading.Thread(target=names)]
for thread in threads:
    thread.start()
for thread in threads:
    thread.join()
print(json.dumps({"given": given, "unanswered": unanswered, "answers": asked, "longest_gap_s": gap}))
