"""Wrong use and wrong surroundings: one clear message, the right exit code, nothing changed."""

import os
import socket
import subprocess
from pathlib import Path

import pytest

from tests.conftest import Lab

HEAD = '[lab]\nname = "saltmarsh"\n[network.pier]\nkind = "nat"\nsubnet = "10.77.4.0/24"\n'
GAUGE = 'adapter = [{ network = "pier", address = "10.77.4.20" }]\n'


def test_help_names_every_command(lab: Lab) -> None:
    from dacha.cli.commands import COMMANDS

    said = lab("--help").out
    for command in COMMANDS:
        assert f"\n  {command.name} " in said and command.help in said
    assert "example: dacha trace gauge" in lab("trace", "--help").out
    assert "\n    rename " in lab("guest", "--help").out
    assert "example: dacha door add gauge ssh" in lab("door", "add", "--help").out


@pytest.mark.parametrize(
    ("command", "what", "remedy"),
    [
        ((), "", "usage: dacha"),
        (("stats",), "unknown command stats", "did you mean status?"),
        (("start",), "no guest specified", "--all"),
        (("start", "--wrong"), "dacha start: unknown option --wrong", "see: dacha start --help"),
        (
            ("person", "add", "mara", "--enters", "gauge"),
            "dacha person add: unknown option --enters",
            "did you mean --enter?",
        ),
        (("guest", "load", "file", "--as", "x"), "unknown option --as", "see: dacha guest load --help"),
        (("status", "--lab", "/nowhere/lab.toml"), "the lab file does not exist", "dacha new"),
        (("new", "Two Words"), "is not a valid name", "two-words"),
        (("apply", "--wait", "long"), "is not a duration", "2 min"),
    ],
)
def test_wrong_use_is_exit_code_2(lab: Lab, command: tuple[str, ...], what: str, remedy: str) -> None:
    lab.write(HEAD)
    done = lab(*command, code=2)
    assert what in done.err and remedy in done.err + done.out


def test_a_lab_file_with_a_byte_order_mark_is_read(lab: Lab) -> None:
    """As some editors write one."""
    lab.file.write_bytes(b"\xef\xbb\xbf" + HEAD.encode())
    assert lab("check").code == 0


def test_a_guest_that_has_nothing_to_start_from_is_reported(lab: Lab) -> None:
    lab.write(HEAD + '[guest.gauge]\ndisk = [{ size = "1 MiB" }]\n' + GAUGE)
    said = lab("check").out
    assert "its disk is empty, and there is no medium" in said and "dacha guest edit gauge --from IMAGE" in said
    (lab.folder / "none.img").write_bytes(bytes(512))
    lab.write(HEAD + '[guest.gauge]\nboot = { kernel = "none.img" }\n' + GAUGE)
    assert "nothing to start from" not in lab("check", code=None).out


def test_no_lab_file_says_where_it_was_looked_for(lab: Lab) -> None:
    done = lab("status", code=2)
    assert "no lab.toml found here or in a folder above" in done.err and str(lab.folder) in done.err


def test_the_lab_file_is_found_above_and_by_the_environment(lab: Lab) -> None:
    lab.write(HEAD)
    below = lab.folder / "a" / "b"
    below.mkdir(parents=True)
    assert (
        "saltmarsh"
        in subprocess.run(
            [*_program(), "status"], cwd=below, env=lab.env, capture_output=True, text=True, check=True
        ).stdout
    )
    assert lab("status", env={"DACHA_LAB": str(lab.file)}).code == 0
    assert lab("--lab", str(lab.file), "guest", "list").code == 0


def _program() -> list[str]:
    from tests.conftest import PROGRAM

    return [PROGRAM]


@pytest.mark.parametrize("command", ["check", "diff", "apply", "status", "start --all", "guest list"])
def test_broken_toml_is_one_message_with_its_line(lab: Lab, command: str) -> None:
    lab.write(HEAD + "[guest.gauge]\ncpus = two\n")
    done = lab(*command.split(), code=2)
    assert "lab.toml:7" in done.out + done.err and "invalid TOML" in done.out + done.err
    assert not (lab.folder / "state").exists(), "nothing was made for a wrong file"


