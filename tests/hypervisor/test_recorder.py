"""The record of a console: all of it while it is short, its end when it is long, whatever the guest does."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from dacha.core.lab.model import Limits
from dacha.host import cgroup
from dacha.hypervisor import recorder


def test_a_record_keeps_its_end_and_does_not_grow(tmp_path: Path) -> None:
    files = [tmp_path / "one", tmp_path / "two"]
    fds = [os.open(f, os.O_RDWR | os.O_APPEND | os.O_CREAT, 0o600) for f in files]
    pipes = [os.pipe() for _ in files]
    words = [f"{pipe[0]}:{fd}" for pipe, fd in zip(pipes, fds, strict=True)]
    command = [sys.executable, "-I", "-S", recorder.__file__, str(os.geteuid()), str(os.getegid()), *words]
    keep = [*fds, *(p[0] for p in pipes)]
    with subprocess.Popen(command, pass_fds=keep) as child:
        for fd in keep:
            os.close(fd)
        os.write(pipes[1][1], b"short\n")
        line = b"tide 1.93 m at the pier, and nobody to read it\n"
        for n in range(0, 40 << 20, 47 * 1000):
            os.write(pipes[0][1], line * 1000)
            assert files[0].stat().st_size <= 2 * recorder.MOST + recorder.CHUNK, n
        os.write(pipes[0][1], b"last line\n")
        for _, writing in pipes:
            os.close(writing)
        assert child.wait(20) == 0
    assert files[1].read_bytes() == b"short\n"
    kept = files[0].read_bytes()
    assert recorder.MOST <= len(kept) <= 2 * recorder.MOST and kept.endswith(line + b"last line\n")
    print(f"of 40 MiB printed {len(kept) >> 20} MiB are kept")


def test_a_guests_group_has_its_limits(tmp_path: Path) -> None:
    """The tree is a folder here, as this kernel's has no controllers: what would be written into it is looked at."""
    (tmp_path / "cgroup.controllers").write_text("cpuset cpu io memory pids\n")
    assert cgroup.missing(tmp_path) is None
    limits = cgroup.limits_for(1 << 30, 2, emulated=False)
    written = Limits(memory=3 << 30, processes=64, weight=20)
    assert cgroup.limits_for(1 << 30, 2, written, emulated=True) == written
    cgroup.confine(4711, "saltmarsh", "gauge", limits, tmp_path)
    group = tmp_path / "dacha/saltmarsh/gauge"
    assert (group / "memory.max").read_text() == str((1 << 30) + (512 << 20))
    assert (group / "pids.max").read_text() == "258" and (group / "cpu.weight").read_text() == "100"
    assert (group / "cgroup.procs").read_text() == "4711"
    assert (tmp_path / "dacha/saltmarsh/cgroup.subtree_control").read_text() == "+memory +pids +cpu"
    (tmp_path / "cgroup.controllers").write_text("")
    assert cgroup.missing(tmp_path) == "cgroup v2 has no controller for memory, pids, cpu here"
    assert cgroup.missing(tmp_path / "none") == "this host does not use cgroup v2"
