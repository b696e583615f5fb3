"""DNS: the lab's names, answers of others kept, and whatever bytes come."""

from __future__ import annotations

from ipaddress import ip_address, ip_network

import dns.flags
import dns.message
import dns.rcode
import dns.rrset
import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.wire.dns.cache import Cache
from dacha.wire.dns.zone import PLAIN_MOST, Zone, failure

NAMES = {
    "gauge": ["10.77.4.20", "fd77:4::20"],
    "charts": ["10.77.4.21"],
    "many": [f"10.77.4.{n}" for n in range(30, 90)],
}
ZONE = Zone(
    "real.internal",
    {name: [ip_address(a) for a in addresses] for name, addresses in NAMES.items()},
    [ip_network("10.77.4.0/24"), ip_network("fd77:4::/64")],
)


def ask(name: str, kind: str, *, udp: bool = True, **options: object) -> dns.message.Message | None:
    query = dns.message.make_query(name, kind, **options)  # type: ignore[arg-type]
    wire = ZONE.answer(query.to_wire(), udp=udp)
    if wire is None:
        return None
    answer = dns.message.from_wire(wire)
    assert query.is_response(answer)
    return answer


@pytest.mark.parametrize(
    ("name", "kind", "texts"),
    [
        ("gauge.real.internal", "A", ["10.77.4.20"]),
        ("GAUGE.Real.internal", "AAAA", ["fd77:4::20"]),
        ("gauge.real.internal", "ANY", ["10.77.4.20", "fd77:4::20"]),
        ("20.4.77.10.in-addr.arpa", "PTR", ["gauge.real.internal."]),
        (ip_address("fd77:4::20").reverse_pointer, "PTR", ["gauge.real.internal."]),
    ],
)
def test_names_forward_and_reverse(name: str, kind: str, texts: list[str]) -> None:
    for _ in range(2):  # asked for again, it comes from memory
        answer = ask(name, kind)
        assert answer and answer.flags & dns.flags.AA
        assert sorted(r.to_text() for rrset in answer.answer for r in rrset) == texts


def test_what_there_is_not_is_said_with_the_zones_soa() -> None:
    for name, kind, code in (
        ("nobody.real.internal", "A", dns.rcode.NXDOMAIN),
        ("charts.real.internal", "AAAA", dns.rcode.NOERROR),
        ("99.4.77.10.in-addr.arpa", "PTR", dns.rcode.NXDOMAIN),
    ):
        answer = ask(name, kind)
        assert answer and answer.rcode() == code and not answer.answer
        assert answer.authority[0].to_text().startswith("real.internal. 60 IN SOA")


def test_other_names_are_other_servers() -> None:
    for name in ("www.example.org", "1.2.0.192.in-addr.arpa", "internal", "x.in-addr.arpa", "20.4.77.11.in-addr.arpa"):
        assert ask(name, "A") is None


def test_too_much_for_udp_is_cut_and_whole_over_tcp() -> None:
    short = ask("many.real.internal", "A")
    assert short and short.flags & dns.flags.TC and not short.answer and len(short.to_wire()) <= PLAIN_MOST
    roomy = ask("many.real.internal", "A", use_edns=0, payload=4096)
    assert roomy and not roomy.flags & dns.flags.TC and len(roomy.answer[0]) == 60
    whole = ask("many.real.internal", "A", udp=False)
    assert whole and len(whole.answer[0]) == 60


def test_responses_are_never_answered_and_the_unreadable_is_said_so() -> None:
    query = dns.message.make_query("gauge.real.internal", "A")
    assert ZONE.answer(dns.message.make_response(query).to_wire()) == b""
    assert ZONE.answer(b"\0" * 11) == b""
    wrong = ZONE.answer(query.to_wire()[:-3])
    assert wrong and dns.message.from_wire(wrong).rcode() == dns.rcode.FORMERR


@given(st.binary(max_size=200), st.booleans())
def test_any_bytes_get_an_answer_or_none(data: bytes, udp: bool) -> None:
    query = dns.message.make_query("gauge.real.internal", "A", use_edns=0).to_wire()
    for packet in (data, query[:12] + data, query + data):
        answer = ZONE.answer(packet, udp=udp)
        assert answer is None or answer == b"" or answer[:2] == packet[:2]
        Cache().find(packet, 0.0, udp=udp)
        Cache().keep(query, packet, 0.0)
        failure(packet)


