"""The key `client` of a door: what each client's file says of it."""

import configparser

import pytest

from dacha.core.lab.client import Client
from dacha.formats.handout.profile import profile
from dacha.formats.handout.rdp import rdp_file
from dacha.formats.handout.sheet import sheet
from dacha.formats.handout.way_in import WayIn
from tests.conftest import Lab

DESK = WayIn("desk", "rdp", "rdp", "192.0.2.30", 3389, "desk.saltmarsh.internal", "mara")
LAB = (
    '[lab]\nname = "saltmarsh"\n[network.quay]\nkind = "bridge"\ninterface = "br0"\nsubnet = "172.20.8.0/24"\n'
    '[guest.desk]\nadapter = [{ network = "quay", address = "172.20.8.30" }]\nlogin = { user = "mara" }\n'
    'door.rdp = { from = "lan" }\ndoor.web = { service = "http", from = "lan" }\n'
)


def settings(client: Client) -> tuple[dict[str, str], dict[str, str]]:
    """The settings of the .rdp file and those of the profile."""
    way = DESK._replace(client=client)
    lines = rdp_file(way).decode().split("\r\n")
    ini = configparser.ConfigParser()
    ini.read_string(profile("saltmarsh", way).decode())
    return {line.split(":")[0]: line.split(":", 2)[2] for line in lines if line}, dict(ini["remmina"])


def test_each_client_is_told_domain_size_screens_sound_and_group() -> None:
    rdp, linux = settings(Client("Pier desktops", "PIER", (1600, 900), sound="off"))
    assert (rdp["domain"], rdp["desktopwidth"], rdp["desktopheight"]) == ("PIER", "1600", "900")
    assert (rdp["screen mode id"], rdp["use multimon"], rdp["audiomode"]) == ("1", "0", "2")
    assert (linux["group"], linux["domain"], linux["window_width"], linux["sound"]) == (
        "Pier desktops", "PIER", "1600", "off")  # fmt: skip
    rdp, linux = settings(Client(all_screens=True, sound="guest"))
    assert (rdp["screen mode id"], rdp["use multimon"], rdp["audiomode"]) == ("2", "1", "1")
    assert (linux["multimon"], linux["viewmode"], linux["sound"]) == ("1", "4", "remote")
    rdp, linux = settings(Client(size=None))
    assert rdp["screen mode id"] == "2" and "window_width" not in linux
    assert "domain" not in rdp and linux["group"] == "saltmarsh"


def test_the_sheet_lists_guests_by_group_and_names_the_account_with_its_domain() -> None:
    page = sheet("saltmarsh", "lan", [DESK._replace(client=Client("Pier <desktops>", "PIER")),
                                      DESK._replace(guest="gauge", service="ssh", door="ssh")], [])  # fmt: skip
    assert page.index("<h3>gauge</h3>") < page.index("<h2>Pier &lt;desktops&gt;</h2>") < page.index("<h3>desk</h3>")
    assert r"PIER\mara" in page and "username=s:PIER%5Cmara" in page


def test_a_door_is_given_them_by_options_and_a_handout_has_them(lab: Lab) -> None:
    lab.write(LAB)
    lab("door", "edit", "desk", "rdp", "--domain", "PIER", "--size", "full-screen", "--group", "Desktops")
    lab("handout", "--from", "lan", "--output", "out")
    assert b"domain:s:PIER\r\n" in (lab.folder / "out/rdp/desk.rdp").read_bytes()
    assert "group=Desktops\n" in (lab.folder / "out/linux/desk-rdp.remmina").read_text()


@pytest.mark.parametrize(
    ("door", "options", "says"),
    [
        ("rdp", ["--size", "16:9"], '"1280x800", or "full-screen"'),
        ("rdp", ["--size", "1600x900", "--all-screens"], "cannot cover all screens"),
        ("rdp", ["--domain", "PIER\\ops"], "is not the name of a domain"),
        ("rdp", ["--sound", "loud"], "one of: client, guest, off"),
        ("rdp", ["--group", "a\nb"], "control characters"),
        ("web", ["--group", "Servers"], "must be one of: ssh, rdp, vnc"),
    ],
)
def test_settings_that_no_client_has_are_refused(lab: Lab, door: str, options: list[str], says: str) -> None:
    lab.write(LAB)
    before = (lab.folder / "lab.toml").read_text()
    assert says in lab("door", "edit", "desk", door, *options, code=2).err
    assert (lab.folder / "lab.toml").read_text() == before
