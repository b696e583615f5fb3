"""What a guest tells of itself, read from whatever it says, and the causes that it explains."""

from __future__ import annotations

import os
import subprocess

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.heard import Heard
from dacha.core.trace.causes.advice import Advice
from dacha.core.trace.causes.port import why_mute, why_shut
from dacha.core.trace.causes.refused import waited_for
from dacha.core.trace.hop import ASIDE, BROKEN, FINE
from dacha.core.trace.judge import broken, judge
from dacha.core.trace.seen.client import IN_WORD
from dacha.core.trace.seen.evidence import AGENT
from dacha.core.trace.seen.inside import Inside, other_ports, read_inside
from dacha.core.trace.seen.questions import ACCOUNT, LINKS, LISTENERS, RULES, SERVER, SERVICES, script
from dacha.core.trace.seen.results import OPEN, REFUSED, SILENT, ConnectResult, accepted
from dacha.core.trace.service import protocol
from tests.core.evidence import but
from tests.core.test_trace import KERNEL, USER

TOLD = """\
listen LISTEN 0 128 0.0.0.0:22 0.0.0.0:* users:(("sshd",pid=480,fd=3))
listen LISTEN 0 128 [::1]:631 [::]:* users:(("cupsd",pid=500,fd=7))
managed
unit ssh active
shell /bin/bash
key-lines 1
mode 600 ops /home/ops/.ssh/authorized_keys
tail 5qIWlstb/hYGxMpIl9ik6G06
mode 755 ops /home/ops
shadow *x
clock 1795728659
disk 41%
adapter eth0 0x1003 02:00:00:00:00:20
inet 2: eth0    inet 10.77.4.20/24 brd 10.77.4.255 scope global eth0\\       valid_lft forever
route 01044D0A
way default via 10.77.4.1 dev eth0
way 10.77.4.0/24 dev eth0 proto kernel scope link src 10.77.4.20
told listeners
told services
told links
told account
told rules
told server
"""


def told(**changed: str) -> Inside:
    lines = [x for x in TOLD.splitlines() if x.partition(" ")[0] not in changed]
    # Addresses are told after the links that have them.
    found = read_inside("\n".join(lines + [f"{k} {v}".strip() for k, v in changed.items() if v != "-"]))
    assert found is not None
    return found


def rules(policy: str, *lines: str, hook: str = "input") -> str:
    """What nft itself makes of these rules, as a guest reports it."""
    chain = "".join(f"{line}; " for line in (f"type filter hook {hook} priority 0; policy {policy}", *lines))
    said = subprocess.run(
        ["unshare", "-n", "sh", "-c", "nft -f - && nft -j list ruleset"], check=True, capture_output=True, text=True,
        input=f"table inet t {{ chain {hook} {{ {chain} }}; }}",
    )  # fmt: skip
    return said.stdout.strip()


def test_it_is_read_as_it_was_told() -> None:
    found = told()
    assert [(x.address, x.port, x.program) for x in found.listeners] == [("0.0.0.0", 22, "sshd"), ("::1", 631, "cupsd")]
    assert (found.shell, found.keys, found.mode, found.disk, found.today) == ("/bin/bash", 1, "600 ops", 41, 20783)
    link = found.link_of("02:00:00:00:00:20")
    assert link and (link.name, link.up, link.addresses, found.gateway) == (
        "eth0",
        True,
        ("10.77.4.20/24",),
        "10.77.4.1",
    )
    assert found.knows("account") and read_inside("\n".join(x for x in TOLD.splitlines() if "told" not in x)) is None
    # Piece by piece it comes to the same.
    piece = read_inside("told links", read_inside("adapter eth0 0x1002 02:00:00:00:00:20\ntold listeners"))
    assert piece and piece.told == {"links", "listeners"} and not piece.links[0].up


def test_sockets_are_read_as_the_kernel_lists_them() -> None:
    """Where there is no ss: addresses in words of the host's order (proc(5))."""
    rows = ["00000000:0016", "0100007F:0277", "0" * 32 + ":0050", "0" * 24 + "01000000:0277", "junk", "01:0x"]
    found = read_inside("\n".join([*(f"socket {row}" for row in rows), "told listeners"]))
    assert found and [(x.address, x.port) for x in found.listeners] == [
        ("0.0.0.0", 22), ("127.0.0.1", 631), ("*", 80), ("::1", 631)
    ]  # fmt: skip


@given(st.text(), st.lists(st.sampled_from(TOLD.splitlines()), max_size=12))
def test_nothing_that_a_guest_says_is_an_error(noise: str, lines: list[str]) -> None:
    read_inside("\n".join([noise, *lines, "listen x", "keys many", "unit", "disk ?%", "shadow ", "told account"]))
    # Figures that no arithmetic takes.
    odd = read_inside(
        "\n".join([noise.replace("clock", ""), "clock " + "9" * 400, "key-lines ²", "shadow x inf", "told account"])
    )
    assert odd is None or (odd.clock, odd.keys, odd.expires) == (0, None, None)


