"""What a guest's system should be: read, merged, and told in the form that first-boot software reads."""

from __future__ import annotations

import base64

import pytest
import yaml

from dacha.core.apply.first_boot import SetupFacts
from dacha.core.lab.setup import Setup, User
from dacha.core.lab.table.read import read_lab
from dacha.engine.check.setup import name_findings
from dacha.formats.seed.documents import documents
from dacha.formats.seed.setup import setup_data

TEXT = """\
[lab]
name = "lab"
[setup.base]
locale = "en_GB.UTF-8"
time-zone = "Europe/London"
packages = ["tmux", "curl"]
user = [{ name = "mara", groups = ["docker"], keys = ["mara.pub"] }, { name = "tom" }]
run = ["echo base"]
[guest.gauge]
memory = "1 GiB"
[guest.gauge.setup]
like = "base"
time-zone = "Etc/UTC"
keyboard = "gb"
packages = ["nginx"]
services = ["nginx"]
run = ["echo gauge"]
file = [{ path = "/etc/motd", text = "tides" }]
user = [{ name = "tom", administrator = true, shell = "/bin/bash" }]
[guest.plain]
memory = "1 GiB"
"""


def setup(text: str = TEXT) -> Setup:
    reading = read_lab(text)
    assert reading.lab is not None and not reading.findings, reading.findings
    assert reading.lab.guests["plain"].setup == Setup()
    return reading.lab.guests["gauge"].setup


def test_a_guests_own_values_come_before_those_of_what_it_is_like_and_lists_are_added() -> None:
    found = setup()
    assert (found.locale, found.time_zone, found.keyboard) == ("en_GB.UTF-8", "Etc/UTC", "gb")
    assert found.packages == ("tmux", "curl", "nginx") and found.run == ("echo base", "echo gauge")
    assert found.users == (User("mara", ("mara.pub",), ("docker",)), User("tom", (), (), True, "/bin/bash"))
    assert found.update is None and found.files[0].mode == "0644"


