"""The map: everything of the lab is on it, in the terminal and in pictures."""

from __future__ import annotations

import struct
from xml.etree import ElementTree

from tests.conftest import Lab

TEXT = """\
[lab]
name = "real"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[network.vault]
kind = "host-only"
subnet = "10.77.9.0/24"
[guest.gauge]
memory = "64 MiB"
adapter = [{ network = "pier", address = "10.77.4.20" }, { network = "vault", address = "10.77.9.20" }]
door.ssh = { from = "lan", port = 2220 }
door.charts = { service = "http", from = "host", port = 8020 }
door.tides = { service = "http", from = "outside", port = 8030 }
[guest.alone]
memory = "64 MiB"
"""


def test_the_map_in_the_terminal_and_for_scripts(lab: Lab) -> None:
    lab.write(TEXT)
    said = lab("map").out
    assert "─── pier  NAT, 10.77.4.0/24, user mode" in said and "vault  host-only" in said
    assert "gauge  10.77.4.20  LAN" in said and ":2220 → ssh 22" in said
    assert "host 127.0.0.1:8020 → charts 80" in said and "no network" in said and "alone" in said
    assert "outside (not forwarded) → " in said and ":8030 → tides 80" in said
    pier, vault, rest = lab("map", "--json").json["networks"]
    assert [d["from"] for d in pier["guests"][0]["doors"]] == ["lan", "host", "outside"] and pier["way_out"]
    assert vault["guests"] == [{"guest": "gauge", "address": "10.77.9.20", "doors": []}] and not vault["way_out"]
    assert rest["network"] is None


def test_the_map_as_a_picture(lab: Lab) -> None:
    lab.write(TEXT)
    lab("map", "--save", "lab.svg")
    svg = (lab.folder / "lab.svg").read_text()
    assert all(word in svg for word in ("gauge", "10.77.9.20", "127.0.0.1:8020", "vault", "outside", "alone"))
    lab("map", "--save", "again.svg")
    assert (lab.folder / "again.svg").read_text() == svg, "the same lab gives the same picture"
    drawn = ElementTree.fromstring(svg)
    assert drawn.tag.endswith("svg") and drawn.get("width") == "1280"
    assert len(drawn.findall("{*}text")) > 15 and len(drawn.findall("{*}path")) >= 6
    lab("map", "--save", "lab.png")
    png = (lab.folder / "lab.png").read_bytes()
    assert png.startswith(b"\x89PNG") and struct.unpack(">I", png[16:20]) == (1280,)
    assert "does not end in .svg or .png" in lab("map", "--save", "lab.gif", code=2).err
    assert "does not exist" in lab("map", "--save", "/nowhere/lab.svg", code=3).err


def test_a_picture_in_svg_needs_no_library_and_png_says_which(lab: Lab) -> None:
    lab.write(TEXT)
    (lab.folder / "without").mkdir()
    (lab.folder / "without/PIL.py").write_text("raise ImportError('not here')\n")
    env = {"PYTHONPATH": str(lab.folder / "without")}
    lab("map", "--save", "lab.svg", env=env)
    said = lab("map", "--save", "lab.png", code=3, env=env).err
    assert "Pillow, which is not installed" in said and "--save lab.svg" in said
    assert not (lab.folder / "lab.png").exists()
