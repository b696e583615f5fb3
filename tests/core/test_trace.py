"""The verdicts on a way: the first broken hop is the right one, and what is heard through is never called broken."""

from __future__ import annotations

import re
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.cli.main import parser_for
from dacha.core.apply.waiting import UNAPPLIED
from dacha.core.endpoint import Endpoint
from dacha.core.heard import Heard
from dacha.core.network.confinement import Confinement
from dacha.core.trace.hop import ASIDE, UNTESTED
from dacha.core.trace.judge import broken, judge
from dacha.core.trace.seen.evidence import Evidence
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.results import (
    OPEN,
    REFUSED,
    SILENT,
    Carried,
    Certificate,
    ConnectResult,
    LastRun,
    RouterSeen,
    RouteSeen,
    ThereSeen,
    accepted,
)
from dacha.core.trace.there import read_failure
from dacha.core.trace.way import WAY
from tests.core.evidence import but

SSH = ConnectResult(OPEN, True, "SSH-2.0-x", largest=1500)
LINK = Carried("tap", True, True, True, "br", "br", True, True)
PATH = Evidence("gauge", "ssh", "ssh", "debian", 22, "kernel", "lan", Endpoint("192.0.2.10", 2220), network="pier")
KERNEL = but(
    PATH, since_s=600.0, booted="a prompt", carried=LINK, address="10.77.4.20",
    hardware="02:00:00:00:00:20", answered=("02:00:00:00:00:20",), route=RouteSeen("br", "br"), direct=SSH, key=True,
    reply=SSH, rule="there", forwarding=True, lan_address="192.0.2.10", through=SSH, sizes=(576, 1500),
    led=("10.77.4.20", 22), name="gauge.saltmarsh.internal", server="10.77.4.1", answer=("10.77.4.20",),
    confinement=Confinement(("pier",), ("gauge",)),
)  # fmt: skip
ROUTER = RouterSeen("192.0.2.1", "pcp", "203.0.113.7", 2220, "there", by_hand="outside port 2220, TCP, to 192.0.2.10")
OUTSIDE = but(KERNEL, origin="outside", router=ROUTER)
USER = but(KERNEL, way="user", carried=None, answered=None, route=None, direct=None, forward=True, rule=None)

NAMES = [kind.name for kind in WAY]


def named(e: Evidence) -> str | None:
    stop = broken(judge(e))
    return stop.name if stop else None


def test_every_hop_goes_by_the_name_that_its_row_has() -> None:
    for e in (KERNEL, USER, OUTSIDE, but(KERNEL, moves="x", service="https", certificate=SHOWN)):
        for kind in WAY:
            hop = kind.judge(e) if kind.on(e) else None
            assert hop is None or hop.name == kind.name
            assert kind.asks and kind.shown


def test_a_way_that_works_has_no_broken_hop() -> None:
    assert named(KERNEL) is None and named(USER) is None and named(OUTSIDE) is None
    seldom = ("forward", "inside", "security", "login", "certificate", "there")
    assert [h.name for h in judge(OUTSIDE)] == [n for n in NAMES if n not in seldom]
    assert [h.name for h in judge(KERNEL)] == [n for n in NAMES if n not in (*seldom, "router", "outside-address")]
    assert [h.name for h in judge(USER)][4:6] == ["forward", "service"]


def test_without_the_labs_rules_nothing_else_is_blamed() -> None:
    """Silence tells nothing of a guest that no packet can reach."""
    silent = ConnectResult(SILENT, False, "no answer")
    missing = Confinement(("pier",), ("gauge",), missing=("inet dacha_saltmarsh",))
    e = but(KERNEL, confinement=missing, direct=silent, through=silent, answered=(), rule="missing")
    hops = {h.name: h for h in judge(e)}
    assert named(e) == "rules" and "network pier" in (hops["rules"].means or "")
    assert hops["neighbour"].verdict == hops["service"].verdict == UNTESTED
    # A warning where the way works all the same: for this guest, by another door, or before a flush.
    open_ = but(KERNEL, confinement=missing._replace(unfiltered=("d1",)))
    assert named(open_) is None and "not confined" in ({h.name: h for h in judge(open_)}["rules"].means or "")


