"""Odd values in every text that others parse: a real reader of the format gives back what went in, and no value ends
its place. docs/formats.md says which reader is which."""

from __future__ import annotations

import configparser
import shlex
import subprocess
import tomllib
from base64 import b64encode
from html.parser import HTMLParser
from ipaddress import ip_address
from pathlib import Path
from typing import Any, cast
from xml.etree import ElementTree as Xml

import pytest
import yaml
from hypothesis import example, given, settings
from hypothesis import strategies as st

from dacha.core.apply.answers import Answers
from dacha.core.apply.first_boot import FirstBoot, SetupFacts
from dacha.core.lab import fields
from dacha.core.lab.table import read_setup
from dacha.core.lab.text.layout import comments, key_text, value_text
from dacha.formats import openssh, systemd_unit
from dacha.formats.answers import alpine, bsd, debian, fedora, ubuntu, windows
from dacha.formats.answers.finish import script
from dacha.formats.answers.network_start import menus
from dacha.formats.handout import profile, putty, rdp, sheet, ssh
from dacha.formats.handout.way_in import Shut, WayIn
from dacha.formats.map_picture import Band
from dacha.formats.map_svg import svg
from dacha.formats.seed.documents import documents, user_data
from dacha.formats.shares import samba
from tests.formats.test_answers import KEY, SETUP, answers

# Signs that mean something to one format or another, beside any letter at all.
SIGNS = st.sampled_from(
    [*"'\"\\$`%#;:=[]{}()<>&|*?!~^@,. \t/-", "%end", "#!", "${x}", "$(x)", "\u2028", "\x7f", "\x85", "é"]
)
ANY = st.characters(exclude_categories=["Cs"])


def odd(accepted: Any, least: int = 1) -> st.SearchStrategy[str]:
    """Texts of signs and letters, those that the lab file's own reader of the value accepts."""

    def reads(text: str) -> bool:
        try:
            return accepted(text) == text
        except ValueError:
            return False

    return st.lists(st.one_of(SIGNS, ANY), min_size=least, max_size=12).map("".join).filter(reads)


TEXT = odd(fields.text)
PATH = odd(read_setup._any_text).map(lambda t: "/srv/" + t).filter(lambda p: _accepts(read_setup._whole_path, p))
MIRROR = st.from_regex(r"http://pier\.example/[A-Za-z0-9._~!$&()*+,;=:@%/-]{0,12}", fullmatch=True).filter(
    read_setup._MIRROR.match
)
BODY = st.lists(st.one_of(SIGNS, ANY, st.just("\n"), st.just("\r")), max_size=20).map("".join)


def _accepts(reader: Any, value: str) -> bool:
    try:
        return bool(reader(value) == value)
    except ValueError:
        return False


@st.composite
def odd_setups(draw: st.DrawFn) -> SetupFacts:
    files = [
        {"path": draw(PATH), "content": b64encode(draw(BODY).encode()).decode(), "mode": "0644", "owner": "root"}
        for _ in range(draw(st.integers(0, 2)))
    ]
    odd_ones = {"run": draw(st.lists(TEXT, max_size=3)), "files": files, "mirror": draw(MIRROR)}
    return cast(SetupFacts, SETUP | odd_ones)


def told(setup: SetupFacts) -> Answers:
    return answers(setup)


@given(odd_setups(), TEXT)
def test_first_boot_data_is_what_went_in(setup: SetupFacts, password: str) -> None:
    facts = cast(FirstBoot, dict(answers(setup).facts))
    texts = documents(facts, instance="one", host_key_private="A\nB\n", passwords={"ops": password})
    data = yaml.safe_load(texts["user-data"])
    assert data == user_data(facts, "A\nB\n", {"ops": password})
    assert data["runcmd"][-len(setup["run"]) :] == setup["run"] if setup["run"] else True
    assert [f["path"] for f in data["write_files"] if f.get("encoding")] == [f["path"] for f in setup["files"]]
    assert f"deb {setup['mirror']} $RELEASE main" in data["apt"]["sources_list"].split("\n")


@given(odd_setups())
def test_ubuntus_answers_are_what_went_in(setup: SetupFacts) -> None:
    tree = yaml.safe_load(ubuntu.documents(told(setup))["user-data"])["autoinstall"]
    assert tree["apt"]["mirror-selection"]["primary"][0]["uri"] == setup["mirror"]


