"""Which rule drops a new connection: only what is certain is said."""

from __future__ import annotations

import json
import subprocess
from typing import Any

import pytest

from dacha.core.network.firewall import Packet, dropped_by, led_by

RULES = """\
table inet fw {
  set bad { type ipv4_addr; }
  chain f {
    type filter hook forward priority 0; policy drop;
    ct state established,related accept
    iifname "wg0" accept
    ip daddr 10.0.0.0/8 tcp dport { 22, 80-90 } counter accept
    udp dport 53 limit rate 5/second accept
    jump more
  }
  chain more {
    ip saddr @bad drop
    oifname "x*" meta l4proto tcp reject
    ip saddr 192.0.2.99 return
    ip6 daddr fd77:4::/64 accept
  }
  chain i {
    type filter hook input priority 0;
    tcp dport 2210 drop
  }
}
table ip other {
  chain early {
    type nat hook prerouting priority -150;
    iifname "eth0" tcp dport 2220 dnat to 192.0.2.1:9
    ip saddr @bad tcp dport 2221 redirect to :9
  }
  set bad { type ipv4_addr; }
  chain late { type nat hook prerouting priority 0; tcp dport 2222 redirect to :9; }
}
table inet dacha_real {
  chain f { type filter hook forward priority 0; policy drop; }
}
"""


@pytest.fixture(scope="module")
def listing() -> Any:
    """The rules as this machine's own nft lists them, in a network namespace of their own."""
    command = ["unshare", "-n", "sh", "-c", "nft -f - && nft -j list ruleset"]
    done = subprocess.run(command, input=RULES, capture_output=True, text=True, check=True)
    return json.loads(done.stdout)


def packet(port: int = 22, to: str = "10.77.4.20", **others: Any) -> Packet:
    version = 6 if ":" in to else 4
    made = Packet(version, "eth0", "br", "2001:db8::1" if version == 6 else "192.0.2.20", to, "tcp", port, True)
    return made._replace(**others)


@pytest.mark.parametrize(
    ("asked", "what"),
    [
        (packet(), None),
        (packet(85), None),
        (packet(23), "its policy in chain f"),
        (packet(23, iifname="wg0"), None),
        (packet(23, oifname="x1"), "the rule with handle"),
        (packet(23, saddr="192.0.2.99", oifname="y"), "its policy in chain f"),
        (packet(23, "fd77:4::20"), None),
        (packet(23, "fd77:5::20"), "its policy in chain f"),
        # Whether the limit is used up cannot be told from here, so nothing is said.
        (packet(53, protocol="udp"), None),
    ],
)
def test_what_drops_a_packet_that_is_led_on(listing: Any, asked: Packet, what: str | None) -> None:
    found = dropped_by(listing, "forward", asked, "dacha_")
    assert (found is None) == (what is None), found
    if what:
        assert str(found).startswith(what)


def test_what_drops_a_packet_for_this_host(listing: Any) -> None:
    found = dropped_by(listing, "input", packet(2210, "192.0.2.10"), "dacha_")
    assert found is not None and found.shown_by() == "nft -a list chain inet fw i"
    assert dropped_by(listing, "input", packet(2211, "192.0.2.10"), "dacha_") is None
    assert dropped_by(listing, "output", packet(), "dacha_") is None


@pytest.mark.parametrize(
    ("asked", "chain"),
    [
        (packet(2220), "early"),
        (packet(2220, iifname="eth1"), None),
        (packet(2221), None),
        (packet(2222), None),
        (packet(2220, "2001:db8::10"), None),
    ],
)
def test_what_leads_it_elsewhere_before_us(listing: Any, asked: Packet, chain: str | None) -> None:
    found = led_by(listing, "prerouting", asked, "dacha_", -100)
    assert (found.chain if found else None) == chain