def test_check_shows_every_finding_and_json_is_the_same(lab: Lab) -> None:
    lab.write(HEAD + "[guest.gauge]\n" + GAUGE.replace("4.20", "5.20") + '[guest.charts]\nmemroy = "1 GiB"\n')
    done = lab("check", code=2)
    assert "lab.toml:7    error: guest gauge: address 10.77.5.20 is not in network pier" in done.out
    assert "lab.toml:9    error: guest charts: memroy" in done.out and "did you mean memory?" in done.out
    found = lab("check", "--json", code=2).json
    assert found["errors"] == 2 and {f["code"] for f in found["findings"] if f["severity"] == "error"} == {
        "address-foreign",
        "unknown-key",
    }
    assert all(set(f) >= {"severity", "code", "file", "line", "what", "remedy", "key"} for f in found["findings"])


def test_an_error_is_json_too(lab: Lab) -> None:
    lab.write(HEAD.replace("nat", "nta"))
    found = lab("apply", "--json", code=2).json
    assert found["error"]["findings"][0]["code"] == "value" and found["error"]["findings"][0]["line"] == 4


def test_missing_files_are_findings_about_this_host(lab: Lab) -> None:
    (lab.folder / "page.img").write_text("<html>not found</html>")
    lab.write(
        HEAD
        + '[guest.gauge]\ndisk = [{ from = "none.qcow2" }, { from = "page.img" }]\nboot = { kernel = "vmlinuz" }\n'
        + 'login = { user = "ops", keys = ["missing.pub"] }\n'
        + GAUGE
    )
    done = lab("check", code=1)
    for words in ("no image", "not a disk image", "no readable file for kernel", "no key file"):
        assert words in done.out, words
    assert "no image" in lab("apply", code=3).err
    assert not (lab.folder / "state").exists() or not list((lab.folder / "state").glob("labs/*/guests/*/disk*"))


def test_a_held_port_is_refused_before_anything_starts(lab: Lab) -> None:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        s.listen()
        port = s.getsockname()[1]
        lab.write(
            HEAD
            + "[guest.gauge]\ndisk = [{ size = '1 GiB' }]\n"
            + GAUGE
            + f'door.ssh = {{ from = "host", port = {port} }}\n'
        )
        done = lab("apply", code=3)
        assert (
            f"port {port} of this host is not available: it is in use by" in done.err
            and f"process {os.getpid()}" in done.err
        )
        assert "lab.toml:9" in done.err
        assert f"process {os.getpid()}" in lab("check", code=1).out
        refused = lab("door", "edit", "gauge", "ssh", "--port", str(port), code=2)
        assert "unchanged" in refused.err and "process" in refused.err
    assert not list((lab.folder / "state").glob("labs/*/guests/*")), "nothing was made"


def test_no_qemu_on_the_machine(lab: Lab, tmp_path: Path) -> None:
    tools = tmp_path / "bin"
    tools.mkdir()
    lab.write(HEAD + "[guest.gauge]\ndisk = [{ size = '1 GiB' }]\n" + GAUGE)
    # Only what the interpreter needs is on this PATH; /usr/sbin, which is always looked at, has no QEMU.
    for name in ("ip",):
        (tools / name).symlink_to("/usr/sbin/ip")
    env = {"PATH": str(tools)}
    done = lab("apply", code=3, env=env)
    assert "qemu-system-x86_64 is not installed" in done.err and "apt install qemu-system-x86" in done.err
    assert "missing" in lab("host", code=1, env=env).out


@pytest.mark.parametrize("where", ["DACHA_STATE", "DACHA_RUN"])
def test_a_state_folder_that_cannot_be_made(lab: Lab, where: str) -> None:
    lab.write(HEAD + "[guest.gauge]\ndisk = [{ size = '1 GiB' }]\n" + GAUGE)
    done = lab("apply", code=3, env={where: "/proc/nowhere"})
    assert "cannot create the folder /proc/nowhere" in done.err and "DACHA_STATE" in done.err


def test_no_space_on_the_store_leaves_no_half_disk(lab: Lab) -> None:
    lab.write(HEAD + "[guest.gauge]\ndisk = [{ size = '900 TiB', allocation = 'full' }]\n" + GAUGE)
    done = lab("apply", code=3)
    assert "no space for a full disk" in done.err and "is free" in done.err
    assert [p.name for p in lab.guest_folder("gauge").iterdir() if "disk" in p.name] == []
    assert "the disks may grow by 900 TiB" in lab("check").out


