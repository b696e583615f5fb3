"""The host layer on the real host: files, locks, processes, ports, links."""

import errno
import os
import socket
import subprocess
import sys
import threading
from ipaddress import IPv4Address
from pathlib import Path

import pytest

from dacha.core.errors import BusyError, HostError
from dacha.engine.side_by_side import side_by_side
from dacha.host import facts, files, folders, processes
from dacha.host.files import held
from dacha.host.network import addresses
from dacha.host.probe import ports
from dacha.host.probe.probing import probe_all
from dacha.hypervisor import accelerator
from dacha.hypervisor.images import images, making
from dacha.wire.probes import probe_for
from tests.networks.world import until


def test_a_file_is_written_whole_and_keeps_its_mode(tmp_path: Path) -> None:
    path = tmp_path / "f"
    files.replace_file(path, "one", mode=0o600)
    assert path.stat().st_mode & 0o777 == 0o600
    path.chmod(0o640)
    link = tmp_path / "link"
    link.symlink_to(path)
    files.replace_file(link, b"two", follow=True)
    assert path.read_bytes() == b"two" and path.stat().st_mode & 0o777 == 0o640 and link.is_symlink()
    files.replace_file(link, b"three")
    assert not link.is_symlink() and link.read_bytes() == b"three" and path.read_bytes() == b"two"
    assert [p.name for p in tmp_path.iterdir() if p.name.endswith(".part")] == []


def test_what_another_process_is_writing_is_not_swept_away(tmp_path: Path) -> None:
    """The caretaker writes its files while a command clears what a killed one left: it is not to lose its own."""
    left, link = tmp_path / ".f.0123456789ab.part", tmp_path / ".g.0123456789ab.part"
    left.write_text("half")
    link.symlink_to(tmp_path / "elsewhere")
    sweeper = subprocess.Popen(
        [sys.executable, "-c", "import sys; from pathlib import Path; from dacha.host.files import sweep\n"
         "print(flush=True)\nwhile True: sweep(Path(sys.argv[1]))", tmp_path], stdout=subprocess.PIPE,
    )  # fmt: skip
    try:
        assert sweeper.stdout and sweeper.stdout.readline()
        for number in range(400):
            files.replace_file(tmp_path / "f", f"{number}")
            assert (tmp_path / "f").read_text() == f"{number}"
    finally:
        sweeper.kill()
        sweeper.wait()
    files.sweep(tmp_path)
    assert [p.name for p in tmp_path.iterdir()] == ["f"]