def test_its_questions_are_a_shells_and_end() -> None:
    """On this machine, which is no guest: every line has the shape that is read."""
    found = None
    for piece in (LISTENERS, SERVICES, LINKS, ACCOUNT, RULES, SERVER):
        asked = script(piece, "root", "ssh")
        for shell in ("dash", "bash", "busybox sh"):
            done = subprocess.run([*shell.split(), "-c", asked], capture_output=True, text=True, check=False)
            assert f"told {piece}" in done.stdout or (os.geteuid() and piece in (RULES, SERVER)), (shell, done)
        found = read_inside(done.stdout, found)
    assert found is not None and found.shell and found.disk is not None and found.today > 20000, found
    assert found.link_of("00:00:00:00:00:00") and found.gateway is not None


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"listen": 'LISTEN 0 1 127.0.0.1:22 0.0.0.0:* users:(("sshd",pid=1,fd=3))'}, "listens only on 127.0.0.1"),
        ({"listen": "-"}, ""),
        ({"listen": "-", "unit": "ssh inactive"}, "service ssh is inactive"),
        ({"listen": "-", "unit": "ssh failed Bad configuration option"}, "failed: Bad configuration option"),
        ({"listen": "-", "unit": "-"}, "no server for it is installed"),
        ({"listen": "-", "unit": "-", "managed": "-"}, ""),
        ({"listen": "-", "unit": "ssh masked"}, "is masked"),
        ({"listen": 'LISTEN 0 1 [::]:22 [::]:* users:(("sshd",pid=1,fd=3))'}, "only on IPv6"),
        ({"ruleset": ("accept", "tcp dport 22 drop")}, "firewall blocks it: tcp dport 22 drop, chain input"),
        ({"ruleset": ("accept", "ct state invalid drop", "tcp dport 3306 drop", "udp dport 22 drop")}, ""),
        ({"ruleset": ("drop", "ct state established accept", "tcp dport { 22, 80 } accept")}, ""),
        ({"ruleset": ("drop", "ct state established accept", "tcp dport 80 accept")}, "policy drop"),
        ({"ruleset": ("accept", "meta length > 700 drop")}, "one of: the guest's firewall may block it"),
        ({"ruleset": ("accept", "ip saddr 10.77.4.1 reject with tcp reset")}, "reject with tcp reset"),
        ({"ruleset": ("accept", "ip saddr 198.51.100.9 drop")}, ""),
        ({"saved": "ip *filter\nsaved ip :INPUT DROP [0:0]\nsaved ip COMMIT"}, "policy drop, chain INPUT of iptables"),
    ],
)
def test_why_a_port_is_shut(changed: dict[str, str | tuple[str, ...]], words: str) -> None:
    inside = told(**{k: v if isinstance(v, str) else rules(*v) for k, v in changed.items()})
    found = why_shut(but(KERNEL, inside=inside, service="ssh", port=22, gateway="10.77.4.1"))
    assert words in (" ".join(found[:2]) if found else "") and (found is None) == (words == "")
    if words:
        for e in (
            but(KERNEL, direct=ConnectResult(REFUSED)),
            but(USER, through=ConnectResult(SILENT), on_loopback=True),
        ):
            stop = broken(judge(but(e, inside=inside, gateway="10.77.4.1")))
            assert (
                stop
                and stop.name == "service"
                and words in f"{stop.seen}, {stop.means}"
                and stop.remedy.startswith("dacha con")
            )


WEB = 'LISTEN 0 1 *:8088 *:* users:(("python3",pid=9,fd=3))'


@pytest.mark.parametrize(
    ("changed", "means", "remedy"),
    [
        ({"listen": "-"}, "its server is not running, or not installed", "systemctl list-unit-files"),
        ({"listen": WEB}, "one of: its server is python3, which listens on 8088; its server is stopped",
         "if it is python3: dacha door edit gauge web --to 8088, then dacha apply"),
        ({"listen": "-", "failed": "web No module named tides"},
         "one of: its server is the service web, which failed (No module named tides); ", "systemctl status"),
        ({"listen": "-", "failed": "cloud-config no locale"}, "its server is not running", "list-unit-files"),
        ({"listen": 'LISTEN 0 1 127.0.0.1:8000 0.0.0.0:* users:(("python3",pid=9,fd=3))'},
         "only the guest itself can connect to it", "every address (0.0.0.0)"),
        ({"listen": 'LISTEN 0 1 127.0.0.1:8088 0.0.0.0:* users:(("python3",pid=9,fd=3))'}, "its server is not", ""),
    ],
)  # fmt: skip
def test_a_service_that_any_program_may_serve_is_not_called_absent(
    changed: dict[str, str], means: str, remedy: str
) -> None:
    """Nor is SSH's server, or one of the system's own services, taken for it."""
    inside = told(unit="-", **changed)
    e = but(KERNEL, service="http", port=8000, door="web", direct=ConnectResult(REFUSED), key=None, login=None)
    stop = broken(judge(but(e, inside=inside, agent=True, agent_runs=True)))
    assert stop and stop.name == "service" and "is installed" not in stop.seen, stop
    assert stop.means.startswith(means) and remedy in stop.remedy, stop


