"""Runs `dacha` for the tests: a process that has loaded the program forks one for each command, which then does all
that the program does from its first line on. What loading it costs (three quarters of a quick command) is spent once;
that it is little is tests/cli/test_quick.py's to show, with the program itself.

A request is one JSON line with the three standard streams as descriptors behind it; the answers are the process's
number and, when it has ended, its exit code.
"""

from __future__ import annotations

import ctypes
import importlib
import io
import json
import os
import pkgutil
import selectors
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

LONGEST = 1 << 20
# They are programs by themselves.
_APART = ("dacha.__main__",)
_NEW_NETWORK, _NEW_MOUNTS = 0x40000000, 0x20000
_BIND, _RECURSIVE, _SLAVE, _DETACH = 4096, 16384, 1 << 19, 2


def load() -> None:
    """Load everything that a command may."""
    import dacha

    for module in pkgutil.walk_packages(dacha.__path__, "dacha."):
        if module.name not in _APART:
            importlib.import_module(module.name)


def enter(namespace: str) -> None:
    """Go where `ip netns exec` leads: a host's links, its /sys, its files of /etc (ip-netns(8))."""
    libc = ctypes.CDLL(None, use_errno=True)

    def done(result: int) -> None:
        if result:
            raise OSError(ctypes.get_errno(), namespace)

    def mount(source: str, target: str, kind: str | None, flags: int) -> None:
        done(libc.mount(source.encode(), target.encode(), kind.encode() if kind else None, flags, None))

    with open(f"/run/netns/{namespace}", "rb") as f:
        done(libc.setns(f.fileno(), _NEW_NETWORK))
    done(libc.unshare(_NEW_MOUNTS))
    mount("", "/", "none", _SLAVE | _RECURSIVE)
    libc.umount2(b"/sys", _DETACH)
    mount(namespace, "/sys", "sysfs", 0)
    own = Path("/etc/netns") / namespace
    for file in own.iterdir() if own.is_dir() else ():
        mount(str(file), f"/etc/{file.name}", None, _BIND)


def join(process: str) -> None:
    """Go where `nsenter -t PROCESS -m -n` leads (nsenter(1))."""
    libc = ctypes.CDLL(None, use_errno=True)
    with open(f"/proc/{process}/ns/net", "rb") as net, open(f"/proc/{process}/ns/mnt", "rb") as mounts:
        for opened, kind in ((net, _NEW_NETWORK), (mounts, _NEW_MOUNTS)):
            if libc.setns(opened.fileno(), kind):
                raise OSError(ctypes.get_errno(), process)


def run(told: dict[str, Any], streams: list[int]) -> None:
    """Be the program, from a fresh process."""
    os.setsid()
    for number, stream in enumerate(streams):
        os.dup2(stream, number)
    os.closerange(3, 64)
    if told["namespace"]:
        (join if told["namespace"].isdigit() else enter)(told["namespace"])
    os.chdir(told["cwd"])
    os.environ.clear()
    os.environ.update(told["env"])
    sys.argv = told["argv"]
    sys.stdin = open(0, encoding="utf-8", errors="surrogateescape", closefd=False)
    sys.stdout, sys.stderr = (
        io.TextIOWrapper(open(number, "wb", closefd=False), "utf-8", errors, line_buffering=number == 2)
        for number, errors in ((1, "surrogateescape"), (2, "backslashreplace"))
    )
    from dacha.cli.main import main

    code: object = 1
    try:
        code = main()
    except SystemExit as e:
        code = e.code
    finally:
        for written in (sys.stdout, sys.stderr):
            written.flush()
        os._exit(code if isinstance(code, int) else 0 if code is None else 1)


def serve(listening: socket.socket) -> None:
    """Take requests until it is ended."""
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)
    while True:
        asking, _ = listening.accept()
        if os.fork():
            asking.close()
            continue
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        listening.close()
        data, streams, _, _ = socket.recv_fds(asking, LONGEST, 3)
        child = os.fork()
        if not child:
            asking.close()
            run(json.loads(data), list(streams))
        for stream in streams:
            os.close(stream)
        asking.sendall(f"{child}\n".encode())
        code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
        asking.sendall(f"{code}\n".encode())
        os._exit(0)


class Zygote:
    """The process; call it as often as wanted."""

    def __init__(self, place: Path) -> None:
        self.place = place
        with socket.socket(socket.AF_UNIX) as listening:
            listening.bind(str(place))
            listening.listen(16)
            command = [sys.executable, "-P", __file__, str(listening.fileno())]
            self._process = subprocess.Popen(command, pass_fds=(listening.fileno(),), start_new_session=True)

    def __call__(
        self, argv: list[str], *, cwd: Path, env: dict[str, str], stdin: int, timeout: float, namespace: str | None
    ) -> subprocess.CompletedProcess[str]:
        """One command, as subprocess.run gives it back: it waits for whoever holds its output, too. Raises
        subprocess.TimeoutExpired."""
        told = {"argv": argv, "cwd": str(cwd), "env": env, "namespace": namespace}
        (out, out_end), (err, err_end) = os.pipe(), os.pipe()
        heard: dict[int, bytes] = {out: b"", err: b""}
        given = os.open(os.devnull, os.O_RDONLY) if stdin == subprocess.DEVNULL else os.dup(stdin)
        deadline = time.monotonic() + timeout
        try:
            with socket.socket(socket.AF_UNIX) as asking, selectors.DefaultSelector() as several:
                asking.connect(str(self.place))
                socket.send_fds(asking, [json.dumps(told).encode()], [given, out_end, err_end])
                for fd in (given, out_end, err_end):
                    os.close(fd)
                heard[asking.fileno()] = b""
                for fd in heard:
                    several.register(fd, selectors.EVENT_READ)
                while several.get_map():
                    left = deadline - time.monotonic()
                    if left <= 0:
                        os.killpg(int(heard[asking.fileno()].split()[0]), signal.SIGKILL)
                        raise subprocess.TimeoutExpired(argv, timeout, heard[out], heard[err])
                    for key, _ in several.select(left):
                        more = os.read(key.fd, 1 << 16)
                        heard[key.fd] += more
                        if not more:
                            several.unregister(key.fd)
                code = int(heard[asking.fileno()].split()[1])
        finally:
            os.close(out)
            os.close(err)
        texts = [heard[fd].decode("utf-8", "replace").replace("\r\n", "\n").replace("\r", "\n") for fd in (out, err)]
        return subprocess.CompletedProcess(argv, code, *texts)

    def close(self) -> None:
        self._process.terminate()
        self._process.wait()
        self.place.unlink(missing_ok=True)


if __name__ == "__main__":
    load()
    serve(socket.socket(fileno=int(sys.argv[1])))