def test_a_full_disk_leaves_the_old_file_and_says_what_to_do(tmp_path: Path) -> None:
    script = (
        "from pathlib import Path; from dacha.host.files import replace_file; from dacha.core.errors import HostError\n"
        f"f = Path({str(tmp_path)!r}) / 'f'; replace_file(f, 'old')\n"
        "try: replace_file(f, b'x' * 100_000)\n"
        "except HostError as e: print(e.why, '|', e.remedy, '|', f.read_text(), len(list(f.parent.iterdir())))"
    )
    done = subprocess.run(
        [
            "unshare",
            "-rm",
            "sh",
            "-c",
            'mount -t tmpfs -o size=32k small "$0" && exec "$1" -c "$2"',
            tmp_path,
            sys.executable,
            script,
        ],
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stdout == "No space left on device | free some space there | old 1\n"
    said = files.refused(Path("/x"), OSError(errno.ENOSPC, "No space left on device"))
    assert "No space" in said.why and "free some space" in said.remedy


def test_a_lock_names_its_holder_and_ends_with_it(tmp_path: Path) -> None:
    lock = tmp_path / "lock"
    holder = subprocess.Popen(
        [
            sys.executable,
            "-c",
            "import sys; from pathlib import Path; from dacha.host.files import locked\n"
            f"with locked(Path({str(lock)!r}), 'dacha apply', 1.0): print('held', flush=True); sys.stdin.read()",
        ],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
    )
    assert holder.stdout is not None and holder.stdout.readline() == b"held\n"
    told: list[str] = []
    with (
        pytest.raises(BusyError, match=f"dacha apply \\(process {holder.pid}\\)"),
        files.locked(lock, "x", 0.1, told.append),
    ):
        pass
    assert told == [f"dacha apply (process {holder.pid})"]
    holder.kill()
    holder.wait()
    with files.locked(lock, "x", 1.0):
        pass


def test_edits_of_one_file_wait_for_each_other(tmp_path: Path) -> None:
    path = tmp_path / "n"
    path.write_text("0")

    def add() -> None:
        for _ in range(20):
            with files.editing(path):
                files.replace_file(path, str(int(path.read_text()) + 1))

    threads = [threading.Thread(target=add) for _ in range(4)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert path.read_text() == "80"


def test_a_process_is_not_mistaken_for_a_later_one_with_its_id() -> None:
    child = subprocess.Popen(["sleep", "60"])
    seen = processes.identify(child.pid)
    assert seen is not None and processes.alive(seen)
    stale = seen._replace(start=seen.start - 1)
    assert not processes.alive(stale)
    processes.kill(stale)
    processes.kill(seen._replace(boot="another"))
    assert child.poll() is None, "only the process meant is ended"
    assert not processes.wait_gone(seen, 0.05)
    processes.kill(seen)
    child.wait(timeout=60)
    assert processes.wait_gone(seen, 1.0) and processes.identify(child.pid) is None


def test_a_noted_process_is_one_or_none() -> None:
    assert processes.process_from([812, 5, "boot"]) == processes.Process(812, 5, "boot")
    for value in (None, 5, "x", [], {}, [812], ["812", 5, "boot"], [812, None, "boot"], [812, 5.0, "boot"]):
        assert processes.process_from(value) is None, value


def test_a_process_is_there_until_its_last_thread_has_ended(tmp_path: Path) -> None:
    """Its first thread may end before: the state of a zombie, and all its files and locks."""
    lock = tmp_path / "lock"
    code = (
        "import ctypes, fcntl, sys, threading; held = open(sys.argv[1], 'w'); fcntl.flock(held, fcntl.LOCK_EX)\n"
        "threading.Thread(target=sys.stdin.read).start()\nprint(flush=True)\nctypes.CDLL(None).pthread_exit(None)"
    )
    child = subprocess.Popen([sys.executable, "-c", code, lock], stdin=subprocess.PIPE, stdout=subprocess.PIPE)
    assert child.stdout and child.stdin and child.stdout.readline()
    until(lambda: ") Z " in Path(f"/proc/{child.pid}/stat").read_text())
    seen = processes.identify(child.pid)
    assert held(lock) and seen is not None and processes.alive(seen) and not processes.wait_gone(seen, 0.05)
    child.stdin.close()
    assert processes.wait_gone(seen, 60.0) and not held(lock) and processes.identify(child.pid) is None
    child.wait()


def test_a_held_port_names_its_holder() -> None:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        s.listen()
        port = s.getsockname()[1]
        why = ports.why_not("tcp", IPv4Address("127.0.0.1"), port)
        assert why is not None and f"process {os.getpid()}" in why
        assert ports.why_not("tcp", IPv4Address("0.0.0.0"), port) is not None
        assert ("tcp", port) in ports.listening()
    assert ports.why_not("tcp", IPv4Address("127.0.0.1"), port) is None
    assert "no address 192.0.2.77" in str(ports.why_not("tcp", IPv4Address("192.0.2.77"), port))


def test_probes_find_what_listens_and_what_does_not() -> None:
    def serve(server: socket.socket, words: bytes) -> None:
        connection, _ = server.accept()
        with connection:
            connection.sendall(words)
            connection.recv(100)

    with socket.socket() as ssh, socket.socket() as mute, socket.socket() as gone:
        for s in (ssh, mute, gone):
            s.bind(("127.0.0.1", 0))
        ssh.listen()
        mute.listen()
        threading.Thread(target=serve, args=(ssh, b"SSH-2.0-x\r\n"), daemon=True).start()
        targets = [(n, *s.getsockname(), probe_for("ssh")) for n, s in (("ssh", ssh), ("mute", mute), ("gone", gone))]
        targets.append(("plain", *mute.getsockname(), probe_for(None)))
        found = {k: (v.ok, v.seen) for k, v in probe_all(targets, 0.5).items()}
    assert found == {
        "ssh": (True, "SSH-2.0-x"),
        "mute": (False, "no answer"),
        "gone": (False, "refuses"),
        "plain": (True, "accepts"),
    }


def test_private_folders_are_private(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    made = folders.make_private(tmp_path / "a" / "b")
    assert made.stat().st_mode & 0o777 == 0o700
    (tmp_path / "file").write_text("")
    with pytest.raises(HostError):
        folders.make_private(tmp_path / "file" / "c")
    with pytest.raises(HostError, match="another user"):
        folders.make_private(Path("/proc/sys")) if os.geteuid() else folders.make_private(_foreign(tmp_path))
    monkeypatch.setenv("DACHA_STATE", "/somewhere")
    assert folders.state() == Path("/somewhere")
    monkeypatch.delenv("DACHA_STATE")
    monkeypatch.setenv("XDG_STATE_HOME", "relative is ignored")
    monkeypatch.setattr(os, "geteuid", lambda: 1000)
    assert folders.state() == Path.home() / ".local/state/dacha"
    monkeypatch.setattr(os, "geteuid", lambda: 0)
    assert folders.state() == Path("/var/lib/dacha")


def _foreign(tmp_path: Path) -> Path:
    folder = tmp_path / "theirs"
    folder.mkdir()
    os.chown(folder, 12345, 12345)
    return folder


def test_facts_are_those_of_this_host(tmp_path: Path) -> None:
    found = facts.facts([tmp_path / "not" / "yet"])
    assert (
        found.cpus >= 1 and found.memory > found.memory_free > 0 and found.disk_free[str(tmp_path / "not" / "yet")] > 0
    )
    assert facts.program("sh") and facts.program("no-such-program") is None
    shown = subprocess.run(["ip", "-4", "route", "show", "table", "main"], capture_output=True, text=True, check=True)
    nets = {line.split()[0] for line in shown.stdout.splitlines() if "/" in line.split()[0]}
    assert {str(net) for net in addresses.used_subnets()} == nets


def test_the_accelerator_is_chosen_with_a_reason() -> None:
    assert accelerator.choose("tcg").name == "tcg"
    auto = accelerator.choose("auto")
    assert auto.name in ("kvm", "tcg") and auto.why
    if auto.name == "kvm":
        assert os.access("/dev/kvm", os.R_OK | os.W_OK)
    else:
        assert "software emulation" in auto.why


def test_disks_are_made_whole_or_not_at_all(tmp_path: Path) -> None:
    base = tmp_path / "base.qcow2"
    making.create(base, size=1 << 20, base=None, full=False)
    found = images.inspect(base)
    assert (found.format, found.size) == ("qcow2", 1 << 20)
    making.create(tmp_path / "over", size=None, base=found, full=False)
    assert images.inspect(tmp_path / "over", [tmp_path]).size == 1 << 20
    making.create(tmp_path / "full", size=1 << 20, base=None, full=True)
    with pytest.raises(HostError, match="smaller than its image"):
        making.create(tmp_path / "small", size=1 << 10, base=found, full=False)
    with pytest.raises(HostError, match="no space"):
        making.create(tmp_path / "vast", size=1 << 60, base=None, full=True)
    assert sorted(p.name for p in tmp_path.iterdir()) == ["base.qcow2", "full", "over"]


@pytest.mark.parametrize("content", [b"<html>404</html>", b"", b"x" * 1024])
def test_what_is_no_image_is_refused(tmp_path: Path, content: bytes) -> None:
    (tmp_path / "i.img").write_bytes(content)
    with pytest.raises(HostError, match="not a disk image"):
        images.inspect(tmp_path / "i.img")
    with pytest.raises(HostError, match="no image"):
        images.inspect(tmp_path / "none.img")


def test_a_raw_disk_with_a_boot_sector_is_an_image(tmp_path: Path) -> None:
    (tmp_path / "raw").write_bytes(bytes(510) + b"\x55\xaa" + bytes(1 << 20))
    assert images.inspect(tmp_path / "raw").format == "raw"


def test_every_shell_finds_the_run_folder_that_was_made_first(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A login shell, cron and a unit have different variables; the guests' sockets are where they are."""
    for name in ("DACHA_RUN", "DACHA_STATE", "XDG_STATE_HOME"):
        monkeypatch.delenv(name, raising=False)
    session, home = tmp_path / "session", tmp_path / "home"
    for folder in (session, home):
        folder.mkdir()
        os.chown(folder, 65534, 65534)
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.setattr(os, "geteuid", lambda: 65534)
    monkeypatch.setenv("XDG_RUNTIME_DIR", str(session))
    assert folders.run() == session / "dacha" and not home.joinpath(".local").exists()
    (session / "dacha").mkdir()
    os.chown(session / "dacha", 65534, 65534)
    state = home / ".local/state/dacha"
    state.mkdir(parents=True)
    os.chown(state, 65534, 65534)
    assert folders.make_run() == session / "dacha"
    monkeypatch.delenv("XDG_RUNTIME_DIR")
    assert folders.run() == session / "dacha", "noted beside the state"
    os.chown(session / "dacha", 65533, 65533)
    assert folders.run() == Path("/tmp/dacha-65534"), "another's is not taken"
    (session / "dacha").rmdir()
    assert folders.run() == Path("/tmp/dacha-65534"), "gone with the session"


@pytest.mark.parametrize("most", [4096, 200])
def test_more_doors_are_probed_than_files_may_be_open(most: int) -> None:
    """The limit is raised as far as it may be; else they are probed in rounds."""
    probed = """
import resource, socket, sys
from dacha.host.probe.probing import probe_all
from dacha.engine.side_by_side import side_by_side
from dacha.wire.probes import probe_for

resource.setrlimit(resource.RLIMIT_NOFILE, (160, int(sys.argv[1])))
with socket.create_server(("127.0.0.1", 0), backlog=8) as closed:
    port = closed.getsockname()[1]
answers = probe_all([(n, "127.0.0.1", port, probe_for("ssh")) for n in range(600)], 5.0)
print(len(answers), {v.seen for v in answers.values()})
"""
    done = subprocess.run([sys.executable, "-c", probed, str(most)], capture_output=True, text=True, check=False)
    assert done.stdout == "600 {'refuses'}\n", done


def test_questions_are_asked_side_by_side_and_answered_in_order() -> None:
    together = threading.Barrier(4, timeout=20)

    def question(n: int) -> int:
        together.wait()
        return n * n

    assert side_by_side(question, range(8), 4) == [n * n for n in range(8)]
    with pytest.raises(ZeroDivisionError):
        side_by_side(lambda n: 1 // n, [3, 2, 1, 0], 2)


def test_a_fleeting_lock_is_gone_afterwards_and_excludes_everybody_meanwhile(tmp_path: Path) -> None:
    path, log = tmp_path / "lock", tmp_path / "log"
    code = (
        "import sys\nfrom pathlib import Path\nfrom dacha.host.files import locked\n"
        "for n in range(60):\n"
        f"    with locked(Path({str(path)!r}), 'counting', 30.0, fleeting=True):\n"
        f"        log = Path({str(log)!r})\n"
        "        number = int(log.read_text() or 0) if log.exists() else 0\n"
        "        log.write_text(str(number + 1))\n"
    )
    commands = [subprocess.Popen([sys.executable, "-c", code]) for _ in range(4)]
    assert [c.wait(120) for c in commands] == [0] * 4
    assert log.read_text() == "240" and not path.exists()
