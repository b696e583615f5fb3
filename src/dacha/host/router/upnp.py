"""UPnP: the Internet Gateway Device of the UPnP Forum (messages in `wire.router.igd`).

Answers of devices are parsed by a process of its own, this module as a script, without privileges or connections. It
requests each connection from this process, by port only, and this process connects only to the router's address. The
request is JSON in its argument, the result JSON on its output.
"""

from __future__ import annotations

import contextlib
import http.client
import json
import select
import socket
import subprocess
import sys
import time
from collections.abc import Sequence
from typing import Any

from dacha.core.errors import AnswerNo, DachaError
from dacha.core.router.mapping import Mapping, MappingRequest
from dacha.host import confine
from dacha.host.accounts import helper
from dacha.host.router.port_mapper import Granted, Place, Seen
from dacha.wire.router import igd, ssdp

# The time that devices have to answer a search (milliseconds) before it is repeated, the number of repetitions, and the
# limit for a request including its search (seconds).
SEARCH_MS, SEARCHES, PATIENCE_S = 500, 2, 8.0
# The limit for connecting to the router (seconds); no request needs more connections than this.
CONNECT_S, CONNECTIONS_MOST = 3.0, 40
# How many other outside ports are tried if the requested one belongs to another machine.
OTHERS = 10


class Upnp:
    """A gateway, found again for each request: its control port may have changed."""

    name = "upnp"

    def __init__(self, router: str, source: str) -> None:
        user = helper()
        self._router, self._source = router, source
        self._head = {"router": router, "user": user[:2] if user else None}

    def _ask(self, **question: Any) -> dict[str, Any]:
        until = time.monotonic() + PATIENCE_S
        try:
            place = _description(self._router, self._source)
        except (LookupError, OSError):
            raise AnswerNo("it does not respond") from None
        mine, its = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with mine:
            with its:
                asked = json.dumps(self._head | {"place": place, "connections": its.fileno()} | question)
                child = subprocess.Popen(
                    [sys.executable, "-P", "-m", "dacha.host.router.upnp", asked], stdin=subprocess.DEVNULL,
                    stdout=subprocess.PIPE, stderr=subprocess.PIPE, pass_fds=[its.fileno()],
                )  # fmt: skip
            try:
                _connect_for(mine, self._router, self._source, until)
                out, err = child.communicate(timeout=max(0.1, until - time.monotonic()))
            except subprocess.TimeoutExpired:
                raise AnswerNo("it does not respond") from None
            finally:
                if child.poll() is None:
                    child.kill()
                child.communicate()
        try:
            answer = dict(json.loads(out))
        except ValueError:
            raise AnswerNo("its answers are invalid", why=err.decode(errors="replace").strip()[-200:]) from None
        if "error" in answer:
            raise AnswerNo(answer["error"])
        return answer

    def look(self) -> Seen:
        return Seen(str(self._ask(do="look")["address"]), 0)

    def map(self, wanted: MappingRequest, known: Mapping | None, lifetime_s: int) -> Granted:
        first = known.outside_port if known else wanted.outside_port
        ports = [first] if wanted.fixed else list(range(first, min(first + OTHERS, 65536)))
        name = f"Dacha {wanted.guest} {wanted.door}"
        answer = self._ask(
            do="map", ports=ports, protocol=wanted.protocol.upper(), to=wanted.to, port=wanted.port, name=name,
            lifetime=lifetime_s,
        )  # fmt: skip
        return Granted(answer["port"], str(answer["address"]), answer["lifetime"], 0, "")

    def unmap(self, mapping: Mapping) -> None:
        self._ask(do="unmap", port=mapping.outside_port, protocol=mapping.wanted.protocol.upper())

    def lookup(self, mappings: Sequence[Mapping]) -> list[Place | None]:
        ports = [(m.outside_port, m.wanted.protocol.upper()) for m in mappings]
        places = self._ask(do="lookup", ports=ports)["places"]
        return [(str(place[0]), int(place[1])) if place else None for place in places]


def _connect_for(channel: socket.socket, router: str, source: str, until: float) -> None:
    """Connect to the ports of the router that the process at the other end requests, until it exits."""
    for _ in range(CONNECTIONS_MOST):
        if not select.select([channel], [], [], max(0.0, until - time.monotonic()))[0]:
            return
        asked = channel.recv(8)
        if not asked:
            return
        try:
            made = socket.create_connection((router, int.from_bytes(asked, "big") & 0xFFFF), CONNECT_S, (source, 0))
        except OSError:
            channel.send(b"n")
            continue
        with made:
            socket.send_fds(channel, [b"y"], [made.fileno()])


