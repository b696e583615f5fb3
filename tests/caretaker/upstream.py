"""A name server of the outside for tests: it answers a few names by UDP and TCP, and prints what it was
asked."""

from __future__ import annotations

import socketserver
import sys
import threading

import dns.flags
import dns.message
import dns.rcode
import dns.rrset

NAMES = {"www.example.org.": ["192.0.2.80"], "many.example.org.": [f"198.51.100.{n}" for n in range(100)]}


def answer(query: bytes, *, udp: bool) -> bytes:
    asked = dns.message.from_wire(query)
    name = asked.question[0].name
    print("tcp"[: 3 * (not udp)] or "udp", name.to_text().lower(), flush=True)
    made = dns.message.make_response(asked)
    if name.to_text().lower() in NAMES:
        made.answer.append(dns.rrset.from_text_list(name, 30, "IN", "A", NAMES[name.to_text().lower()]))
    else:
        made.set_rcode(dns.rcode.NXDOMAIN)
    wire = made.to_wire(max_size=65535)
    if udp and len(wire) > 512:
        made.answer.clear()
        made.flags |= dns.flags.TC
        wire = made.to_wire(max_size=65535)
    return wire


class Udp(socketserver.BaseRequestHandler):
    def handle(self) -> None:
        query, s = self.request
        s.sendto(answer(query, udp=True), self.client_address)


class Tcp(socketserver.StreamRequestHandler):
    def handle(self) -> None:
        query = self.rfile.read(int.from_bytes(self.rfile.read(2), "big"))
        said = answer(query, udp=False)
        self.wfile.write(len(said).to_bytes(2, "big") + said)


if __name__ == "__main__":
    udp = socketserver.ThreadingUDPServer((sys.argv[1], 53), Udp)
    threading.Thread(target=udp.serve_forever, daemon=True).start()
    with socketserver.ThreadingTCPServer((sys.argv[1], 53), Tcp) as tcp:
        print("up", flush=True)
        tcp.serve_forever()