def test_the_mend_is_for_the_guests_own_family() -> None:
    refused = but(KERNEL, direct=ConnectResult(REFUSED), through=accepted(Heard.CLOSED))
    for system, words in (
        ("debian", "systemctl status --no-pager ssh sshd"),
        ("windows", "Start-Service sshd"),
        ("alpine", "service sshd status"),
    ):
        stop = broken(judge(but(refused, system=system)))
        assert stop is not None and stop.name == "service" and words in stop.remedy
        assert "install" not in stop.remedy, "it may well be installed"
    # It is installed where the guest itself said that it has none.
    none = Inside(managed=True, told=frozenset(("listeners", "services")))
    stop = broken(judge(but(refused, system="debian", inside=none, agent_runs=True)))
    assert (
        stop
        and "apt-get install -y openssh-server" in stop.remedy
        and stop.remedy.startswith("dacha connect gauge --by")
    )
    # What a guest without systemd has is not asked of systemd.
    plain = Inside(told=frozenset(("listeners", "services")))
    stop = broken(judge(but(refused, system="linux", inside=plain, agent_runs=True)))
    assert stop and "systemctl" not in stop.remedy and "the guest has no systemd" in stop.remedy
    assert "answers on 2222" in broken(judge(but(refused, elsewhere=(2222,)))).seen  # type: ignore[union-attr]


def test_what_was_not_seen_is_said_as_not_tested_and_breaks_nothing() -> None:
    blind = but(KERNEL, carried=None, answered=None, route=None, rule=None, forwarding=None, untold="it takes root")
    assert named(blind) is None
    assert {h.name for h in judge(blind) if h.verdict == "not tested"} >= {
        "adapter",
        "neighbour",
        "door-rule",
        "firewall",
    }


@given(
    st.sampled_from([KERNEL, USER]),
    st.booleans(),
    st.sampled_from([None, "10.77.4.77"]),
    st.one_of(st.none(), st.just(())),
    st.one_of(st.none(), st.floats(0, 1000)),
    st.sampled_from([None, "Kernel panic"]),
)
def test_what_is_heard_is_never_called_broken(
    way: Evidence,
    changed: bool,
    seen: str | None,
    answered: tuple[str, ...] | None,
    age: float | None,
    panic: str | None,
) -> None:
    """Old or odd evidence beside a service that answers on its whole way proves nothing."""
    e = but(way, rules_changed=changed, seen_address=seen, since_s=age, panic=panic, booted=None)
    e = but(e, answered=answered) if way is KERNEL else e
    assert named(e) is None


@pytest.mark.parametrize(
    "change, hop, words",
    [
        ({"mapped": "forgotten"}, "router", "has lost its port mappings"),
        ({"mapped": "lapsed"}, "router", "203.0.113.7:2220 has expired"),
        ({"mapped": "missing", "trouble": "it does not allow this"}, "router", "it does not allow this"),
        ({"mapped": "192.0.2.99, port 2220"}, "router", "to 192.0.2.99, port 2220"),
        ({"there": False, "trouble": "it does not respond"}, "router", "no machine answers ARP for 192.0.2.1"),
        ({"above": "100.64.3.7 is a provider's shared address"}, "outside-address", "behind another NAT"),
        ({"there": True, "trouble": "it does not respond"}, None, ""),
        ({"router": "", "mapped": None}, None, ""),
        ({"mapped": "forgotten", "hairpin": SSH}, None, ""),
        ({"mapped": "forgotten", "hairpin": SSH._replace(seen="SSH-2.0-y")}, "router", "has lost"),
    ],
)
def test_what_the_router_does(change: dict[str, Any], hop: str | None, words: str) -> None:
    stop = broken(judge(but(OUTSIDE, router=ROUTER._replace(**change))))
    assert (stop.name if stop else None) == hop
    assert stop is None or words in f"{stop.seen} {stop.means} {stop.remedy}"


@pytest.mark.parametrize(
    "run, words",
    [
        (None, "it was never started"),
        (LastRun(False), "before this host's last boot"),
        (LastRun(False, "this host lost power"), "this host lost power: dacha log gauge"),
        (LastRun(True, "QEMU received SIGTERM from process 7"), "QEMU received SIGTERM from process 7"),
        (LastRun(True, console="[   12.3] reboot: Power down\r\n"), "its system powered itself off"),
        (LastRun(True, console="reboot: Power down\nagain: "), "it ended without a message"),
    ],
)
def test_why_a_guest_is_off(run: LastRun | None, words: str) -> None:
    (hop,) = (h for h in judge(but(KERNEL, state="off", last=run)) if h.name == "guest")
    assert words in hop.means and hop.remedy == "dacha start gauge"


SHOWN = Certificate("charts.saltmarsh.internal", "TLSv1.3", 0.0, 2000.0, True)