def _description(router: str, source: str) -> str:
    """URL of the router's own description. Answers from other devices are ignored."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as s:
        s.bind((source, 0))
        s.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_TTL, 2)
        s.setsockopt(socket.IPPROTO_IP, socket.IP_MULTICAST_IF, socket.inet_aton(source))
        for _ in range(SEARCHES):
            for place in (ssdp.GROUP, router):
                for target in ssdp.TARGETS:
                    s.sendto(ssdp.search(target), (place, ssdp.PORT))
            deadline = time.monotonic() + SEARCH_MS / 1000
            while (left := deadline - time.monotonic()) > 0:
                s.settimeout(left)
                with contextlib.suppress(TimeoutError):
                    answer, (sender, _) = s.recvfrom(ssdp.ANSWER_MOST + 1)
                    found = ssdp.location(answer, router) if sender == router else None
                    if found:
                        return found
    raise LookupError("it does not respond")


class Gateway:
    """The router's control, inside the process that opens no connection itself."""

    def __init__(self, router: str, place: str, channel: socket.socket) -> None:
        """Raises LookupError for a router without one, PeerError, OSError."""
        self._router, self._channel = router, channel
        base = igd.place_of(place, router)
        status, body = self._exchange(base, igd.get(router, base))
        found = igd.controls(body, router, base) if status == 200 else []
        if not found:
            raise LookupError("it does not respond")
        self._control = found[0]

    def _exchange(self, place: igd.Place, request: bytes) -> tuple[int, bytes]:
        self._channel.send(place.port.to_bytes(2, "big"))
        word, descriptors, _, _ = socket.recv_fds(self._channel, 1, 1)
        if word != b"y":
            raise LookupError("it does not respond")
        with socket.socket(fileno=descriptors[0]) as s:
            s.settimeout(PATIENCE_S)
            s.sendall(request)
            with http.client.HTTPResponse(s) as response:
                response.begin()
                return response.status, response.read(igd.MOST + 1)

    def do(self, name: str, **arguments: object) -> dict[str, str]:
        """Send an action with its arguments in order; returns its results. Raises Refused, PeerError, OSError."""
        return igd.answer(
            *self._exchange(self._control.place, igd.action(self._router, self._control, name, arguments))
        )

    def address(self) -> str:
        return self.do("GetExternalIPAddress").get("NewExternalIPAddress", "")

    def mapped_to(self, port: int, protocol: str) -> tuple[str, int] | None:
        """The target of a port; None for no mapping."""
        try:
            told = self.do("GetSpecificPortMappingEntry", **_entry(port, protocol))
        except igd.Refused as e:
            if e.number == igd.NO_SUCH_ENTRY:
                return None
            raise
        inside = told.get("NewInternalPort", "")
        return (told.get("NewInternalClient", ""), int(inside)) if inside.isdigit() else None

    def map(self, port: int, question: dict[str, Any], lifetime: int) -> None:
        self.do(
            "AddPortMapping", **_entry(port, question["protocol"]), NewInternalPort=question["port"],
            NewInternalClient=question["to"], NewEnabled=1, NewPortMappingDescription=question["name"],
            NewLeaseDuration=lifetime,
        )  # fmt: skip


def _entry(port: int, protocol: str) -> dict[str, object]:
    return {"NewRemoteHost": "", "NewExternalPort": port, "NewProtocol": protocol}


def _answer(question: dict[str, Any]) -> dict[str, Any]:
    """Process one request, after dropping every privilege and the ability to connect."""
    channel = socket.socket(fileno=question["connections"])
    user = question.get("user")
    confine.give_up(tuple(user) if user else None, calls=confine.CALLS_WITHOUT_CONNECTIONS)
    gateway = Gateway(question["router"], question["place"], channel)
    match question["do"]:
        case "look":
            return {"address": gateway.address()}
        case "lookup":
            return {"places": [gateway.mapped_to(*port) for port in question["ports"]]}
        case "unmap":
            gateway.do("DeletePortMapping", **_entry(question["port"], question["protocol"]))
            return {}
    for port in question["ports"]:
        for lifetime in (question["lifetime"], 0):
            try:
                gateway.map(port, question, lifetime)
            except igd.Refused as e:
                if e.number == igd.CONFLICT:
                    break  # port taken by another machine: try the next
                if e.number != igd.ONLY_PERMANENT:
                    raise
            else:
                # A permanent mapping is checked again like a temporary one.
                lasts = lifetime or question["lifetime"]
                return {"port": port, "address": gateway.address(), "lifetime": lasts}
    raise LookupError("the outside port is in use by another machine")


def main() -> None:
    """Process the request in the argument."""
    try:
        answer = _answer(json.loads(sys.argv[1]))
    except LookupError as e:
        answer = {"error": str(e)}
    except DachaError as e:
        answer = {"error": e.what}
    except (OSError, http.client.HTTPException):
        answer = {"error": "it does not respond"}
    sys.stdout.write(json.dumps(answer))


if __name__ == "__main__":
    main()
