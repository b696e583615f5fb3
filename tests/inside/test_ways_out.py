"""What a guest's own routes, masks and policy rules do to its replies: asked of a real kernel, in a namespace that is
the guest."""

from __future__ import annotations

import subprocess

import pytest

from dacha.core.trace.seen.inside import Inside, read_inside
from dacha.core.trace.seen.questions import LINKS, Replies, together
from dacha.core.trace.seen.results import ConnectResult
from tests.core.evidence import but
from tests.core.test_inside import told
from tests.core.test_trace import SSH
from tests.core.test_ways_inside import SILENT, SILENT_HERE, stopped

HARDWARE = "02:00:00:00:00:20"
GUEST = f"""
mount -t sysfs sysfs /sys
ip link set lo up
ip link add eth0 address {HARDWARE} type veth peer name wire
ip link set eth0 up; ip link set wire up
ip address add 10.77.4.20/24 dev eth0; ip route add default via 10.77.4.1
ip link add tun type bridge; ip link set tun up
"""
AGAIN = "ip address del 10.77.4.20/24 dev eth0; ip address add 10.77.4.20"
HERE = but(SILENT_HERE, hardware=HARDWARE, lan_address="192.0.2.10")
# Its own network reaches it, and others do not.
BEYOND = but(HERE, direct=SSH, through=SSH, reply=ConnectResult(SILENT))


def guest(change: str) -> Inside:
    """What a guest reports after this change."""
    asked = together([LINKS], "ops", "ssh", 900, Replies("10.77.4.20", ("10.77.4.1", "192.0.2.10")))
    run = ["unshare", "--net", "--mount", "sh", "-e", "-c", f'{GUEST}{change}\nexec sh -c "$0"', asked]
    found = read_inside(subprocess.run(run, check=True, capture_output=True, text=True).stdout)
    assert found and found.link_of(HARDWARE)
    server = told()
    return found._replace(listeners=server.listeners, rules=server.rules, told=found.told | server.told)


@pytest.mark.parametrize(
    ("change", "words", "remedy"),
    [
        ("ip route add 0.0.0.0/1 dev tun; ip route add 128.0.0.0/1 dev tun", "192.0.2.10 is: 128.0.0.0/1 dev tun",
         "ip route del 128.0.0.0/1 dev tun"),
        ("ip address add 192.0.2.77/24 dev tun", "tun has 192.0.2.77/24: it looks for 192.0.2.10 there",
         "give its network on tun other addresses"),
        ("ip address add 10.8.0.2/24 dev tun; ip route add 192.0.2.0/24 dev tun", "leads its replies elsewhere",
         "ip route del 192.0.2.0/24 dev tun"),
        ("ip route add 192.0.2.0/24 dev tun", "leads its replies elsewhere", "ip route del 192.0.2.0/24 dev tun"),
        ("ip rule add from 10.77.4.20 lookup 100; ip route add blackhole default table 100",
         "rule for routes: from 10.77.4.20 lookup 100 its replies to 192.0.2.10 are discarded",
         "ip rule add from 10.77.4.20 lookup main pref 32764"),
        ("ip rule add from 10.77.4.20 lookup 100; ip route add default dev tun table 100", "leave by tun", "32764"),
        ("ip rule add not fwmark 5 lookup 55; ip rule add lookup main suppress_prefixlength 0; "
         "ip route add default dev tun table 55", "not from all fwmark 0x5 lookup 55", "lookup main pref 32763"),
        ("ip rule add to 192.0.2.0/24 prohibit pref 1", "discarded (Permission denied)", "ip rule del pref 1"),
        ("ip route del default", "it has no default route", "ip route replace default via 10.77.4.1"),
        ("ip rule add from 10.77.4.20 lookup 100; ip route add default via 10.77.4.1 table 100",
         "one of: a rule of its firewall drops its replies; another program", "nft list ruleset"),
        ("true", "one of: a rule of its firewall drops its replies; another program", "nft list ruleset"),
    ],
)  # fmt: skip
def test_a_guest_that_answers_its_own_network_only(change: str, words: str, remedy: str) -> None:
    said = stopped(BEYOND, guest(change))
    assert said.startswith("reply broken") and words in said and remedy in said, said


@pytest.mark.parametrize(
    ("change", "words", "remedy"),
    [
        (f"{AGAIN}/32 dev eth0", "its link eth0 has 10.77.4.20/32", "ip address replace 10.77.4.20/24 dev eth0"),
        ("ip rule add from 10.77.4.20 lookup 100; ip route add unreachable default table 100",
         "its replies to 10.77.4.1 are discarded (No route to host)", "lookup main pref 32764"),
        ("true", "one of: its replies do not arrive", "ip route; ip neighbour; nft list ruleset"),
    ],
)  # fmt: skip
def test_a_guest_that_does_not_answer(change: str, words: str, remedy: str) -> None:
    said = stopped(HERE, guest(change))
    assert said.startswith("service broken") and words in said and remedy in said, said


@pytest.mark.parametrize(
    "change",
    [
        f"ip link set tun address {HARDWARE}; ip link set eth0 master tun; {AGAIN}/24 dev tun",
        "ip link add abc address 02:00:00:00:00:21 type bridge; ip link set abc address 02:00:00:00:00:20",
    ],
)
def test_the_link_of_an_adapter_is_the_one_with_its_address(change: str) -> None:
    link = guest(change).link_of(HARDWARE)
    assert link and link.addresses == ("10.77.4.20/24",)
