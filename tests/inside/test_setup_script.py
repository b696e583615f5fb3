"""The setup script against real tools: dpkg, apt and account tools, on a scratch copy of this machine's root."""

import base64
import hashlib
import random
import subprocess
from pathlib import Path

import pytest

from dacha.core.apply.first_boot import SetupFacts
from dacha.core.inside.setup_items import Item, digests, item_change, kind_and_what
from dacha.core.inside.setup_script import Answer, Answers, names_in_order, read_answers, script
from dacha.formats.seed.items import setup_items
from tests.inside.scratch_root import ScratchRoot

PACKAGES = {
    "tide-lib": "", "tide-data": "tide-lib", "tide-tools": "tide-lib", "tide-view": "tide-tools, tide-data",
    "mast": "", "anchor": "mast", "leak": "",
}  # fmt: skip


@pytest.fixture
def root(tmp_path: Path) -> ScratchRoot:
    made = ScratchRoot(tmp_path)
    made.archive(PACKAGES, broken=("leak",))
    return made


def encoded(text: str) -> str:
    return base64.b64encode(text.encode()).decode()


def package(name: str) -> Item:
    return Item("package", name, (name,))


def file(path: str, text: str, mode: str = "0644", owner: str = "root") -> Item:
    return Item("file", path, (path, mode, owner), encoded(text))


def user(name: str, groups: str = "", shell: str = "", administrator: str = "") -> Item:
    return Item("user", name, (name, shell, administrator, groups))


def command(text: str) -> Item:
    return Item("command", text, (), encoded(text))


def change(root: ScratchRoot, put: list[Item], take: list[str] = []) -> dict[str, Answer]:  # noqa: B006  # only read
    answers = read_answers(root.run(script(put, take)), names_in_order(put, take))
    assert answers and not answers.refused
    assert answers.by_name.keys() == {*take, *(i.name for i in put)}
    return answers.by_name


def installed(root: ScratchRoot) -> set[str]:
    said = root.run("dpkg-query -W -f '${db:Status-Status} ${Package}\\n'")
    return {line.split()[1] for line in said.splitlines() if line.startswith("installed ")} & PACKAGES.keys()


def test_what_leaves_the_lab_file_leaves_the_guest_as_it_was(root: ScratchRoot) -> None:
    items = [
        package("tide-view"), package("mast"), user("mara", "tides adm", "/bin/sh"), user("games", "tides"),
        file("/etc/motd", "High water at six.\n"), file("/srv/tides/log/today", "4.2\n", "0600", "mara"),
        file("/etc/mast.conf", "depth = 9\n"), Item("zone", "", ("Europe/London",)), command("echo wet > /tmp/wet"),
    ]  # fmt: skip
    before = root.run("cat /etc/motd; id games")
    said = change(root, items)
    assert {a.state for a in said.values()} == {"done"}, said
    assert installed(root) == {"tide-lib", "tide-data", "tide-tools", "tide-view", "mast"}
    look = root.run(
        "cat /etc/motd /etc/mast.conf; id -nG mara; id -nG games; stat -c '%a %U' /srv/tides/log/today; date +%Z"
    )
    assert (
        "High water at six.\ndepth = 9\nmara" in look and "tides" in look and "600 mara" in look and "UTC" not in look
    )
    # The same once more changes nothing, and a command that ran does not run again.
    root.run("rm /tmp/wet")
    assert {a.state for a in change(root, items).values()} == {"done"}
    assert "No such file" in root.run("cat /tmp/wet")
    gone = change(root, [], [i.name for i in items])
    assert gone.pop("command echo wet > /tmp/wet") == Answer("kept", "what it did is not taken back")
    assert {a.state for a in gone.values()} == {"done"}, gone
    assert installed(root) == set() and root.differences() == []
    assert root.run("cat /etc/motd; id games") == before
    assert root.run("ls -d /var/lib/dacha-setup /home/mara").count("No such file") == 2


