"""Single values: names, addresses, masks, ports."""

from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Network
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.errors import BadValue
from dacha.core.lab import address_fields, fields
from dacha.core.lab.network import Ports


@given(st.integers(0, 32))
def test_a_mask_and_its_prefix_length_are_the_same(prefix: int) -> None:
    mask = str(IPv4Network((0, prefix)).netmask)
    assert address_fields.prefix_length(mask) == prefix == address_fields.prefix_length(str(prefix))


@pytest.mark.parametrize("wrong", ["33", "255.0.255.0", "0.0.0.255", "x", "", "-1"])
def test_a_mask_with_holes_is_refused(wrong: str) -> None:
    with pytest.raises(BadValue):
        address_fields.prefix_length(wrong)


@pytest.mark.parametrize(
    ("text", "length"), [("10.77.4.20", None), ("10.77.4.20/24", 24), ("10.77.4.20/255.255.255.0", 24)]
)
def test_an_address_is_read_in_each_form(text: str, length: int | None) -> None:
    assert address_fields.interface4(text) == (IPv4Address("10.77.4.20"), length)


def test_a_subnet_with_host_bits_names_the_one_meant() -> None:
    with pytest.raises(BadValue) as refused:
        address_fields.subnet4("10.77.4.20/24")
    assert "10.77.4.0/24" in refused.value.remedy


@pytest.mark.parametrize(
    ("value", "ports"), [(22, Ports(22, 22)), ("22", Ports(22, 22)), ("5000-5010", Ports(5000, 5010))]
)
def test_ports_are_read(value: object, ports: Ports) -> None:
    assert fields.ports(value) == ports


REFUSED: list[tuple[Callable[[object], Any], object, str]] = [
    (fields.ports, 0, "ports are 1 to 65535"),
    (fields.ports, 70000, "ports are 1 to 65535"),
    (fields.ports, "9-3", '"3-9"'),
    (fields.ports, "ssh", "range"),
    (fields.ports, True, "range"),
    (fields.name, "two words", "two-words"),
    (fields.name, "Gauge", "gauge"),
    (fields.name, "-x", "x"),
    (fields.name, "n" * 41, "at most 40"),
    (fields.name, 5, "quotes"),
    (fields.user, "Ops", "lower-case"),
    (address_fields.address4, "10.77.4.256", "0 to 255"),
    (address_fields.address4, "gauge", "0 to 255"),
    (address_fields.address6, "fd77::g", "fd77:4::20"),
    (address_fields.address6, "fd77:4::20%x; flush ruleset", 'write "fd77:4::20"'),
    (address_fields.address, "fe80::1%eth0", 'write "fe80::1"'),
    (address_fields.address, "nowhere", "quotes"),
    (address_fields.subnet4, "10.0.0.0", "prefix length"),
    (address_fields.subnet6, "fd77::1/64", "fd77::/64"),
    (address_fields.interface6, "fd77::1/200", "1 to 128"),
    (address_fields.span4, "10.0.0.9-10.0.0.3", "10.0.0.3-10.0.0.9"),
    (address_fields.span4, "10.0.0.9", "write"),
    (address_fields.hardware_address, "03:00:00:00:00:01", "even"),
    (address_fields.hardware_address, "02:00:00", "six pairs"),
    (fields.flag, "yes", "without quotes"),
    (fields.whole(1, 8), 9, "1 to 8"),
    (fields.whole(1, 8), "2", "without quotes"),
    (fields.choice("nat", "bridge"), "brige", "did you mean bridge"),
    (fields.text, "", "plain text"),
]


@pytest.mark.parametrize(("read", "value", "remedy"), REFUSED)
def test_a_wrong_value_is_refused_with_its_remedy(read: Callable[[object], Any], value: object, remedy: str) -> None:
    with pytest.raises(BadValue) as refused:
        read(value)
    assert remedy in refused.value.remedy


# Digits of other scripts, some of which are none for int(); figures that are longer than it reads; a zone.
FIGURES = st.text("0123456789²٣./-:% dfx", max_size=24) | st.sampled_from(["9" * 5000, "10.77.4.20/²", "fd77::1/²"])


@given(st.none() | st.text(max_size=20) | FIGURES | st.integers() | st.floats() | st.lists(st.integers(), max_size=2))
def test_any_value_is_read_or_refused_and_nothing_else(value: object) -> None:
    for read in {r for r, _, _ in REFUSED}:
        try:
            read(value)
        except BadValue as e:
            assert e.what and isinstance(e.remedy, str), read


def test_our_named_tuples_are_as_those_of_typing() -> None:
    """`core/named.py` makes the classes in another way; what they are and do is the same."""
    import typing

    import dacha.core.named as ours

    def made(base: Any) -> Any:
        text = "class X(base):\n a: int\n b: str = 'x'\n def both(self): return f'{self.a}{self.b}'"
        scope: dict[str, Any] = {"base": base}
        exec(text, scope)
        return scope["X"]

    theirs, own = made(typing.NamedTuple), made(ours.NamedTuple)
    for cls in (theirs, own):
        x = cls(1)
        assert x == (1, "x") == cls(a=1, b="x") and x.both() == "1x" and repr(x) == "X(a=1, b='x')"
        assert x._replace(b="y") == (1, "y") and x._asdict() == {"a": 1, "b": "x"} and cls._make([2, "z"]).a == 2
        assert cls._fields == ("a", "b") == cls.__match_args__ and cls._field_defaults == {"b": "x"}
        assert hash(x) == hash((1, "x")) and x[0] == 1 and [*x] == [1, "x"] and isinstance(x, tuple)
        for wrong in (lambda: cls(), lambda: cls(1, "x", 2), lambda: cls(1, c=2), lambda: cls._make([1])):  # noqa: B023
            with pytest.raises(TypeError):
                wrong()
        with pytest.raises((ValueError, TypeError)):
            x._replace(c=1)
        with pytest.raises(AttributeError):
            x.a = 2
        match x:
            case cls(a=first):
                assert first == 1


@pytest.mark.parametrize(
    "text",
    ["10.77.4.0/24", "10.77.4.0/255.255.255.0", "10.77.4.0 255.255.255.0", "10.77.4.0/0xffffff00", " 10.77.4.0/24 "],
)
def test_a_mask_is_read_in_every_usual_form(text: str) -> None:
    assert str(address_fields.subnet4(text)) == "10.77.4.0/24" and str(address_fields.source(text)) == "10.77.4.0/24"
    address, prefix = address_fields.interface4(text.replace("4.0", "4.20"))
    assert str(address) == "10.77.4.20" and prefix == 24


@pytest.mark.parametrize(
    "text", ["10.77.4.0/", "10.77.4.0/0.0.0.255", "10.77.4.0 255.0.255.0", "10.77.4.0/0xff", "10.77.4.0 x"]
)
def test_what_is_no_mask_is_refused(text: str) -> None:
    with pytest.raises(BadValue):
        address_fields.subnet4(text)
