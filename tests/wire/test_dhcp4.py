"""DHCP: the codec on recorded messages and on anything, the server's states in simulated time."""

from __future__ import annotations

import contextlib
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import PeerError
from dacha.wire.dhcp.dhcp4 import BROADCAST_FLAG, Kind, Message, Option, decode, encode, encode_routes
from dacha.wire.dhcp.dhcp4_lease import Action, BootFiles, Full, Keep, Lease, Probe, Reply, Reservation, Scope, Wait
from dacha.wire.dhcp.dhcp4_server import Server

GAUGE, STRANGER, THIRD = (bytes.fromhex(f"0200000000{n}") for n in ("20", "99", "98"))
# What busybox's client sends to begin with, as recorded on the wire: DISCOVER with its wishes.
RECORDED = bytes.fromhex(Path(__file__).with_name("dhcp4_discover.hex").read_text())
SCOPE = Scope(
    subnet=IPv4Network("10.77.4.0/24"),
    server=IPv4Address("10.77.4.1"),
    router=IPv4Address("10.77.4.1"),
    name_servers=(IPv4Address("10.77.4.2"),),
    domain="real.internal",
    reservations={GAUGE: Reservation(GAUGE, IPv4Address("10.77.4.20"), "gauge")},
    dynamic=(IPv4Address("10.77.4.100"), IPv4Address("10.77.4.102")),
)


def said(kind: Kind, hardware: bytes = GAUGE, **fields: object) -> Message:
    options = {Option.KIND: bytes((kind,))} | dict(fields.pop("options", {}))  # type: ignore[call-overload]
    return Message(1, 7, hardware, options)._replace(**fields)  # type: ignore[arg-type]


def replies(actions: list[Action]) -> list[tuple[Kind, str]]:
    return [(Kind(a.message.kind), str(IPv4Address(a.message.yiaddr))) for a in actions if isinstance(a, Reply)]


def take(server: Server, hardware: bytes, now: float = 0.0) -> IPv4Address:
    """The whole exchange, as a client goes through it."""
    actions = server.receive(said(Kind.DISCOVER, hardware), now)
    for probe in [a for a in actions if isinstance(a, Probe)]:
        actions = server.probed(probe, False, now)
    offer = next(a for a in actions if isinstance(a, Reply)).message
    options = {Option.REQUESTED_ADDRESS: offer.yiaddr, Option.SERVER: offer.options[Option.SERVER]}
    actions = server.receive(said(Kind.REQUEST, hardware, options=options), now)
    assert isinstance(actions[0], Keep), "a lease is kept before its client is told"
    assert replies(actions)[0][0] is Kind.ACK
    return IPv4Address(offer.yiaddr)


def test_a_message_is_the_same_after_reading_and_writing() -> None:
    assert encode(decode(RECORDED)) == RECORDED
    assert decode(RECORDED).kind == Kind.DISCOVER and decode(RECORDED).client == b"\1" + GAUGE


def test_a_message_cut_anywhere_is_refused_with_the_place_or_read() -> None:
    for length in range(len(RECORDED)):
        try:
            decode(RECORDED[:length])
        except PeerError as e:
            assert "truncated" in e.what or "cookie" in e.what
    assert decode(RECORDED + b"junk") == decode(RECORDED)
    with pytest.raises(PeerError, match="op at 0 is 9"):
        decode(b"\x09" + RECORDED[1:])
    with pytest.raises(PeerError, match="hlen at 2"):
        decode(RECORDED[:2] + b"\x20" + RECORDED[3:])


@given(st.binary(max_size=400))
def test_any_bytes_are_read_or_refused(data: bytes) -> None:
    for packet in (data, RECORDED[:240] + data):
        with contextlib.suppress(PeerError):
            assert decode(encode(decode(packet))).options.keys() == decode(packet).options.keys()


@given(st.dictionaries(st.integers(1, 254).filter(lambda n: n != 52), st.binary(max_size=600), max_size=6))
def test_options_survive_also_long_ones(options: dict[int, bytes]) -> None:
    message = Message(2, 1, GAUGE, options)
    assert decode(encode(message)) == message