def test_what_others_made_or_changed_is_never_touched(root: ScratchRoot) -> None:
    root.run("apt-get -qq -y install mast; useradd -m kim; echo by kim > /home/kim/notes")
    put = [package("mast"), package("tide-tools"), user("kim"), user("jo"), file("/etc/issue", "pier\n")]
    assert {a.state for a in change(root, put).values()} == {"done"}
    root.run("apt-get -qq -y install tide-view; echo mine > /home/jo/notes; echo storm >> /etc/issue")
    failed = change(root, [file("/etc/issue", "another pier\n")])
    assert failed["file /etc/issue"] == Answer("failed", "/etc/issue was changed in the guest since: it stays as it is")
    said = change(root, [], [i.name for i in put])
    assert said["package mast"].state == "done" and said["user kim"].state == "done"
    assert said["package tide-tools"] == Answer("kept", "needed by tide-view")
    assert said["file /etc/issue"] == Answer("kept", "/etc/issue was changed in the guest since: it stays as it is")
    assert said["user jo"] == Answer("kept", "its home folder /home/jo stays: 1 files of its own are there")
    assert installed(root) == {"mast", "tide-lib", "tide-data", "tide-tools", "tide-view"}
    assert "by kim" in root.run("id kim && cat /home/kim/notes") and "mine" in root.run("cat /home/jo/notes")
    assert "no such user" in root.run("id jo") and "storm" in root.run("cat /etc/issue")
    # What a first boot put there is unknown to the script: it stays.
    said = change(root, [], ["package mast", "user kim", "file /etc/hostname", "time zone", "service cron"])
    assert {a.state for a in said.values()} == {"kept"}


def test_every_failure_has_its_reason_and_keeps_no_other_from_its_place(root: ScratchRoot) -> None:
    root.run("mkdir -p /srv/folder")
    put = [
        package("leak"), package("nowhere"), package("mast"), user("jo", administrator="yes"),
        user("mara", shell="/none"),
        file("/srv/folder", "x"), file("/srv/x", "x", owner="nobody-here"), Item("zone", "", ("Sea/Deep",)),
        Item("service", "lamp", ("lamp",)), command("echo the pier is closed >&2; false"), file("/srv/y", "fine\n"),
    ]  # fmt: skip
    said = change(root, put)
    assert said["package mast"].state == said["file /srv/y"].state == "done"
    assert "Unable to locate package nowhere" in said["package nowhere"].why
    assert "leak" in said["package leak"].why and said["package leak"].state == "failed"
    assert said["user jo"].why == "neither sudo nor doas is installed: add one of them to packages"
    assert (
        said["user mara"].why == "no shell /none is there" and said["file /srv/folder"].why == "/srv/folder is a folder"
    )
    assert said["file /srv/x"].why == "no account nobody-here exists"
    assert "add tzdata" in said["time zone"].why and "service manager" in said["service lamp"].why
    assert said[put[-2].name].why == "the pier is closed"
    change(root, [], [i.name for i in put])
    assert installed(root) == set() and [d for d in root.differences() if "srv/folder" not in d] == []


@pytest.mark.whole
def test_a_power_cut_at_any_moment_is_made_good_by_the_next_run(root: ScratchRoot) -> None:
    drawn = random.Random(32)
    choices = [
        package("tide-view"), package("tide-tools"), package("anchor"), user("mara", "tides"), user("jo", "tides quay"),
        file("/etc/motd", "one\n"), file("/etc/motd", "two\n"), file("/srv/a/b", "b\n", "0600", "root"),
        Item("zone", "", ("Europe/London",)), Item("zone", "", ("Asia/Tokyo",)),
    ]  # fmt: skip
    had: dict[str, str] = {}
    for _ in range(6):
        wanted = list({i.name: i for i in drawn.sample(choices, drawn.randrange(len(choices)))}.values())
        moved = item_change(had, digests(wanted))
        put = [i for i in wanted if i.name in (*moved.add, *moved.change)]
        text = script(put, moved.take)
        for _ in range(2):
            root.run(text, kill_after_s=drawn.uniform(0.1, 1.5))
        said = change(root, put, list(moved.take))
        assert {a.state for a in said.values()} <= {"done", "kept"}, said
        had = digests(wanted)
        asked = {kind_and_what(n)[1] for n in had if n.startswith("package ")}
        assert asked <= installed(root) and ("anchor" in asked) == ("mast" in installed(root))
    change(root, [], list(had))
    assert installed(root) == set() and root.differences() == []