@pytest.mark.parametrize(
    "change, hop, words",
    [
        ({"sizes": (576, 1280)}, "size", "packets of 1500 bytes are lost, 1280 pass"),
        ({"sizes": ()}, None, ""),
        ({"led": ("127.0.0.1", 9)}, "door-rule", "is forwarded to 127.0.0.1, port 9"),
        ({"led": None}, None, ""),
        ({"lan_address": None}, "lan-address", "no address on a LAN"),
        ({"lan_address": None, "origin": "outside", "on_loopback": True, "router": ROUTER}, None, ""),
        ({"certificate": SHOWN, "now": 1000.0}, None, ""),
        ({"not_applied": UNAPPLIED}, "applied", "never applied"),
        ({"state": "off"}, "guest", "it is off"),
        ({"status": "io-error"}, "guest", "the host file system that holds its disks is full"),
        ({"status": "io-error", "room": (8192, "/srv")}, "guest", "the host file system that holds its disks is full"),
        (
            {"status": "io-error", "room": (1 << 30, "/srv")},
            "guest",
            "the host file system that holds its disks was full",
        ),
        ({"status": "internal-error"}, "guest", "its system crashed"),
    ],
)
def test_what_else_breaks_a_way(change: dict[str, Any], hop: str | None, words: str) -> None:
    stop = broken(judge(but(KERNEL, **change)))
    assert (stop.name if stop else None) == hop
    assert stop is None or words in stop.seen


@pytest.mark.parametrize(
    "change, hop, words",
    [
        ({"told_address": "192.0.2.9"}, "lan-address", "dacha apply printed 192.0.2.9"),
        ({"answer": None, "caretaker": False}, "names", "the caretaker, which runs the name server, is not running"),
        ({"answer": ("10.77.4.99",)}, "names", "resolves to 10.77.4.99, not to 10.77.4.20"),
        ({"certificate": SHOWN, "now": 3000.0 + 86400}, "certificate", "expired"),
        ({"certificate": SHOWN, "now": -5.0}, "certificate", "not valid yet"),
        (
            {"service": "rdp", "direct": ConnectResult(OPEN, True, "RDP", heard=Heard.RDP_OLD)},
            "security",
            "only the old RDP security",
        ),
        ({"service": "vnc", "origin": "outside"}, "security", "vnc from outside is not encrypted"),
    ],
)
def test_what_is_wrong_beside_the_way_breaks_nothing(change: dict[str, Any], hop: str, words: str) -> None:
    hops = judge(but(KERNEL, **change))
    assert broken(hops) is None
    (beside,) = [h for h in hops if h.verdict == ASIDE]
    assert beside.name == hop and words in f"{beside.seen} {beside.means}" and beside.remedy


def test_every_mend_that_is_a_command_can_be_typed() -> None:
    """What trace tells people to type is taken by the program's own parser."""
    cannot = but(KERNEL, error=("x", ""), not_applied=UNAPPLIED, panic="x", address=None, admitted=False, asker="::1")
    remedies = [h.remedy for e in (cannot, but(KERNEL, state="off"), but(KERNEL, status="io-error")) for h in judge(e)]
    remedies += [h.remedy for h in judge(but(KERNEL, state="paused", through=None, direct=ConnectResult(SILENT)))]
    remedies += [h.remedy for h in judge(but(KERNEL, direct=ConnectResult(REFUSED), through=None, elsewhere=(2222,)))]
    remedies += [h.remedy for h in judge(but(USER, forward=False, held_by="x"))]
    remedies += [h.remedy for h in judge(but(KERNEL, seen_address="10.77.4.9", answered=(), direct=None, through=None))]
    typed = [m for remedy in remedies for m in re.findall(r"dacha [^\n;,(]+", remedy) if "…" not in m]
    assert len(typed) > 8
    for command in typed:
        words = command.replace(" PORT", " 22").split()[1:]
        parser_for(words[0]).parse_args(words[1 : words.index("then:") if "then:" in words else None])


def test_a_service_that_waits_for_its_client_is_not_called_broken() -> None:
    quiet = accepted(Heard.NOTHING)
    for way in (KERNEL, USER):
        e = but(way, service="tcp", key=None, through=quiet, direct=quiet if way is KERNEL else None)
        assert named(e) is None
        assert {h.name: h.verdict for h in judge(e)}["door"] == ("fine" if way is KERNEL else "not tested")
    assert named(but(KERNEL, service="tcp", direct=quiet, through=ConnectResult(SILENT))) == "door"


def test_a_silent_door_is_broken_somewhere() -> None:
    assert named(but(KERNEL, through=ConnectResult(SILENT))) == "door"


def test_a_hop_whose_question_came_to_nothing_is_in_the_answer_all_the_same() -> None:
    late = but(OUTSIDE, router=None, key=None, unanswered=(("router", "no answer came"), ("key", "no answer came"),
                                                               ("outside-address", "no answer came")))  # fmt: skip
    hops = {h.name: h for h in judge(late)}
    assert [h.name for h in judge(late)] == [h.name for h in judge(OUTSIDE)]
    assert all(
        hops[n].verdict == "not tested" and hops[n].seen == "no answer came" for n, _ in late.gathered.unanswered
    )
    assert broken(judge(late)) is None
    # What does not apply stays out.
    assert "router" not in {h.name for h in judge(but(KERNEL, unanswered=late.gathered.unanswered))}