@given(odd_setups(), TEXT)
def test_windows_answers_are_what_went_in(setup: SetupFacts, password: str) -> None:
    made = answers(setup, plain={"ops": password})
    root = Xml.fromstring(windows.unattend(made).partition("\n")[2])
    space = {"u": "urn:schemas-microsoft-com:unattend"}
    assert [e.text for e in root.findall(".//u:CommandLine", space)] == setup["run"]
    assert root.findtext(".//u:LocalAccount/u:Password/u:Value", None, space) == windows.hidden(password)


@settings(max_examples=20)
@given(odd_setups())
def test_debians_own_reader_takes_every_line(setup: SetupFacts) -> None:
    text = debian.preseed(told(setup))
    done = subprocess.run(["debconf-set-selections", "-c"], input=text, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stderr) == (0, "")
    directory = next(line for line in text.split("\n") if "/directory string" in line)
    assert directory.partition(" string ")[2] == setup["mirror"].removeprefix("http://pier.example")


@settings(max_examples=20, deadline=None)
@given(odd_setups())
def test_fedoras_own_parser_gives_back_what_went_in(setup: SetupFacts) -> None:
    from pykickstart.parser import KickstartParser
    from pykickstart.version import makeVersion

    parser = KickstartParser(makeVersion("F40"), errorsAreFatal=True, missingIncludeIsFatal=True)
    parser.readKickstartFromString(fedora.kickstart(told(setup)))
    assert parser.handler.url.url == setup["mirror"]
    (post,) = parser.handler.scripts
    assert post.script.strip().startswith("# What gauge") and "systemctl enable dnf-automatic" in post.script


# Played by functions of these names: each prints what it was given, or does nothing.
PLAYED = """
exec 3>&1 > /dev/null
sh() { printf 'run:%s\\0' "$2" >&3; }
mkdir() { :; }
chmod() { :; }
"""


@settings(max_examples=40, deadline=None)
@pytest.mark.parametrize("family", ["debian", "fedora", "alpine", "bsd"])
@given(setup=odd_setups())
def test_a_shell_gives_back_what_went_in(family: str, setup: SetupFacts, tmp_path_factory: Any) -> None:
    """The real script in a real shell, whose files go below another root."""
    root = tmp_path_factory.mktemp("root")
    text = script(told(setup), family)
    assert not [x for x in text.split("\n")[1:] if x.lstrip().startswith(("#!", "%"))], text
    # One path, quoted, may begin as another does.
    for file in sorted(setup["files"], key=lambda f: -len(f["path"])):
        target = shlex.quote(file["path"])
        text = text.replace(f"> {target}", f"> {shlex.quote(str(root / b64encode(file['path'].encode()).hex()[:200]))}")
    lines = [line for line in text.split("\n") if not line.startswith("exec >>")]
    done = subprocess.run(
        ["dash", "-c", PLAYED + only_files_and_runs("\n".join(lines), setup)], capture_output=True, check=False
    )
    ran = [x.removeprefix("run:") for x in done.stdout.decode().split("\0")[:-1]]
    assert ran == setup["run"], (done.stderr, text)
    for file in setup["files"]:
        name = b64encode(file["path"].encode()).hex()[:200]
        assert b64encode((root / name).read_bytes()).decode() == last_of(setup, file["path"]), text


def last_of(setup: SetupFacts, path: str) -> str:
    return [f["content"] for f in setup["files"] if f["path"] == path][-1]


def only_files_and_runs(text: str, setup: SetupFacts) -> str:
    """The steps for files and commands; the others change accounts of the machine."""
    steps = text.split("\necho ")
    wanted = [shlex.quote(f["path"]) for f in setup["files"]] + [f"'run {n}'" for n in range(1, len(setup["run"]) + 1)]
    return "failed=\n" + "\n".join("echo " + s for s in steps if s.split("\n(\n")[0] in wanted)


@given(MIRROR)
def test_alpines_answers_are_a_shells(mirror: str) -> None:
    made = alpine.answer_file(told(cast(SetupFacts, SETUP | {"mirror": mirror})))
    said = subprocess.run(
        ["dash", "-c", f'{made}\nprintf %s "$APKREPOSOPTS"'], capture_output=True, text=True, check=True
    )
    assert said.stdout == mirror


SEPARATED = cast(
    SetupFacts, SETUP | {"files": [{"path": "/srv/\u2028#!", "content": "", "mode": "0644", "owner": "root"}]}
)


@settings(max_examples=30, deadline=None)
@given(odd_setups())
@example(SEPARATED)
def test_the_bsds_parts_stay_two(setup: SetupFacts) -> None:
    text = bsd.installerconfig(told(setup))
    assert sum(line.startswith("#!") for line in text.split("\n")) == 1
    assert subprocess.run(["dash", "-n"], input=text.encode(), capture_output=True, check=False).returncode == 0


