"""Reading lab.toml: what is understood, and what is said about what is not."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.lab.network import Ports
from dacha.core.lab.table.read import read_lab
from dacha.core.lab.text.layout import Places
from tests.strategies import lab_texts

EXAMPLE = """\
[lab]
name = "saltmarsh"

[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"

[guest.gauge]
system = "debian"
cpus = 2
memory = "1 GiB"
start = { at-boot = true, order = 1, delay = "5 s" }
disk = [{ from = "debian-12", size = "8 GiB" }, { size = "1 GiB", bus = "sata", allocation = "full" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
login = { user = "ops", keys = ["~/.ssh/id_ed25519.pub"] }
door.ssh = { from = "lan", port = 2220 }
door.charts = { service = "http", from = "host", port = 8080, to = 80 }
door.video = { from = "host", protocol = "udp", to = "5000-5003" }
"""


def test_the_whole_example_is_understood() -> None:
    reading = read_lab(EXAMPLE)
    assert reading.findings == [] and reading.lab is not None
    gauge = reading.lab.guests["gauge"]
    assert (gauge.cpus, gauge.memory, gauge.start.order, gauge.start.delay_s) == (2, 1 << 30, 1, 5.0)
    assert [(d.base, d.size, d.bus, d.full) for d in gauge.disks] == [
        ("debian-12", 8 << 30, "virtio", False),
        (None, 1 << 30, "sata", True),
    ]
    ssh, charts, video = gauge.doors
    assert (ssh.service, ssh.to, ssh.port, ssh.origin) == ("ssh", Ports(22, 22), Ports(2220, 2220), "lan")
    assert (charts.service, charts.to) == ("http", Ports(80, 80))
    assert (video.service, video.protocol, video.to.width, video.port) == (None, "udp", 4, None)


# Each case: a line of the example, what it is replaced by, then what is said: line, words, remedy.
WRONG = [
    ('memory = "1 GiB"', 'memory = "1 G"', 11, "ambiguous unit", '"1 GiB"'),
    ('memory = "1 GiB"', 'memroy = "1 GiB"', 11, "unknown key", "did you mean memory?"),
    ("cpus = 2", "cpus = 0", 10, "out of range", "1 to 255"),
    ('system = "debian"', 'system = "debain"', 9, "unknown value", "did you mean debian?"),
    ("[guest.gauge]", '[guest."tide gauge"]', 8, "is not a valid name", "tide-gauge"),
    ("[guest.gauge]", f"[guest.{'g' * 50}]", 8, "50 characters", "at most 40"),
    ('kind = "nat"', 'kind = "nta"', 5, "unknown value", "did you mean nat?"),
    ('kind = "nat"\n', "", 4, "kind is missing", 'add: kind = "nat"'),
    ('kind = "nat"', 'kind = "bridge"', 4, "requires the key interface", 'interface = "br0"'),
    ('subnet = "10.77.4.0/24"', 'subnet = "10.77.4.9/24"', 6, "address of a host", "10.77.4.0/24"),
    ('subnet = "10.77.4.0/24"', "vlan = 12", 6, "for bridge networks only", "remove it"),
    ("port = 2220 }", "port = 0 }", 16, "0 is not a port", "1 to 65535"),
    ("port = 2220 }", "port = 70000 }", 16, "70000 is not a port", "1 to 65535"),
    ('from = "lan"', 'from = "net"', 16, "unknown value", "host, lan"),
    ('{ from = "lan", port = 2220 }', "{ port = 2220 }", 16, "from is missing", "host"),
    ('to = "5000-5003"', 'to = "5000-5003", port = 7000', 18, "1 ports of the host for 4", '"7000-7003"'),
    ('"5000-5003"', '80, port = "500-510"', 18, "11 ports of the host for 1", 'port = "500", or to = "80-90"'),
    ('to = "5000-5003"', "port = 7000", 18, "port is not specified", "to = 8000"),
    ('to = "5000-5003"', 'to = "5000-6003"', 18, "too many", "at most 256"),
    ('door.ssh = { from = "lan"', 'door.ssh = { from = "lan", protocol = "udp"', 16, "ssh uses TCP", "remove"),
    ('size = "1 GiB", bus = "sata", ', "", 13, "requires a size", "size"),
    ('network = "pier", ', "", 14, "network is missing", "network"),
    ('user = "ops"', 'user = "Ops"', 15, "is not a valid user name", "lower-case"),
    ("adapter = [", "adapter = [5, ", 14, "table is required", "key = value"),
    ('name = "saltmarsh"', "", 1, "name is missing", "saltmarsh"),
    ("[lab]", "[lob]", 1, "unknown key", "did you mean lab"),
    ("network.pier]", "network.lan]", 4, "must not be named lan", "network.lan-bridge"),
    ("cpus = 2", "cpus = two", 10, "invalid TOML", "quotes"),
    ("cpus = 2", 'cpus = "', 10, "invalid TOML", "quotes"),
    ("cpus = 2", "cpus = " + "9" * 5000, 10, "number is too long", "quotes"),
]


@pytest.mark.parametrize(("old", "new", "line", "what", "remedy"), WRONG)
def test_an_error_says_line_what_and_remedy(old: str, new: str, line: int, what: str, remedy: str) -> None:
    text = EXAMPLE.replace(old, new, 1)
    assert text != EXAMPLE
    findings = read_lab(text).findings
    places = Places(text) if findings[0].code != "toml" else None
    said = [(f.line or (places.line(f.path) if places else None), f.what, f.remedy) for f in findings]
    assert any(at == line and what in w and remedy in r for at, w, r in said), said


def test_every_error_is_found_in_one_reading() -> None:
    text = EXAMPLE.replace("cpus = 2", "cpus = 0").replace("port = 2220", "port = 0").replace('"nat"', '"nta"')
    assert len(read_lab(text).findings) == 3


@given(lab_texts())
def test_generated_labs_are_read_without_findings(text: str) -> None:
    assert read_lab(text).findings == []


@given(st.text(max_size=200))
def test_any_text_is_read_or_explained(text: str) -> None:
    reading = read_lab(text)
    assert reading.findings, "no random text is a lab"


@given(lab_texts(), st.data())
def test_a_cut_file_is_read_or_explained(text: str, data: st.DataObject) -> None:
    read_lab(text[: data.draw(st.integers(0, len(text)))])