def test_options_go_on_in_the_fields_of_names() -> None:
    overloaded = encode(
        Message(1, 1, GAUGE, {52: b"\3"}, file=bytes((12, 3)) + b"abc\xff", sname=bytes((15, 1)) + b"x\xff")
    )
    assert decode(overloaded).options == {52: b"\3", 12: b"abc", 15: b"x"}


def test_routes_are_written_as_short_as_they_are() -> None:
    routes = [
        (IPv4Network("0.0.0.0/0"), IPv4Address("10.0.0.1")),
        (IPv4Network("10.17.0.0/16"), IPv4Address("10.0.0.2")),
    ]
    assert encode_routes(routes).hex() == "000a000001" + "100a11" + "0a000002"  # RFC 3442's own examples


def test_a_reserved_guest_always_gets_its_address() -> None:
    server = Server(SCOPE)
    assert take(server, GAUGE) == IPv4Address("10.77.4.20")
    ack = server.receive(said(Kind.REQUEST, ciaddr=IPv4Address("10.77.4.20").packed), 10.0)
    reply = next(a for a in ack if isinstance(a, Reply))
    assert (reply.address, reply.port, reply.direct) == (IPv4Address("10.77.4.20"), 68, False)  # RENEWING: to itself
    options = reply.message.options
    assert options[Option.ROUTER] == IPv4Address("10.77.4.1").packed and options[Option.DOMAIN_NAME] == b"real.internal"
    assert options[Option.HOST_NAME] == b"gauge"
    # INIT-REBOOT with another address than its own, or with one of another network, is refused.
    for wrong in ("10.77.4.21", "192.0.2.9"):
        actions = server.receive(
            said(Kind.REQUEST, options={Option.REQUESTED_ADDRESS: IPv4Address(wrong).packed}), 11.0
        )
        assert replies(actions) == [(Kind.NAK, "0.0.0.0")]
        assert isinstance(actions[0], Reply) and str(actions[0].address) == "255.255.255.255"


def test_where_an_answer_goes() -> None:
    server = Server(SCOPE)

    def way(**fields: object) -> tuple[str, int, bool]:
        reply = server.receive(said(Kind.DISCOVER, **fields), 0.0)[-1]
        assert isinstance(reply, Reply)
        return str(reply.address), reply.port, reply.direct

    assert way() == ("10.77.4.20", 68, True)
    assert way(flags=BROADCAST_FLAG) == ("255.255.255.255", 68, False)
    relay = IPv4Address("10.77.4.9").packed
    assert way(giaddr=relay, options={Option.RELAY_INFORMATION: b"x"}) == ("10.77.4.9", 67, False)


def test_a_stranger_gets_a_dynamic_address_that_nobody_answers_for_and_keeps_it() -> None:
    server = Server(SCOPE)
    probe = server.receive(said(Kind.DISCOVER, STRANGER), 0.0)[-1]
    assert isinstance(probe, Probe)
    actions = server.probed(probe, True, 0.0)  # somebody answers: it is left alone, and the next is tried
    assert isinstance(actions[0], Keep) and actions[0].lease.state == "declined"
    assert isinstance(actions[-1], Probe) and actions[-1].address == probe.address + 1
    # Who asks again meanwhile is offered nothing before it is known that nobody has it (RFC 2131 section 3.1).
    assert server.receive(said(Kind.DISCOVER, STRANGER), 1.0) == [Wait()]
    assert replies(server.probed(actions[-1], False, 1.5)) == [(Kind.OFFER, str(probe.address + 1))]
    assert take(server, STRANGER) == probe.address + 1
    again = Server(SCOPE, server.leases)  # after a restart
    assert take(again, STRANGER, 10.0) == probe.address + 1
    # Given back, it stays with its client while nobody else needs it.
    assert isinstance(again.receive(said(Kind.RELEASE, STRANGER, ciaddr=(probe.address + 1).packed), 20.0)[0], Keep)
    assert take(again, THIRD, 30.0) == probe.address + 2
    assert take(again, STRANGER, 40.0) == probe.address + 1


