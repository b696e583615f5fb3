"""A slow service is waited for, and not asked again and again; what never arrives is tried anew."""

from __future__ import annotations

import selectors
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress

from dacha.core.heard import Heard
from dacha.host.probe import patience
from dacha.host.probe.patience import PatientProbe, Place
from dacha.hypervisor.live.user_network import parse_taken


class Service:
    """Accepts, and says its first words `after_s` seconds later; counts who comes."""

    def __init__(self, after_s: float) -> None:
        self.after_s, self.came, self._held = after_s, 0, []
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                s, _ = self.listener.accept()
            except OSError:
                return
            self.came += 1
            self._held.append(s)
            timer = threading.Timer(self.after_s, self._greet, [s])
            timer.daemon = True
            timer.start()

    def _greet(self, s: socket.socket) -> None:
        with suppress(OSError):
            s.sendall(b"SSH-2.0-slow\r\n")


@contextmanager
def served(after_s: float) -> Iterator[Service]:
    service = Service(after_s)
    yield service
    service.listener.close()


def ask(port: int, limit_s: float, taken: bool | None = None) -> tuple[PatientProbe, float]:
    """Ask until it answers or the time is over; how long it took."""
    began = time.monotonic()
    with selectors.DefaultSelector() as selector, closing(PatientProbe(selector, Place("127.0.0.1", port, "ssh"))) as p:
        while p.answer is None and time.monotonic() - began < limit_s:
            p.step(time.monotonic(), taken)
            for entry, mask in selector.select(0.05):
                entry.data[0].ready(entry.data[1], mask, time.monotonic())
            if not selector.get_map():
                time.sleep(0.02)
        return p, time.monotonic() - began


def test_one_connection_is_enough_for_a_service_that_needs_seconds() -> None:
    with served(3.0) as service:
        probe, took = ask(service.port, 20)
    assert probe.answer and probe.answer.seen == "SSH-2.0-slow"
    assert service.came == 1 and took >= 3.0


def test_what_a_forward_accepted_and_its_guest_did_not_take_is_tried_anew_but_never_piled_up() -> None:
    with served(60) as service:
        probe, _ = ask(service.port, 3.0, taken=False)
    assert probe.answer is None and 2 <= service.came <= 8


def test_a_few_connections_at_most_are_held_at_once(monkeypatch) -> None:  # type: ignore[no-untyped-def]
    monkeypatch.setattr(patience, "BESIDE_S", 0.2)
    with served(60) as service:
        ask(service.port, 2.0)
    assert service.came == patience.MOST


def test_a_port_that_refuses_is_asked_again_ever_less_often() -> None:
    with closing(socket.create_server(("127.0.0.1", 0))) as s:
        port = s.getsockname()[1]
    probe, _ = ask(port, 1.0)
    assert probe.answer is None and probe.last.heard == Heard.REFUSED


def test_connections_that_the_guest_has_taken_are_told_from_those_that_wait() -> None:
    text = """Hub -1 (net0):
  Protocol[State]    FD  Source Address  Port   Dest. Address  Port RecvQ SendQ
  TCP[ESTABLISHED]   23       127.0.0.1  2210      10.77.4.20    22     0     0
  TCP[SYN_SENT]      24       127.0.0.1  2211      10.77.4.20    80     0     0
  TCP[ESTABLISHED]   25      10.77.4.20 41000      192.0.2.20   443     0     0
  TCP[HOST_FORWARD]  12       127.0.0.1  2210      10.77.4.20    22     0     0
"""
    assert {(port, str(address), to) for port, address, to in parse_taken(text)} == {
        (2210, "10.77.4.20", 22),
        (41000, "192.0.2.20", 443),
    }