@pytest.mark.parametrize(
    ("heard", "seen", "verdict", "words"),
    [
        (Heard.OTHER, "speaks another protocol: TLS", BROKEN, "it is not a server for http"),
        (Heard.CLOSED, "closes at once", BROKEN, "journalctl _PID=9"),
        (Heard.SERVER_ERROR, "HTTP/1.1 503", ASIDE, "reports an error of its own"),
    ],
)
def test_what_a_web_server_answers_is_told_apart(heard: Heard, seen: str, verdict: str, words: str) -> None:
    inside = told(listen=WEB)
    touch = ConnectResult(OPEN, verdict == ASIDE, seen, heard=heard)
    e = but(KERNEL, service="http", port=8088, door="web", direct=touch, key=None, login=None, agent_runs=True)
    hop = protocol(e._replace(inside=inside))
    assert hop.verdict == verdict and words in f"{hop.means} {hop.remedy}" and "busy" not in hop.means, hop


def test_another_port_is_found_by_what_the_guest_tells() -> None:
    inside = told(listen='LISTEN 0 1 *:2222 *:* users:(("sshd",pid=1,fd=3))')
    assert other_ports(inside, "ssh") == (2222,)
    stop = broken(judge(but(USER, through=accepted(Heard.CLOSED), inside=inside)))
    assert stop and "answers on 2222" in stop.seen and "--to 2222" in stop.remedy


# What the client tells of itself: how far it came.
@pytest.mark.parametrize(
    ("changed", "seen", "command"),
    [
        (
            {"adapter": "eth0 0x1002 02:00:00:00:00:20"},
            "eth0 is down",
            "ip link set eth0 up",
        ),
        ({"inet": "-"}, "has no address", "ip address replace 10.77.4.20/24 dev eth0 && ip route replace default"),
        ({"inet": "2: eth0 inet 10.77.4.77/24 brd"}, "has 10.77.4.77/24", "ip address replace 10.77.4.20/24 dev eth0"),
        ({}, "keep it from answering ARP", ""),
    ],
)
def test_why_nobody_answers_for_its_address(changed: dict[str, str], seen: str, command: str) -> None:
    alone = but(KERNEL,
        direct=ConnectResult(SILENT), through=ConnectResult(SILENT), hardware="02:00:00:00:00:20", prefix=24,
        gateway="10.77.4.1", answered=(), inside=told(**changed), address="10.77.4.20", seen_address=None,
        agent_runs=True,
    )  # fmt: skip
    stop = broken(judge(alone))
    assert stop and stop.name == "neighbour" and seen in f"{stop.seen} {stop.means}"
    assert command in stop.remedy and (not command or stop.remedy.startswith("dacha connect gauge --by agent -- '"))


def test_a_remedy_goes_by_the_way_that_is_open() -> None:
    """By the agent, else by a login, else at the console where somebody can log in; else none is known."""
    refused = but(USER, through=accepted(Heard.CLOSED))
    inside = told(listen="-", unit="ssh inactive")
    for e, words in (
        (
            but(refused, inside=inside, agent_runs=True),
            "dacha connect gauge --by agent -- 'systemctl enable --now ssh'",
        ),
        (but(refused, inside=inside, agent_runs=False), "dacha connect gauge -- 'sudo systemctl enable --now ssh'"),
        *(
            (but(refused, inside=inside._replace(raises=by), agent_runs=False), command)
            for by, command in (
                ("doas", "dacha connect gauge -- 'doas systemctl enable --now ssh'"),
                ("root", "dacha connect gauge -- 'systemctl enable --now ssh'"),
                ("none", "dacha connect gauge, then as root (its user has no sudo): systemctl enable"),
            )
        ),
        (but(refused, console="shell"), "dacha console gauge, then as root: systemctl status"),
        (
            but(refused, console="password"),
            "dacha console gauge (log in with the password), then as root: systemctl",
        ),
        (but(refused, console="nobody"), "no way into gauge is known"),
        (but(refused, console="nobody", agent=True), "dacha connect gauge --by agent -- 'systemctl status"),
    ):
        stop = broken(judge(e))
        assert stop and words in stop.remedy, stop