def test_a_guest_that_never_sent_a_frame_is_not_said_to_have_a_firewall() -> None:
    silent = ConnectResult(SILENT)
    mute = but(KERNEL, booted=None, answered=(), direct=silent, through=silent, frames=0, model="virtio")
    hop = broken(judge(mute))
    assert hop and hop.name == "neighbour" and hop.seen == "it has not sent a single frame since its start"
    assert "no driver for its adapter (virtio)" in hop.means and "--model e1000" in hop.remedy
    hop = broken(judge(but(mute, address=None, caretaker=True)))
    assert hop and hop.name == "address" and hop.seen == "it has not sent a single frame since its start"
    assert named(but(mute, frames=3)) == "neighbour"


def test_a_slow_service_is_not_called_closed() -> None:
    slow = SSH._replace(after_s=12.0)
    hops = {h.name: h for h in judge(but(KERNEL, direct=slow, through=slow))}
    assert hops["protocol"].verdict == ASIDE and "after 12 s (slow)" in hops["protocol"].seen
    quiet = accepted(Heard.NOTHING)._replace(after_s=6.0)
    hop = broken(judge(but(USER, through=quiet, arrived=True)))
    assert hop and hop.name == "protocol" and hop.seen == "it accepts connections, but sent nothing for 6 s"
    assert "dacha trace gauge ssh --wait 60s" in hop.remedy
    # In user mode QEMU accepts before the guest does: one that has not arrived there tells nothing of its service.
    assert named(but(USER, through=quiet, arrived=False, booted=None, since_s=900.0)) == "service"


def test_what_was_not_asked_of_a_guest_that_is_off_is_not_called_fine_or_broken() -> None:
    off = but(PATH, state="off")
    hops = judge(off)
    assert broken(hops) and broken(hops).name == "guest"  # type: ignore[union-attr]
    beyond = [h for h in hops if h.name not in ("lab-file", "applied", "guest", "sources")]
    assert len(beyond) > 8 and all(h.verdict == "not tested" for h in beyond)


WHO = "ops@192.0.2.20"


@pytest.mark.parametrize(
    ("seen", "verdict", "says"),
    [
        (ThereSeen(WHO, SSH), "fine", "connects: SSH-2.0-x"),
        (ThereSeen(WHO, SSH._replace(seen="SSH-2.0-y")), "broken", "gets 'SSH-2.0-y', this host 'SSH-2.0-x'"),
        (ThereSeen(WHO, ConnectResult(SILENT)), "broken", "a firewall in between"),
        (ThereSeen(WHO, ConnectResult(REFUSED)), "broken", "rejects it"),
        (ThereSeen(WHO, accepted(Heard.CLOSED)), "broken", "closes at once"),
        (ThereSeen(WHO, None, "Permission denied (publickey)."), "not tested", "ssh ops@192.0.2.20 true"),
    ],
)  # fmt: skip
def test_what_another_machine_gets(seen: ThereSeen, verdict: str, says: str) -> None:
    e = but(KERNEL, there=seen)
    hop = next(h for h in judge(e) if h.name == "there")
    assert hop.verdict == verdict and says in f"{hop.seen} {hop.means}"
    assert named(e) == ("there" if verdict == "broken" else None)


def test_the_clients_words_tell_how_it_went_over_there() -> None:
    assert read_failure("channel 0: open failed: connect failed: Connection refused\nstdio forwarding failed\n") == (
        REFUSED, "stdio forwarding failed",
    )  # fmt: skip
    assert read_failure("channel 0: open failed: administratively prohibited: no\n")[0] is None
    assert read_failure("ops@192.0.2.20: Permission denied (publickey).\n") == (
        None, "ops@192.0.2.20: Permission denied (publickey).",
    )  # fmt: skip
    assert read_failure("ssh: connect to host 192.0.2.20 port 22: Connection refused\n")[0] is None


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"nothing": ("its disk is empty", "dacha media insert gauge MEDIUM")}, "no system starts in it"),
        ({"shown": "You are in emergency mode.\n"}, "its boot has failed"),
    ],
)
def test_a_guest_in_which_no_system_has_started_is_not_said_to_be_booting(change: dict[str, Any], words: str) -> None:
    silent = but(KERNEL, direct=ConnectResult(SILENT), through=ConnectResult(SILENT), since_s=5.0, booted=None)
    hop = broken(judge(but(silent, **change)))
    assert hop and hop.name == "boot" and hop.means.startswith(words) and hop.remedy
    assert broken(judge(but(KERNEL, **change))) is None, "its service responds"