def test_answers_of_others_are_kept_for_their_time_and_counted_down() -> None:
    cache = Cache()
    query = dns.message.make_query("www.example.org", "A")
    answer = dns.message.make_response(query)
    answer.answer.append(dns.rrset.from_text("www.example.org.", 30, "IN", "A", "192.0.2.80"))
    cache.keep(query.to_wire(), answer.to_wire(), 100.0)
    again = dns.message.make_query("WWW.example.org", "A")
    found = cache.find(again.to_wire(), 110.0, udp=True)
    assert found is not None
    assert dns.message.from_wire(found).id == again.id and dns.message.from_wire(found).answer[0].ttl == 20
    assert cache.find(again.to_wire(), 131.0, udp=True) is None and len(cache) == 0
    # That there is nothing is kept as long as the zone says, and not at all when it does not.
    nothing = dns.message.make_response(query)
    nothing.set_rcode(dns.rcode.NXDOMAIN)
    cache.keep(query.to_wire(), nothing.to_wire(), 0.0)
    assert len(cache) == 0
    nothing.authority.append(dns.rrset.from_text("example.org.", 900, "IN", "SOA", "a. b. 1 2 3 4 25"))
    cache.keep(query.to_wire(), nothing.to_wire(), 0.0)
    assert cache.find(query.to_wire(), 24.0, udp=True) and not cache.find(query.to_wire(), 26.0, udp=True)
    # So it is where a name leads to one that has nothing of the kind (RFC 2308 section 2.1).
    led = dns.message.make_response(query)
    led.answer.append(dns.rrset.from_text("www.example.org.", 3600, "IN", "CNAME", "web.example.org."))
    cache.keep(query.to_wire(), led.to_wire(), 100.0)
    assert cache.find(query.to_wire(), 101.0, udp=True) is None
    led.authority.append(dns.rrset.from_text("example.org.", 900, "IN", "SOA", "a. b. 1 2 3 4 5"))
    cache.keep(query.to_wire(), led.to_wire(), 100.0)
    assert cache.find(query.to_wire(), 104.0, udp=True) and not cache.find(query.to_wire(), 106.0, udp=True)
    # A failure, or the answer to another question, is not kept.
    other = dns.message.make_response(dns.message.make_query("example.net", "A"))
    cache.keep(query.to_wire(), other.to_wire(), 0.0)
    assert len(cache) == 0


def test_an_unknown_version_of_edns_is_told_which_is_known() -> None:
    """RFC 6891 section 6.1.3."""
    query = dns.message.make_query("gauge.real.internal", "A", use_edns=1)
    wire = ZONE.answer(query.to_wire())
    assert wire and dns.message.from_wire(wire).rcode() == dns.rcode.BADVERS and dns.message.from_wire(wire).edns == 0


def test_a_guest_on_two_networks_is_told_by_the_address_that_the_asker_reaches() -> None:
    names = {"gauge": ["10.77.4.20", "10.77.9.20", "fd77:4::20"], "far": ["10.77.8.9"]}
    zone = Zone("real.internal", {n: [ip_address(a) for a in has] for n, has in names.items()}, [])

    def told(seen: Zone, name: str, kind: str) -> list[str]:
        wire = seen.answer(dns.message.make_query(f"{name}.real.internal", kind).to_wire())
        assert wire
        return sorted(r.to_text() for rrset in dns.message.from_wire(wire).answer for r in rrset)

    near = zone.seen_from([ip_network("10.77.9.0/24")])
    assert told(zone, "gauge", "A") == ["10.77.4.20", "10.77.9.20"] and told(near, "gauge", "A") == ["10.77.9.20"]
    assert told(near, "gauge", "AAAA") == ["fd77:4::20"] and told(near, "far", "A") == ["10.77.8.9"]
    assert told(zone, "gauge", "A") == ["10.77.4.20", "10.77.9.20"]
