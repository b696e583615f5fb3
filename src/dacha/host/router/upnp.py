"""UPnP: the Internet Gateway Device of the UPnP Forum, asked through the miniupnpc library.

The library waits as long as it likes, complains to standard error by itself, and reads what a device of the LAN says:
so each question is asked by a process of its own that can do nothing else, this module, run, with the question as JSON
in its argument and the answer as JSON on its output.
"""

from __future__ import annotations

import contextlib
import json
import socket
import subprocess
import sys
import time
from collections.abc import Sequence
from typing import Any
from urllib.parse import urlsplit

from dacha.core.errors import AnswerNo
from dacha.core.router.mapping import Mapping, MappingRequest
from dacha.host import confine
from dacha.host.accounts import helper
from dacha.host.router.port_mapper import Granted, Place, Seen
from dacha.wire.router import ssdp

# How long devices have to answer the search (milliseconds) before it is sent once more, how often it is sent, and how
# long one question takes with its search in all (seconds).
SEARCH_MS, SEARCHES, PATIENCE_S = 500, 2, 8.0
# Other outside ports that are tried when the wished one is another machine's.
OTHERS = 10


class Upnp:
    """One gateway, found anew at each question: it may have moved its control port meanwhile."""

    name = "upnp"

    def __init__(self, router: str, source: str) -> None:
        user = helper()
        self._head = {"router": router, "source": source, "user": user[:2] if user else None}

    def _ask(self, **question: Any) -> dict[str, Any]:
        command = [sys.executable, "-P", "-m", "dacha.host.router.upnp", json.dumps(self._head | question)]
        try:
            done = subprocess.run(
                command, stdin=subprocess.DEVNULL, capture_output=True, timeout=PATIENCE_S, check=False
            )
            answer = dict(json.loads(done.stdout))
        except subprocess.TimeoutExpired:
            raise AnswerNo("it does not answer") from None
        except ValueError:
            raise AnswerNo("the UPnP library failed", why=done.stderr.decode(errors="replace")[-200:]) from None
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


def _description(router: str, source: str) -> str:
    """Where the router's own description is. Nobody else's answer is taken, and no other machine's is ever read."""
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
    raise LookupError("it does not answer")


def _gateway(question: dict[str, Any]) -> Any:
    """The gateway's control. Raises Exception: the library has no other."""
    import miniupnpc

    place = _description(question["router"], question["source"])
    # Everything is loaded: from here on the router's words are read by somebody who can do nothing.
    user = question.get("user")
    confine.give_up(tuple(user) if user else None, connect=None)
    found = miniupnpc.UPnP(multicastif=question["source"], discoverdelay=SEARCH_MS)
    place = found.selectigd(place)
    if urlsplit(place).hostname != question["router"]:
        raise LookupError("it sends elsewhere")
    return found


def _answer(question: dict[str, Any]) -> dict[str, Any]:
    """Carry out one question. The library's words are all there is to tell one refusal from another."""
    gateway = _gateway(question)
    match question["do"]:
        case "look":
            return {"address": gateway.externalipaddress()}
        case "lookup":
            found = [gateway.getspecificportmapping(*port) for port in question["ports"]]
            return {"places": [place[:2] if place else None for place in found]}
        case "unmap":
            gateway.deleteportmapping(question["port"], question["protocol"])
            return {}
    what = (question["protocol"], question["to"], question["port"], question["name"], "")
    for port in question["ports"]:
        for lifetime in (question["lifetime"], 0):
            try:
                gateway.addportmapping(port, *what, lifetime)
            except Exception as e:  # the library raises no other class
                if "Conflict" in str(e):
                    break  # another machine has it: the next one
                if "OnlyPermanent" not in str(e):
                    raise
            else:
                # A mapping that stands for good is looked at again like one that does not.
                lasts = lifetime or question["lifetime"]
                return {"port": port, "address": gateway.externalipaddress(), "lifetime": lasts}
    raise LookupError("that outside port cannot be had: another machine has it")


def main() -> None:
    """Answer the question in the argument."""
    try:
        answer = _answer(json.loads(sys.argv[1]))
    except ImportError:
        answer = {"error": "the Python library miniupnpc is not installed"}
    except LookupError as e:
        answer = {"error": str(e)}
    except Exception as e:  # the library raises no other class
        words = str(e)
        known = {"No UPnP device discovered": "it does not answer", "Success": "it does not answer"}
        answer = {"error": known.get(words, f"it refuses: {words}")}
    sys.stdout.write(json.dumps(answer))


if __name__ == "__main__":
    main()
