"""Where an address lies, and whether a guest can have it."""

from ipaddress import IPv4Address, IPv4Network

import pytest

from dacha.core.lab.table.read import read_lab
from dacha.core.plan.place import judge_address
from dacha.core.plan.plan import make_plan

LAB = """\
[lab]
name = "saltmarsh"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
dynamic = "10.77.4.100-10.77.4.199"
machine.buoy = { hardware-address = "02:00:00:00:00:09", address = "10.77.4.9" }
[guest.gauge]
adapter = [{ network = "pier", address = "10.77.4.20" }]
"""


@pytest.mark.parametrize(
    ("address", "prefix", "free", "words"),
    [
        ("10.77.4.21", None, True, "in network pier (10.77.4.0/24), free"),
        ("10.77.4.21", 24, True, "free"),
        ("10.77.4.21", 16, False, "/16 differs from the network's prefix length /24"),
        ("10.77.4.20", None, False, "used by guest gauge"),
        ("10.77.4.9", None, False, "used by machine buoy"),
        ("10.77.4.1", None, False, "the gateway of network pier"),
        ("10.77.4.2", None, False, "the name server of network pier"),
        ("10.77.4.255", None, False, "the broadcast address"),
        ("10.77.4.150", None, False, "in the dynamic range"),
        ("192.0.2.7", None, False, "not in a network of this lab, but in 192.0.2.0/24, which this host uses"),
        ("10.78.0.1", None, False, "not in a network of this lab"),
    ],
)
def test_an_address_is_judged(address: str, prefix: int | None, free: bool, words: str) -> None:
    lab = read_lab(LAB).lab
    assert lab is not None
    found = judge_address(lab, make_plan(lab), IPv4Address(address), prefix, [IPv4Network("192.0.2.0/24")])
    assert found.free == free and words in found.what and (free or found.remedy)