def signed_source(root: ScratchRoot, top: Path, *, by: str = "key") -> SetupFacts:
    """A further source in the root, signed by the key of `by`; the setup that names it with the right key."""
    place, home = root.top / "upper/wharf", top / "gpg"
    home.mkdir(mode=0o700, exist_ok=True)

    def gpg(*words: str | Path, given: bytes = b"") -> bytes:
        argv = ["gpg", "--homedir", home, "--batch", "--yes", "--passphrase", "", *words]
        return subprocess.run(argv, input=given, capture_output=True, check=True).stdout

    for name in ("key", "other"):
        gpg("--quick-gen-key", f"{name}@pier.example", "ed25519", "sign", "never")
    place.mkdir()
    for name in ("Packages", "mast.deb"):
        (place / name).write_bytes((root.top / "upper/archive" / name).read_bytes())
    entry = next(e for e in (place / "Packages").read_text().split("\n\n") if "Package: mast\n" in e)
    (place / "Packages").write_text(entry.strip() + "\n")
    body = (place / "Packages").read_bytes()
    release = f"Suite: wharf\nSHA256:\n {hashlib.sha256(body).hexdigest()} {len(body)} Packages\n"
    signed = gpg("--clearsign", "-u", f"{by}@pier.example", given=release.encode())
    (place / "InRelease").write_bytes(signed)
    key = gpg("--armor", "--export", "key@pier.example")
    subprocess.run(["gpgconf", "--homedir", home, "--kill", "all"], check=True)
    root.run("rm -f /etc/apt/sources.list; apt-get -qq update")
    return {
        "locale": None, "keyboard": None, "time_zone": None, "update": False, "automatic_updates": False,
        "packages": ["mast"], "services": [], "run": [], "files": [], "users": [],
        "sources": [{"name": "wharf", "address": "file:/wharf", "suite": "./", "components": ["main"],
                     "key": base64.b64encode(key).decode()}],
    }  # fmt: skip


def test_packages_come_from_a_further_source_only_with_its_key(root: ScratchRoot, tmp_path: Path) -> None:
    items = setup_items(signed_source(root, tmp_path), "debian")
    said = change(root, items)
    assert {a.state for a in said.values()} == {"done"}, said
    assert installed(root) == {"mast"}
    assert "Signed-By: /etc/apt/keyrings/wharf.asc" in root.run("cat /etc/apt/sources.list.d/wharf.sources")
    assert {a.state for a in change(root, [], [i.name for i in items]).values()} == {"done"}
    assert installed(root) == set() and "wharf" not in root.run("ls /etc/apt/sources.list.d /etc/apt/keyrings")


def test_a_source_that_another_key_signed_is_refused(root: ScratchRoot, tmp_path: Path) -> None:
    said = change(root, setup_items(signed_source(root, tmp_path, by="other"), "debian"))
    assert said["package mast"].state == "failed" and installed(root) == set()


