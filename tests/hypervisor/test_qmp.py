"""The QMP client against a peer that speaks right, wrong, slowly, or not at all."""

import json
import socket
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from dacha.core.errors import PeerError
from dacha.hypervisor.monitor import agent
from dacha.hypervisor.monitor.qmp import Qmp, QmpRefused

SYNC = b'\xff{"return": TOKEN}\n'
GREETING = b'{"QMP": {"version": {}}}\n'


class Peer:
    """Plays a script on a UNIX socket: each request is answered with the next bytes."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.server = socket.socket(socket.AF_UNIX)
        self.server.bind(str(path))
        self.server.listen(1)
        self.requests: list[dict[str, object]] = []

    def play(self, greeting: bytes, *answers: bytes) -> None:
        def serve() -> None:
            try:
                connection, _ = self.server.accept()
            except OSError:  # the test was over before anybody called
                return
            with connection, connection.makefile("rb") as lines:
                connection.sendall(greeting)
                if not greeting:
                    return
                for answer in answers:
                    line = lines.readline()
                    if not line:
                        return
                    self.requests.append(json.loads(line))
                    connection.sendall(answer)
                lines.readline()

        threading.Thread(target=serve, daemon=True).start()


@pytest.fixture
def peer(tmp_path: Path) -> Iterator[Peer]:
    made = Peer(tmp_path / "qmp")
    yield made
    made.server.close()


OK = b'{"return": {}}\n'


def test_answers_and_the_events_between_them(peer: Peer) -> None:
    peer.play(GREETING, OK, b'{"event": "STOP", "data": {}}\n{"return": {"status": "paused"}}\n')
    with Qmp(peer.path) as qmp:
        assert qmp.execute("query-status") == {"status": "paused"}
        assert qmp.wait_event({"STOP"}, 30.0) == {"event": "STOP", "data": {}}
        assert qmp.wait_event({"STOP"}, 0.05) is None
    assert [r["execute"] for r in peer.requests] == ["qmp_capabilities", "query-status"]


def test_a_refusal_keeps_qemus_own_words(peer: Peer) -> None:
    peer.play(GREETING, OK, b'{"error": {"class": "GenericError", "desc": "Device is locked"}}\n')
    with Qmp(peer.path) as qmp, pytest.raises(QmpRefused, match="Device is locked") as refused:
        qmp.execute("eject", {"id": "cd"})
    assert refused.value.kind == "GenericError" and peer.requests[1]["arguments"] == {"id": "cd"}


def test_an_event_is_waited_for(peer: Peer) -> None:
    peer.play(GREETING, OK + b'{"event": "RESET"}\n{"event": "SHUTDOWN", "data": {"guest": true}}\n')
    with Qmp(peer.path) as qmp:
        event = qmp.wait_event({"SHUTDOWN"}, 30.0)
    assert event is not None and event["data"] == {"guest": True}


def test_an_event_for_the_client_before_is_no_greeting(peer: Peer) -> None:
    peer.play(b'{"event": "JOB_STATUS_CHANGE", "data": {"status": "waiting"}}\n' + GREETING, OK, OK)
    with Qmp(peer.path) as qmp:
        assert qmp.execute("query-status") == {} and qmp.events == []


@pytest.mark.parametrize("greeting", [b"SSH-2.0-x\r\n", b"[1]\n", b'{"hello": 1}\n', b"\xff\n", b""])
def test_what_is_no_monitor_is_a_peers_error(peer: Peer, greeting: bytes) -> None:
    peer.play(greeting)
    with pytest.raises(PeerError):
        Qmp(peer.path, timeout_s=30.0)


def test_silence_is_a_time_out(peer: Peer) -> None:
    with pytest.raises(TimeoutError):
        Qmp(peer.path, timeout_s=0.1)


def test_nobody_there(tmp_path: Path) -> None:
    with pytest.raises(FileNotFoundError):
        Qmp(tmp_path / "nothing")


def test_a_path_too_long_for_the_kernel_is_reached_all_the_same(tmp_path: Path) -> None:
    folder = tmp_path / ("d" * 100)
    folder.mkdir()
    short = Peer(tmp_path / "s")
    (tmp_path / "s").rename(folder / "s")
    short.play(GREETING, OK)
    with Qmp(folder / "s") as qmp:
        assert qmp.pid > 0


def serve_agent(path: Path, *answers: bytes, synced: bool = False) -> None:
    """An agent that plays its answers, each to a line that it is sent; `synced`, after the answer that it is there."""
    server = socket.socket(socket.AF_UNIX)
    server.bind(str(path))
    server.listen(1)

    def talk() -> None:
        with server:
            connection, _ = server.accept()
            with connection, connection.makefile("rb") as lines:
                token = json.loads(lines.readline().lstrip(b"\xff"))["arguments"]["id"]
                for answer in (SYNC, *answers) if synced else answers:
                    connection.sendall(answer.replace(b"TOKEN", str(token).encode()))
                    lines.readline()

    threading.Thread(target=talk, daemon=True).start()


INTERFACES = {
    "return": [
        {"name": "lo", "ip-addresses": [{"ip-address": "127.0.0.1", "prefix": 8}]},
        {"name": "ens4", "hardware-address": "02:00", "ip-addresses": [{"ip-address": "10.77.4.20", "prefix": 24}]},
    ]
}


def test_an_agents_late_answers_hide_nothing(tmp_path: Path) -> None:
    """It still answers what was given up: with its number, and with the answer to that."""
    late = b'\xff{"return": 277}\n{"return": {"pid": 7}}\n{"error": {"class": "Generic"}}\n\xff\xff{"return": 5}\n'
    serve_agent(tmp_path / "agent", late + b'\xff{"return": TOKEN}\n', json.dumps(INTERFACES).encode() + b"\n")
    assert agent.addresses(tmp_path) == [("02:00", "10.77.4.20/24")]


@pytest.mark.parametrize("lie", [b"\xff[1]", b"\xff7", b'\xff"return"', b"\xffnull", b"\xff{", b"\xff"])
def test_no_value_in_place_of_its_number_is_an_error(tmp_path: Path, lie: bytes) -> None:
    serve_agent(tmp_path / "agent", lie + b"\n")
    assert agent.ask(tmp_path, "guest-ping", 0.5) is None


def test_the_agent_is_asked_past_what_an_earlier_asker_left(tmp_path: Path) -> None:
    stale = b'{"return": 1}\n'
    serve_agent(tmp_path / "agent", stale + b'\xff{"return": TOKEN}\n', json.dumps(INTERFACES).encode() + b"\n")
    assert agent.addresses(tmp_path) == [("02:00", "10.77.4.20/24")]


@pytest.mark.parametrize(
    ("ended", "ran"),
    [
        (b'{"return": {"exited": true, "exitcode": 3, "out-data": "aGk=", "err-data": "bm8="}}', (3, b"hi", b"no")),
        (b'{"return": {"exited": true, "signal": 9}}', (None, b"", b"")),
        (b'{"return": {"exited": true, "exitcode": 0, "out-data": "a"}}', None),
        (b'{"error": {"class": "GenericError"}}', None),
    ],
)
def test_a_program_is_run_to_its_end(tmp_path: Path, ended: bytes, ran: tuple[int | None, bytes, bytes] | None) -> None:
    going_on = b'{"return": {"exited": false}}\n'
    serve_agent(tmp_path / "agent", b'{"return": {"pid": 7}}\n', going_on, ended + b"\n", synced=True)
    assert agent.run_program(tmp_path, ("/bin/true",), 5.0) == ran


def test_what_runs_nothing_or_too_long_has_not_run(tmp_path: Path) -> None:
    serve_agent(tmp_path / "agent", b'{"error": {"class": "CommandNotFound"}}\n', synced=True)
    assert agent.run_program(tmp_path, ("/bin/true",), 0.5) is None
    slow = tmp_path / "slow"
    slow.mkdir()
    serve_agent(slow / "agent", b'{"return": {"pid": 7}}\n', *[b'{"return": {"exited": false}}\n'] * 20, synced=True)
    assert agent.run_program(slow, ("/bin/true",), 0.7) is None


@pytest.mark.parametrize("answer", [b'\xff{"return": 5}\n', b"\xffnot json\n", b'\xff{"error": {}}\n', b""])
def test_an_agent_that_answers_wrong_or_not_is_no_answer(tmp_path: Path, answer: bytes) -> None:
    serve_agent(tmp_path / "agent", answer)
    assert agent.ask(tmp_path, "guest-ping", timeout_s=0.2) is None
    assert agent.ask(tmp_path / "nowhere", "guest-ping", timeout_s=0.2) is None