def test_a_port_that_closes_each_connection_is_not_one_that_nobody_has() -> None:
    """In user mode QEMU accepts every connection: only the guest tells whether a server closed it."""
    closed = but(USER, through=accepted(Heard.CLOSED), agent_runs=True)
    unknown = broken(judge(closed))
    assert unknown and unknown.name == "service" and "one of: no program listens" in unknown.means
    assert "its server refuses this host" in unknown.means
    listening = {"listen": 'LISTEN 0 1 0.0.0.0:22 0.0.0.0:* users:(("sshd",pid=1,fd=3))'}
    for inside, words in (
        (told(**listening), "one of: its server refuses this host (/etc/hosts.deny"),
        (told(**listening, log="refused connect from 10.77.4.1"), "refused connect from 10.77.4.1"),
    ):
        hops = judge(but(closed, inside=inside))
        assert next(h for h in hops if h.name == "service").verdict == FINE
        stop = broken(hops)
        assert stop and stop.name == "protocol" and words in stop.means and "sshd has the port" in stop.seen
        assert stop.remedy.startswith("dacha connect gauge --by agent -- 'journalctl")
    # Where packets go to the guest itself, an accepted connection is no refusal.
    direct = but(KERNEL, direct=accepted(Heard.CLOSED), through=accepted(Heard.CLOSED))
    stop = broken(judge(direct))
    assert stop and stop.name == "protocol" and "refuses this host" in stop.means


def test_words_for_a_guest_that_only_its_agent_enters_name_no_console() -> None:
    said = Advice(words="raise its limit").said("gauge", AGENT)
    assert "console" not in said and "dacha connect gauge --by agent -- COMMAND" in said


def test_a_wrong_gateway_is_named_with_the_right_one() -> None:
    open_ = ConnectResult(OPEN, True, "SSH-2.0-x")
    e = but(KERNEL, direct=open_, through=open_, reply=ConnectResult(SILENT), gateway="10.77.4.1")
    for told_, words in ((None, "its gateway should be 10.77.4.1"), (told(route=""), "it has no default route"),
                         (told(route="63044D0A"), "default gateway is 10.77.4.99")):  # fmt: skip
        stop = broken(judge(but(e, inside=told_, agent_runs=told_ and True)))
        assert stop and stop.name == "reply" and words in f"{stop.seen} {stop.means}"
        # For a cause that is not proved, nothing in the guest is changed.
        changes = stop.remedy.endswith("ip route replace default via 10.77.4.1'")
        assert changes if told_ else stop.remedy.startswith("dacha console gauge, then: ip route;")


def test_a_socket_of_systemd_is_judged_by_the_service_that_it_starts() -> None:
    def by_systemd(starts: str, more: str = "unit ssh active") -> Inside:
        found = read_inside(
            f'starts 22 {starts}\nlisten LISTEN 0 128 *:22 *:* users:(("systemd",pid=1,fd=60))\n{more}\n'
            "told listeners\ntold services\ntold rules\ntold server"
        )
        assert found
        return found

    assert by_systemd("ssh").listeners[0].is_for("ssh") and not by_systemd("cups").listeners[0].is_for("ssh")
    assert other_ports(by_systemd("ssh@7"), "ssh") == (22,) and other_ports(by_systemd("cups"), "ssh") == ()
    failed = why_mute(by_systemd("ssh", "unit ssh failed no hostkeys available"), "ssh", 22)
    assert failed and "its service ssh failed: no hostkeys available" in failed.seen and failed.advice
    healthy = why_mute(by_systemd("ssh"), "ssh", 22)
    assert healthy and not healthy.proved and "systemd, for ssh, has the port" in healthy.seen
    other = why_mute(by_systemd("cups"), "ssh", 22)
    assert other and other.means == "it is not a server for ssh"


def test_a_service_that_may_not_use_this_hosts_address_is_named() -> None:
    silent = but(KERNEL, direct=ConnectResult(SILENT), through=ConnectResult(SILENT), gateway="10.77.4.1")
    for denies, named in (("ssh ::/0 0.0.0.0/0 / ", True), ("ssh 0.0.0.0/0 / 10.77.4.0/24", False),
                          ("ssh 192.0.2.0/24 / ", False), ("ssh nonsense / x", False)):  # fmt: skip
        told_so = why_shut(but(silent, inside=told(denies=denies)))
        assert (told_so is not None and "IPAddressDeny" in told_so.means) is named


def test_what_a_login_waits_for_is_named() -> None:
    shell = f"480 1 /bin/bash -c echo {IN_WORD}"
    for lines, named in (({"running": shell}, None), ({"running": f"{shell}\nrunning 481 480 sleep 600"}, "sleep 600")):
        found = waited_for(told(**lines))
        assert (found.command if found else None) == named