def test_time_servers_replace_those_of_the_service_that_is_there(root: ScratchRoot) -> None:
    def clock(*servers: str) -> Item:
        return Item("clock", "", (" ".join(servers),))

    root.run("rm -rf /etc/chrony* /etc/ntp.conf /etc/conf.d/ntpd /lib/systemd/systemd-timesyncd")
    assert "add chrony to packages" in change(root, [clock("192.0.2.1")])["time servers"].why
    # chrony: its own pool goes, the rest of its settings stays. (Nothing runs here: that is said.)
    root.run("mkdir /etc/chrony; printf 'pool 2.pool.example iburst\\nmakestep 1 3\\n' > /etc/chrony/chrony.conf")
    said = change(root, [clock("192.0.2.1", "time.example.org")])["time servers"]
    assert "does not run" in said.why
    conf = "cat /etc/chrony/chrony.conf"
    assert root.run(conf) == "server 192.0.2.1 iburst\nserver time.example.org iburst\nmakestep 1 3\n"
    change(root, [clock("192.0.2.9")])
    assert root.run(conf) == "server 192.0.2.9 iburst\nmakestep 1 3\n"
    assert change(root, [], ["time servers"])["time servers"].state == "done"
    assert root.run(conf) == "pool 2.pool.example iburst\nmakestep 1 3\n"
    # systemd's own, and that of the smallest systems.
    timesyncd = "mkdir -p /lib/systemd; printf '#!/bin/sh\\n' > /lib/systemd/systemd-timesyncd"
    root.run(f"rm -r /etc/chrony; {timesyncd}; chmod +x /lib/systemd/systemd-timesyncd")
    change(root, [clock("192.0.2.1")])
    assert root.run("cat /etc/systemd/timesyncd.conf.d/lab.conf") == "[Time]\nNTP=192.0.2.1\n"
    change(root, [], ["time servers"])
    assert root.run("ls /etc/systemd/timesyncd.conf.d 2> /dev/null") == ""


def test_the_script_is_plain_sh_and_does_nothing_if_it_is_cut_off(tmp_path: Path) -> None:
    put = [file("/etc/motd", "x"), package("mast"), user("jo"), Item("clock", "", ("192.0.2.1",))]
    text = script(put, ["time zone", "time servers"])
    path = tmp_path / "script"
    path.write_text(text)
    told = ["--shell=dash", "--severity=warning", "--exclude=SC2086"]
    assert subprocess.run(["shellcheck", *told, path], capture_output=True, text=True, check=False).stdout == ""
    assert (
        "main\n" in text
        and subprocess.run(["sh"], input=text[:-6], text=True, capture_output=True, check=False).stdout == ""
    )
    assert read_answers("setup 0 done\n", ["x"]) is None
    said = "noise\nsetup 1 failed it is\nsetup 9 done\nsetup end\n"
    assert read_answers(said, ["x", "y"]) == Answers({"y": Answer("failed", "it is")})
    assert read_answers("setup denied\nsetup end\n", []) == Answers({}, "denied")


def test_the_things_of_a_setup_are_those_of_its_first_boot() -> None:
    setup: SetupFacts = {
        "locale": "en_GB.UTF-8", "keyboard": "gb", "time_zone": "Europe/London", "update": True,
        "automatic_updates": True,
        "packages": ["tmux", "nginx"], "services": ["nginx"], "run": ["true"], "mirror": "http://10.77.4.1/debian",
        "files": [{"path": "/etc/motd", "content": "eA==", "mode": "0644", "owner": "root"}],
        "users": [
            {"name": "mara", "keys": [], "groups": ["adm"], "administrator": True, "shell": None},
            {"name": "kim", "keys": [], "groups": [], "administrator": False, "shell": None, "person": True},
        ],
    }  # fmt: skip
    names = [i.name for i in setup_items(setup, "debian")]
    assert names == [
        "package source", "package tmux", "package nginx", "user mara", "file /etc/motd", "time zone", "locale",
        "keyboard", "package unattended-upgrades", "file /etc/apt/apt.conf.d/20auto-upgrades", "service nginx",
        "command true",
    ]  # fmt: skip
    assert "package unattended-upgrades" not in [i.name for i in setup_items(setup, "alpine")]
    desktop = [i.name for i in setup_items({**setup, "remote_desktop": True}, "fedora", "ops")]
    assert "package xrdp" in desktop and "command to set up the remote desktop" in desktop
