"""A Windows installation: the editions of its medium, and what follows from them. The medium is made up: nobody can run
its system here."""

from pathlib import Path

import pytest

from tests.conftest import Lab
from tests.formats.test_medium import made
from tests.formats.test_wim import wim

LAB = """\
[lab]
name = "office"
[network.pier]
kind = "nat"
[guest.desk]
system = "windows"
install = "win"
disk = [{ size = "64 GiB" }]
adapter = [{ network = "pier" }]
login = { user = "kim" }
"""
DOOR = 'door.rdp = { from = "host" }\n'


@pytest.fixture
def office(lab: Lab) -> Lab:
    files = {"/sources/boot.wim": b"w", "/EFI/BOOT/BOOTX64.EFI": b"e", "/sources/install.wim": wim()}
    put(lab, "win.iso", made("CCCOMA_X64FRE_EN-US_DV9", files, bios=True, uefi=True))
    lab.write(LAB)
    lab("media", "add", "win.iso", "--name", "win")
    return lab


def put(lab: Lab, name: str, data: bytes) -> Path:
    (lab.folder / name).write_bytes(data)
    return lab.folder / name


def said(lab: Lab) -> dict[str, str]:
    """What `check` says of editions, by code, with its remedy."""
    found = lab("check", "--json", code=None).json["findings"]
    return {f["code"]: f"{f['what']} | {f['remedy']}" for f in found if f["code"].startswith("edition")}


def answers(lab: Lab) -> str:
    return lab("guest", "answers", "desk").out


def test_the_edition_follows_from_the_door_or_is_chosen(office: Lab) -> None:
    lab = office
    shown = lab("media", "show", "win").out
    assert "Core (Pier 11 Home)" in shown and "Professional (Pier 11 Pro)" in shown and "edition 3" in shown
    assert "3 editions (Core, Professional, Enterprise); Pier 11 Home is installed" in said(lab)["edition-chosen"]
    lab("guest", "password", "desk", "kim", stdin=put(lab, "typed", b"tide table\n").open())
    assert "<Value>1</Value>" in answers(lab)
    lab.write(LAB + DOOR)
    # The first edition takes no remote desktop connection: with such a door it is not the one that is installed.
    assert "Pier 11 Pro is installed" in said(lab)["edition-chosen"] and "<Value>2</Value>" in answers(lab)
    lab("guest", "edit", "desk", "--edition", "Core")
    wrong = said(lab)["edition-desktop"]
    assert "Pier 11 Home takes no remote desktop connections" in wrong
    lab(*wrong.partition(" | dacha ")[2].split())
    assert said(lab) == {} and "<Value>2</Value>" in answers(lab)
    lab("guest", "edit", "desk", "--edition", "enterprise")
    assert said(lab) == {} and "<Value>3</Value>" in answers(lab)
    lab("guest", "edit", "desk", "--edition", "Profesional")
    assert "it has Core, Professional, Enterprise | did you mean Professional?" in said(lab)["edition"]


def test_a_product_key_is_passed_on_and_shown_nowhere(office: Lab) -> None:
    lab = office
    key = "ABCDE-12345-FGHIJ-67890-KLMNO"
    lab.write(LAB + f'product-key = "{key}"\n')
    lab("guest", "password", "desk", "kim", stdin=put(lab, "typed", b"tide table\n").open())
    assert key not in answers(lab) and "<Key>(stored by Dacha" in answers(lab)
    lab.write(LAB + 'product-key = "ABCDE"\n')
    assert "it is not a product key" in lab("check", code=2).out


def test_a_medium_without_a_list_or_without_a_fitting_edition(office: Lab) -> None:
    lab = office
    files = {"/sources/boot.wim": b"w", "/EFI/BOOT/BOOTX64.EFI": b"e"}
    put(lab, "home.iso", made("HOME_X64FRE", files | {"/sources/install.esd": wim((("CoreN", "Home N"),))}, uefi=True))
    lab("media", "add", "home.iso", "--name", "home")
    lab.write(LAB.replace('"win"', '"home"') + DOOR)
    assert "no edition of home takes remote desktop connections" in said(lab)["edition-desktop"]
    put(lab, "old.iso", made("OLD_X64FRE", files, uefi=True))
    lab("media", "add", "old.iso", "--name", "old")
    lab.write(LAB.replace('"win"', '"old"') + 'edition = "Core"\n')
    assert "old does not list its editions" in said(lab)["edition"]