NAME = st.from_regex(r"[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?", fullmatch=True).filter(lambda n: _accepts(fields.name, n))
USER = st.one_of(st.just(""), st.from_regex(r"[a-z_][a-z0-9_-]{0,31}", fullmatch=True))
ADDRESS = st.one_of(
    st.ip_addresses(v=4).map(str), st.ip_addresses(v=6).map(str), st.just("pier.example"), st.just("127.0.0.1")
)
WAYS = st.builds(
    WayIn, guest=NAME, door=NAME, service=st.sampled_from(["ssh", "rdp", "vnc"]), address=ADDRESS,
    port=st.integers(1, 65535), name=NAME.map(lambda n: f"{n}.saltmarsh.internal"), user=USER,
    host_key=st.sampled_from(["", KEY]), label=st.just(""),
)  # fmt: skip


def plain(address: str) -> str:
    """An address in its usual form: one may be written in several."""
    try:
        return str(ip_address(address))
    except ValueError:
        return address


@settings(max_examples=60, deadline=None)
@given(lab_name=NAME, way=WAYS)
def test_openssh_reads_its_configuration_and_finds_its_key(lab_name: str, way: WayIn, tmp_path_factory: Any) -> None:
    way = way._replace(service="ssh")
    folder = tmp_path_factory.mktemp("ssh")
    files = ssh.ssh_files(lab_name, [way], "id_ed25519")
    for name, text in files.items():
        (folder / name).write_text(text)
    argv = ["ssh", "-G", "-F", folder / "config", way.session]
    said = subprocess.run(argv, capture_output=True, text=True, check=True).stdout
    read = dict(line.split(" ", 1) for line in said.splitlines() if " " in line)
    assert (plain(read["hostname"]), int(read["port"])) == (plain(way.address), way.port)
    assert not way.user or read["user"] == way.user
    if way.host_key:
        assert read["userknownhostsfile"].endswith(f"/.ssh/{lab_name}/known_hosts") and read["hostkeyalias"] == way.name
        found = subprocess.run(["ssh-keygen", "-F", way.name, "-f", folder / "known_hosts"],
                               capture_output=True, text=True, check=True).stdout  # fmt: skip
        assert KEY.split()[1] in found


@given(NAME, st.lists(WAYS, min_size=1, max_size=3))
def test_registry_and_connection_files_have_one_value_a_line(lab_name: str, ways: list[WayIn]) -> None:
    for way in ways:
        settings_of = dict(line.split(":", 2)[::2] for line in rdp.rdp_file(way).decode().split("\r\n") if line)
        place = f"[{way.address}]" if ":" in way.address else way.address
        assert settings_of["full address"] == f"{place}:{way.port}" and settings_of.get("username", "") == way.user
        ini = configparser.RawConfigParser(delimiters=["="], strict=True)
        ini.read_string(profile.profile(lab_name, way).decode())
        (section,) = ini.sections()
        assert (ini[section]["name"], ini[section]["group"]) == (way.session, lab_name)
        assert (ini[section]["server"], ini[section]["username"]) == (f"{place}:{way.port}", way.user)
    made = putty.registry_file(lab_name, ways)
    mine = [w for w in ways if w.service == "ssh"]
    assert (made is None) == (not mine)
    if made:
        # A .reg file is an INI of quoted names, in UTF-16, behind one line.
        head, _, rest = made.decode("utf-16").partition("\r\n")
        ini = configparser.RawConfigParser(delimiters=["="], strict=False)
        ini.optionxform = str  # type: ignore[assignment, method-assign]  # names of values keep their case
        ini.read_string(rest)
        assert head == "Windows Registry Editor Version 5.00"
        for way in mine:
            session = ini[f"HKEY_CURRENT_USER\\Software\\SimonTatham\\PuTTY\\Sessions\\{lab_name}%20{way.session}"]
            assert session['"HostName"'].strip('"') in {w.address for w in mine if w.session == way.session}


class Texts(HTMLParser):
    """The texts of a page, and the tags that it has."""

    def __init__(self) -> None:
        super().__init__()
        self.texts: list[str] = []
        self.tags: list[str] = []

    def handle_data(self, data: str) -> None:
        self.texts.append(data)

    def handle_starttag(self, tag: str, attrs: Any) -> None:
        self.tags.append(tag)