@pytest.mark.parametrize("jump", [-3e7, 3e7])
def test_a_clock_that_jumps_by_a_year_takes_nobodys_address(jump: float) -> None:
    server, now = Server(SCOPE), 1e9
    mine = take(server, STRANGER, now)
    assert take(server, GAUGE, now) == SCOPE.reservations[GAUGE].address
    now += jump
    for who in (STRANGER, GAUGE):
        before = server.leases[mine].address if who == STRANGER else SCOPE.reservations[GAUGE].address
        assert take(server, who, now) == before
    # Whoever comes now gets another, and both keep theirs when the clock is put right.
    other = take(server, THIRD, now)
    assert other != mine and take(server, STRANGER, now - jump) == mine and take(server, THIRD, now - jump) == other


def test_an_address_is_never_given_twice_and_a_full_range_is_silent() -> None:
    server = Server(SCOPE)
    clients = [bytes.fromhex(f"02aa000000{n:02x}") for n in range(5)]
    given = [take(server, c) for c in clients[:3]]
    assert len(set(given)) == 3
    assert server.receive(said(Kind.DISCOVER, clients[3]), 1.0) == [Full()]
    # Expired, the one that is free the longest goes to the next.
    server.receive(said(Kind.REQUEST, clients[0], ciaddr=given[0].packed), 3000.0)
    assert take(server, clients[3], 3700.0) in given[1:]
    # A client of another server, or of none here, is left alone; one that chose another server frees its offer.
    assert server.receive(said(Kind.REQUEST, clients[4], options={50: given[0].packed}), 3701.0) == []
    other = {Option.SERVER: b"\x0a\x4d\x04\x63", Option.REQUESTED_ADDRESS: given[0].packed}
    assert server.receive(said(Kind.REQUEST, clients[4], options=other), 3701.0) == []


def test_leases_of_a_clock_that_was_years_ahead_end_in_time() -> None:
    first = IPv4Address("10.77.4.100")
    old = {first + n: Lease(first + n, b"", bytes((2, 0, 0, 0, 9, n)), 2e9, "bound") for n in range(3)}
    server = Server(SCOPE, old)
    assert server.receive(said(Kind.DISCOVER, STRANGER), 1e9) == [Full()]
    assert take(server, STRANGER, 1e9 + 3601) in old
    # So they do when the clock is put right while it serves.
    ahead = Server(SCOPE)
    for n in range(3):
        take(ahead, bytes((2, 0, 0, 0, 9, n)), 2e9)
    assert ahead.receive(said(Kind.DISCOVER, STRANGER), 1e9) == [Full()]
    assert take(ahead, STRANGER, 1e9 + 3601) in ahead.leases


def test_after_renumbering_a_machine_with_many_old_leases_gets_a_new_one() -> None:
    old = {a: Lease(a, bytes((n,)), STRANGER, 5000.0, "bound") for n, a in enumerate(map(IPv4Address, range(7, 12)))}
    assert take(Server(SCOPE, old), STRANGER, 10.0) in (IPv4Address("10.77.4.100") + n for n in range(3))


def test_a_client_knows_its_answer_by_the_identifier_that_it_sent() -> None:
    """RFC 6842 section 3: in offers, acknowledgements and refusals alike."""
    asked = {Option.CLIENT: b"\1tide"}
    (offer,) = Server(SCOPE).receive(said(Kind.DISCOVER, GAUGE, options=asked), 0.0)
    assert isinstance(offer, Reply) and offer.message.options[Option.CLIENT] == b"\1tide"
    wrong = asked | {Option.REQUESTED_ADDRESS: IPv4Address("10.77.4.99").packed, Option.SERVER: SCOPE.server.packed}
    (nak,) = Server(SCOPE).receive(said(Kind.REQUEST, GAUGE, options=wrong), 0.0)
    assert isinstance(nak, Reply) and nak.message.kind == Kind.NAK and nak.message.options[Option.CLIENT] == b"\1tide"


def test_inform_and_decline() -> None:
    server = Server(SCOPE)
    reply = server.receive(said(Kind.INFORM, STRANGER, ciaddr=IPv4Address("10.77.4.50").packed), 0.0)[0]
    assert isinstance(reply, Reply) and Option.LEASE_TIME not in reply.message.options
    assert reply.message.yiaddr == b"\0\0\0\0" and Option.NAME_SERVER in reply.message.options
    had = take(server, STRANGER)
    options = {Option.REQUESTED_ADDRESS: had.packed, Option.SERVER: SCOPE.server.packed}
    kept = server.receive(said(Kind.DECLINE, STRANGER, options=options), 1.0)[0]
    assert isinstance(kept, Keep) and kept.lease.state == "declined"
    assert take(server, STRANGER, 2.0) != had