def test_two_files_with_one_lab_name_are_kept_apart(lab: Lab) -> None:
    lab.write(HEAD + "[guest.gauge]\ndisk = [{ size = '1 MiB' }]\nboot = { kernel = 'none' }\n" + GAUGE)
    lab("apply", code=3)
    other = lab.folder / "other.toml"
    other.write_text(HEAD)
    (lab.folder / "state/labs/saltmarsh/guests/gauge").mkdir(parents=True, exist_ok=True)
    (lab.folder / "state/labs/saltmarsh/lab.json").write_text(f'{{"version": 1, "lab_file": "{lab.file}"}}')
    done = lab("apply", "--lab", str(other), code=2)
    assert f"already kept from {lab.file}" in done.err


def test_a_bridge_on_an_interface_that_is_not_there_names_those_that_are(lab: Lab) -> None:
    lab.write(
        HEAD + '[network.quay]\nkind = "bridge"\ninterface = "quay7"\n[guest.gauge]\ndisk = [{ size = "1 GiB" }]\n'
        'adapter = [{ network = "quay" }]\n'
    )
    assert "this host has no interface quay7" in lab("check", code=1).out
    assert "this host has no interface quay7" in lab("apply", code=3).err


def test_diff_changes_nothing(lab: Lab) -> None:
    lab.write(
        HEAD.replace('subnet = "10.77.4.0/24"\n', "")
        + "[guest.gauge]\ndisk = [{ size = '1 GiB' }]\nadapter = [{ network = 'pier' }]\n"
    )
    before = lab.file.read_text()
    said = lab("diff").out
    assert "network pier: subnet = " in said and "create disk 0, 1 GiB" in said and "start" in said
    kinds = [c["change"] for c in lab("diff", "--json").json["changes"]]
    assert kinds == ["write-down", "write-down", "make-host-key", "make-disk", "write-seed", "start-guest"]
    assert lab.file.read_text() == before and not (lab.folder / "state").exists()


def test_connect_needs_a_door_a_login_and_a_running_guest(lab: Lab) -> None:
    lab.write(HEAD + "[guest.gauge]\ndisk = [{ size = '1 GiB' }]\n" + GAUGE)
    assert "dacha door add gauge ssh" in lab("connect", "gauge", code=2).err
    assert "did you mean gauge?" in lab("connect", "gague", code=2).err
    lab("door", "add", "gauge", "ssh")
    assert "has no login user" in lab("connect", "gauge", code=2).err
    assert "dacha start gauge" in lab("connect", "gauge", "--user", "ops", code=1).err
    assert "gauge is off" in lab("console", "gauge", code=1).err
    assert "gauge is off" in lab("pause", "gauge", code=1).err


def test_host_shows_what_is_promised(lab: Lab) -> None:
    lab.write(HEAD + "[guest.gauge]\nmemory = '900 GiB'\ncpus = 200\ndisk = [{ size = '1 GiB' }]\n" + GAUGE)
    done = lab("host")
    assert "900 GiB reserved by saltmarsh" in done.out and "accelerator" in done.out
    assert "the guests have 900 GiB of memory in total" in done.out and "200 virtual CPUs" in done.out
    found = lab("host", "--json").json
    assert (
        found["promised"]["memory_bytes"] == 900 << 30
        and found["accelerator"] in ("kvm", "tcg")
        and found["accelerator_why"]
    )


def test_where_a_guest_is_to_get_is_an_address_or_a_name(lab: Lab) -> None:
    lab.write('[lab]\nname = "pier"\n[guest.gauge]\nmemory = "64 MiB"\n')
    for to in ("[2001:db8::1", "[2001:db8::1]80", "[192.0.2.1]:80", "fe80::1%eth0", "192.0.2.1:x", "a b", "::1:"):
        assert "is not a machine" in lab("trace", "gauge", "--to", to, code=2).err
    for to in ("127.0.0.1:80", "::1", "[::1]:80", "localhost"):
        assert "is the guest itself" in lab("trace", "gauge", "--to", to, code=2).err
    assert "gauge to [2001:db8::1]:80" in lab("trace", "gauge", "--to", "[2001:DB8:0::1]:80", code=1).out