@given(NAME, st.lists(WAYS, max_size=2), TEXT, TEXT, TEXT)
@example("lab", [], "<script>x</script>", "&lt;", '"><img src=x>')
def test_the_sheet_shows_what_went_in(lab_name: str, ways: list[WayIn], person: str, why: str, remedy: str) -> None:
    page = Texts()
    page.feed(sheet.sheet(lab_name, "lan", ways, [Shut("gauge", "ssh", "ssh", why, remedy)], "key", person))
    page.close()
    whole = "".join(page.texts)
    assert f"For {person}. " in whole and why in whole and f"To open it: {remedy}." in whole
    assert not {"script", "img"} & set(page.tags)


@given(TEXT, TEXT)
def test_a_map_is_xml_with_these_texts(title: str, host: str) -> None:
    drawn = Xml.fromstring(svg(title, cast("list[Band]", []), host))
    texts = "".join(drawn.itertext())
    assert host in texts or title in texts


SHARE = st.from_regex(r"[a-z0-9]([a-z0-9-]{0,20}[a-z0-9])?", fullmatch=True).filter(
    lambda n: n not in ("global", "homes", "printers")
)


@settings(max_examples=30, deadline=None)
@given(shares=st.dictionaries(SHARE, st.booleans(), min_size=1, max_size=4))
def test_sambas_own_reader_finds_the_shares(shares: dict[str, bool], tmp_path_factory: Any) -> None:
    file = tmp_path_factory.mktemp("smb") / "smb.conf"
    file.write_text(samba.config(shares.items()))
    done = subprocess.run(["testparm", "-s", "--skip-logic-checks", file], capture_output=True, text=True, check=True)
    ini = configparser.RawConfigParser(delimiters=["="], strict=True)
    ini.read_string(done.stdout)
    assert {s for s in ini.sections() if s != "global"} == set(shares)
    for name, read_only in shares.items():
        assert ini[name]["path"] == f"/shares/{name}"
        assert ini[name].get("read only", "yes").lower() == ("yes" if read_only else "no")


@settings(max_examples=25, deadline=None)
@given(
    about=TEXT,
    words=st.lists(TEXT, max_size=2),
    environment=st.dictionaries(st.sampled_from(["PATH", "DACHA_STATE"]), TEXT, max_size=2),
)
def test_systemd_reads_its_unit(
    about: str, words: list[str], environment: dict[str, str], tmp_path_factory: Any
) -> None:
    file = tmp_path_factory.mktemp("unit") / "dacha-caretaker.service"
    text = systemd_unit.service(about, ["/bin/true", *words], environment, system=True)
    file.write_text(text)
    done = subprocess.run(["systemd-analyze", "verify", "--man=no", "--recursive-errors=no", file],
                          capture_output=True, text=True, check=False)  # fmt: skip
    complaints = [x for x in done.stderr.splitlines() if file.name in x or str(file) in x]
    assert not complaints, (text, done.stderr)
    assert sum(line.startswith("ExecStart=") for line in text.split("\n")) == 1


@given(st.lists(st.from_regex(r"[A-Za-z0-9_.,:/=@%+;$'\"-]{1,12}", fullmatch=True), min_size=1, max_size=4))
@settings(max_examples=40, deadline=None)
def test_grub_reads_its_menu(words: list[str]) -> None:
    menu = menus("linux", ["initrd.gz"], " ".join(words))["grub.cfg"]
    done = subprocess.run(["grub-script-check"], input=menu, capture_output=True, text=True, check=False)
    assert done.returncode == 0, (menu, done.stderr)


VALUES = st.recursive(
    st.one_of(st.text(ANY), st.integers(-(2**63), 2**63 - 1), st.booleans()),
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(ANY), inner, max_size=3)),
    max_leaves=6,
)


@given(st.lists(st.text(ANY), min_size=1, max_size=3), VALUES)
def test_a_value_of_the_lab_file_is_what_went_in(path: list[str], value: object) -> None:
    text = f"{key_text(tuple(path))} = {value_text(value)}\n"
    read: Any = tomllib.loads(text)
    for step in path:
        read = read[step]
    assert read == value and comments(text) == []


@settings(max_examples=40, deadline=None)
@given(comment=TEXT)
def test_openssh_reads_a_public_line_whatever_its_comment(comment: str, tmp_path_factory: Any) -> None:
    private, public = openssh.key_pair(bytes(32), "x")
    line = openssh.public_line(f"{' '.join(public.split()[:2])} {comment}")
    file: Path = tmp_path_factory.mktemp("key") / "key.pub"
    file.write_text(line + "\n")
    said = subprocess.run(["ssh-keygen", "-l", "-f", file], capture_output=True, text=True, check=True).stdout
    assert said.split()[1] == openssh.fingerprint(line) and private