@given(st.lists(st.tuples(st.integers(0, 8), st.integers(0, 6), st.integers(90, 105), st.floats(0, 9000)), max_size=60))
def test_whatever_clients_say_no_address_has_two_of_them(steps: list[tuple[int, int, int, float]]) -> None:
    server = Server(SCOPE)
    now = 0.0
    told: dict[str, tuple[bytes, float]] = {}
    for kind, who, last, wait in steps:
        now += wait
        hardware = bytes.fromhex(f"02bb000000{who:02x}") if who else GAUGE
        address = IPv4Address(f"10.77.4.{last}").packed
        for shape in (
            {},
            {"ciaddr": address},
            {"options": {50: address}},
            {"options": {50: address, 54: SCOPE.server.packed}},
        ):
            message = said(Kind.DISCOVER, hardware, **shape)  # type: ignore[arg-type]
            message.options[Option.KIND] = bytes((kind,))
            actions = server.receive(message, now)
            for probe in [a for a in actions if isinstance(a, Probe)]:
                actions = actions + server.probed(probe, last % 2 == 0, now)
            for kind_told, place in replies(actions):
                if kind_told is Kind.ACK and place != "0.0.0.0":
                    owner, until = told.get(place, (hardware, 0.0))
                    assert owner == hardware or until <= now, f"{place} is {owner.hex()}'s until {until}"
                    told[place] = (hardware, now + SCOPE.lease_s)
            if kind == Kind.RELEASE and "ciaddr" in shape:
                owner, _ = told.get(str(IPv4Address(address)), (b"", 0.0))
                if owner == hardware:
                    del told[str(IPv4Address(address))]
    assert len(server.leases) <= 4


def test_who_starts_from_the_network_is_told_the_first_file_for_its_firmware() -> None:
    server = Server(SCOPE._replace(boot=BootFiles("core.0", "core.efi")))

    def told(kind: Kind = Kind.DISCOVER, **options: bytes) -> Message:
        by_name = {Option[name]: value for name, value in options.items()}
        request = {Option.REQUESTED_ADDRESS: IPv4Address("10.77.4.20").packed} if kind is Kind.REQUEST else {}
        (answer,) = [a for a in server.receive(said(kind, options=by_name | request), 0.0) if isinstance(a, Reply)]
        return decode(encode(answer.message))

    for kind in (Kind.DISCOVER, Kind.REQUEST):
        for architecture, file in ((0, b"core.0"), (7, b"core.efi"), (9, b"core.efi"), (11, b"")):
            answer = told(kind, ARCHITECTURE=architecture.to_bytes(2, "big"))
            assert (answer.file, answer.options.get(Option.BOOT_FILE, b"")) == (file, file), architecture
            assert answer.options.get(Option.TFTP_SERVER, b"") == (b"10.77.4.1" if file else b"")
            assert answer.siaddr == SCOPE.server.packed
    # UEFI that starts by HTTP is told a place, in an answer that says so, and nothing of TFTP.
    by_http = told(kind, ARCHITECTURE=b"\0\x10", CLASS=b"HTTPClient:Arch:00016:UNDI:003001")
    assert by_http.options[Option.BOOT_FILE] == b"http://10.77.4.1/core.efi"
    assert by_http.options[Option.CLASS] == b"HTTPClient" and Option.TFTP_SERVER not in by_http.options
    assert by_http.file == b""
    assert told(CLASS=b"PXEClient:Arch:00000").file == b"core.0", "one that names its kind in no other way"
    assert told().file == b"" and Option.BOOT_FILE not in told().options, "a system that is up needs none"
    bare = Server(SCOPE._replace(boot=BootFiles(None, "x" * 200)))
    (offer,) = bare.receive(said(Kind.DISCOVER, options={Option.ARCHITECTURE: b"\0\7"}), 0.0)
    assert (
        isinstance(offer, Reply) and offer.message.file == b"" and len(offer.message.options[Option.BOOT_FILE]) == 200
    )