@pytest.mark.parametrize(
    ("before", "after", "says"),
    [
        ('like = "base"', 'like = "bass"', "no table [setup.bass"),
        ('time-zone = "Etc/UTC"', 'time-zone = "half past"', "is not a time zone"),
        ('keyboard = "gb"', 'keyboard = "GB; rm"', "is not a keyboard layout"),
        ('packages = ["nginx"]', 'packages = ["ng inx"]', "is not a package"),
        ('text = "tides"', 'text = "tides", from = "x"', "either text or from"),
        ('path = "/etc/motd"', 'path = "motd"', "is not an absolute path"),
        ('name = "tom", administrator', 'name = "Tom", administrator', "is not a valid user name"),
        ("run = [", "runs = [", "unknown key"),
        ('[setup.base]\n', '[setup.base]\nlike = "other"\n', "unknown key"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_said_with_its_place(before: str, after: str, says: str) -> None:
    reading = read_lab(TEXT.replace(before, after))
    assert any(says in f.what for f in reading.findings), reading.findings
    assert all("setup" in f.path for f in reading.findings)


def facts(**more: object) -> SetupFacts:
    told: SetupFacts = {
        "locale": None, "keyboard": None, "time_zone": None, "update": False, "automatic_updates": False,
        "packages": [], "services": [], "run": [], "files": [], "users": [],
    }  # fmt: skip
    told.update(more)  # type: ignore[typeddict-item]
    return told


def test_it_is_told_as_first_boot_software_reads_it() -> None:
    content = base64.b64encode(b"tides\n").decode()
    told = setup_data(
        facts(
            locale="en_GB.UTF-8", keyboard="gb", time_zone="Etc/UTC", update=True, packages=["nginx"], run=["echo x"],
            services=["nginx"], files=[{"path": "/home/tom/x", "content": content, "mode": "640", "owner": "tom"}],
            users=[{"name": "tom", "keys": ["ssh-ed25519 A"], "groups": ["docker"], "administrator": True,
                    "shell": "/bin/bash"}],
        ),
        "debian",
    )  # fmt: skip
    assert told["timezone"] == "Etc/UTC" and setup_data(facts(keyboard="gb"), "fedora")["keyboard"] == {"layout": "gb"}
    assert told["package_update"] and told["package_upgrade"] and told["packages"] == ["nginx"]
    assert "setupcon" in told["runcmd"][0] and told["runcmd"][1:] == ["systemctl enable --now nginx", "echo x"]
    file, keyboard = told["write_files"]
    assert keyboard["path"] == "/etc/default/keyboard" and 'XKBLAYOUT="gb"' in keyboard["content"]
    assert file["permissions"] == "0640" and file["owner"] == "tom:tom" and file["defer"] and file["encoding"] == "b64"
    (user,) = told["users"]
    assert user["sudo"].startswith("ALL=") and user["lock_passwd"] and user["ssh_authorized_keys"] == ["ssh-ed25519 A"]
    assert setup_data(facts(services=["sshd"]), "alpine")["runcmd"] == ["rc-update add sshd && rc-service sshd start"]
    automatic = setup_data(facts(automatic_updates=True), "ubuntu")
    assert automatic["packages"] == ["unattended-upgrades"] and "20auto-upgrades" in automatic["write_files"][0]["path"]
    assert setup_data(facts(), "debian") == {"users": []}


def test_users_of_the_login_and_of_the_setup_stand_side_by_side() -> None:
    user = {"name": "tom", "keys": [], "groups": [], "administrator": False, "shell": None}
    told = documents(
        {
            "uuid": "u", "host_name": "gauge", "full_name": "gauge.lab.internal", "system": "debian", "user": "ops",
            "keys": ["ssh-ed25519 A"], "host_key": "k", "adapters": [], "setup": facts(users=[user], run=["true"]),
        },
        instance="i", host_key_private="p",
    )  # fmt: skip
    data = yaml.safe_load(told["user-data"])
    assert [u["name"] for u in data["users"]] == ["ops", "tom"] and data["runcmd"] == ["true"]


def test_remote_desktop_brings_its_packages_settings_and_accounts() -> None:
    told = setup_data({**facts(), "remote_desktop": True}, "debian", "ops")
    assert {"xrdp", "xorgxrdp", "icewm"} <= set(told["packages"])
    commands = "\n".join(told["runcmd"])
    for words in (
        "security_layer=tls",
        "AllowRootLogin=false",
        "--groups remote-desktop ops",
        "--groups ssl-cert xrdp",
    ):
        assert words in commands
    assert any("dbus-run-session" in f["content"] for f in told["write_files"])
    fedora = setup_data({**facts(), "remote_desktop": True}, "fedora", "ops")
    assert "ssl-cert" not in "\n".join(fedora["runcmd"]) and "--add-port=3389/tcp" in "\n".join(fedora["runcmd"])
    # A family whose packages are not known is not told half of it.
    assert setup_data({**facts(), "remote_desktop": True}, "alpine", "ops") == {"users": []}
    assert setup_data({**facts(), "mirror": "http://10.77.4.1/debian"}, "debian")["apt"]["sources_list"]


@pytest.mark.parametrize(
    ("setup", "said"),
    [
        ("keyboard = \"uk\"", "did you mean gb?"), ("keyboard = \"gbb\"", "did you mean gb?"),
        ("time-zone = \"Europe/Lodnon\"", "did you mean Europe/London?"),
        ("keyboard = \"de\", time-zone = \"UTC\"", ""),
    ],
)  # fmt: skip
def test_a_name_that_no_system_knows_is_told_with_the_nearest(setup: str, said: str) -> None:
    text = f'[lab]\nname = "pier"\n[guest.gauge]\nmemory = "1 GiB"\nsetup = {{ {setup} }}\n'
    reading = read_lab(text)
    assert reading.lab and not reading.findings
    found = list(name_findings(reading.lab.guests["gauge"]))
    assert [f.remedy for f in found] == ([said] if said else [])


SOURCES = """\
source = [{ name = "tides", address = "https://tides.example.org/debian", key = "tides.asc", suite = "stable" }]
proxy = "http://10.77.4.1:3128"
time-servers = ["192.0.2.1", "time.example.org"]
"""


def test_sources_a_proxy_and_time_servers_are_read_and_told() -> None:
    found = setup(TEXT.replace('keyboard = "gb"\n', f'keyboard = "gb"\n{SOURCES}'))
    assert found.sources[0].components == ("main",) and found.proxy == "http://10.77.4.1:3128"
    assert found.time_servers == ("192.0.2.1", "time.example.org")
    key = base64.b64encode(b"-----BEGIN PGP PUBLIC KEY BLOCK-----\n").decode()
    source = {"name": "tides", "address": "https://tides.example.org/debian", "suite": "stable",
              "components": ["main", "wet"], "key": key}  # fmt: skip
    more = facts(sources=[source], proxy=found.proxy, time_servers=list(found.time_servers), packages=["tide-view"])
    told = setup_data(more, "debian")
    assert told["ntp"] == {"enabled": True, "servers": ["192.0.2.1", "time.example.org"], "pools": []}
    files = {f["path"]: base64.b64decode(f["content"]).decode() for f in told["write_files"]}
    listed = files["/etc/apt/sources.list.d/tides.sources"]
    assert "URIs: https://tides.example.org/debian\nSuites: stable\nComponents: main wet\n" in listed
    assert "Signed-By: /etc/apt/keyrings/tides.asc" in listed and "/etc/apt/keyrings/tides.asc" in files
    assert 'Acquire::https::Proxy "http://10.77.4.1:3128";' in files["/etc/apt/apt.conf.d/95lab-proxy"]
    fedora = {f["path"] for f in setup_data(more, "fedora")["write_files"]}
    assert {"/etc/yum.repos.d/tides.repo", "/etc/pki/rpm-gpg/RPM-GPG-KEY-tides"} <= fedora
    # What is in a path of its own has no components; a binary key has another name.
    flat = facts(sources=[{**source, "suite": "./", "key": base64.b64encode(b"\x99\x01").decode()}])
    paths = {f["path"]: f for f in setup_data(flat, "ubuntu")["write_files"]}
    assert "Components" not in base64.b64decode(paths["/etc/apt/sources.list.d/tides.sources"]["content"]).decode()
    assert "/etc/apt/keyrings/tides.gpg" in paths


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('source = [{ name = "tides", address = "ftp://x/", key = "k" }]', "is not a package source"),
        ('source = [{ name = "tides", address = "https://tides.example.org" }]', "key"),
        ('source = [{ name = "x", address = "https://x.example/a", key = "k", suite = "a b" }]', "is not a suite"),
        ('proxy = "10.77.4.1"', "is not the address of a proxy"),
        ('proxy = "http://x:1/\\"; rm"', "is not the address of a proxy"),
        ('time-servers = ["a b"]', "is not a time server"), ("time-servers = [5]", "is not a time server"),
    ],
)  # fmt: skip
def test_wrong_sources_and_servers_are_named(text: str, says: str) -> None:
    reading = read_lab(TEXT.replace('keyboard = "gb"\n', f'keyboard = "gb"\n{text}\n'))
    assert any(says in f.what for f in reading.findings), reading.findings
