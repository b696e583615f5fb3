"""What rules of other programs do to a planned door."""

from __future__ import annotations

from dacha.core.lab.table.read import read_lab
from dacha.core.network.firewall.iptables import entries
from dacha.core.network.firewall.walk import Rules
from dacha.core.plan.plan import make_plan
from dacha.core.trace.seen.results import Dropped
from dacha.engine.network.others import dropped, dropped_here

LAB = """[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
[network.hut]
kind = "nat"
[guest.gauge]
disk = [{ size = "1 GiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "lan", port = 2220 }
[guest.desk]
disk = [{ size = "1 GiB" }]
adapter = [{ network = "hut" }]
door.ssh = { from = "host", port = 2230 }
"""


def told(guest: str, *lines: str, asker: str | None = None) -> Dropped | None:
    """What drops a client's connection to a guest's door, by these rules of iptables."""
    lab = read_lab(LAB).lab
    assert lab
    saved = "\n".join(("*filter", ":INPUT ACCEPT [0:0]", ":FORWARD ACCEPT [0:0]", *lines, "COMMIT"))
    door = make_plan(lab).doors[guest, "ssh"]
    rules, lan = Rules({"nftables": list(entries(saved, "ip"))}), door.door.from_lan
    return dropped(lab, door, rules, from_lan=lan, asker=asker, lan="192.0.2.10")


def test_the_firewall_is_opened_only_where_that_helps() -> None:
    all_of_it = told("gauge", "-A FORWARD -d 10.77.4.20/32 -j DROP", asker="192.0.2.20")
    assert all_of_it and all_of_it.openable and all_of_it.what == "rule 1 in chain FORWARD of iptables"
    # A rule for every client would not be the one that keeps this client out.
    one = told("gauge", "-A FORWARD -s 192.0.2.20/32 -j DROP", asker="192.0.2.20")
    assert one and not one.openable and told("gauge", "-A FORWARD -s 192.0.2.20/32 -j DROP") is None
    back = told("gauge", "-A FORWARD -s 10.77.4.20/32 -j DROP")
    assert back and back.back and not back.openable


def test_a_door_from_this_host_passes_the_loopback_only() -> None:
    assert told("desk", "-A FORWARD -j DROP", "-A INPUT -i eth0 -j DROP") is None
    found = told("desk", "-A INPUT -i lo -p tcp -m tcp --dport 2230 -j DROP")
    assert found and not found.openable and told("desk", "-A INPUT -i lo -p tcp -m tcp --dport 2231 -j DROP") is None


def test_this_host_asks_a_guest_by_another_way_than_its_clients() -> None:
    lab = read_lab(LAB).lab
    assert lab
    saved = "*filter\n:OUTPUT ACCEPT [0:0]\n-A OUTPUT -d 10.77.4.20/32 -j DROP\nCOMMIT\n"
    rules, door = Rules({"nftables": list(entries(saved, "ip"))}), make_plan(lab).doors["gauge", "ssh"]
    found = dropped_here(lab, door, rules, None)
    assert found and found.what == "rule 1 in chain OUTPUT of iptables"
    assert dropped(lab, door, rules, from_lan=True, asker=None, lan="192.0.2.10") is None
