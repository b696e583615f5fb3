"""A boot that has stopped: what its console shows is named, and a boot that continues is not called stopped."""

from __future__ import annotations

import pytest

from dacha.core.trace.causes.stopped_boot import stopped_boot
from dacha.core.trace.guest import boot
from tests.core.evidence import but
from tests.core.test_trace import KERNEL

EMERGENCY = """\
[  OK  ] Reached target paths.target - Path Units.
[ TIME ] Timed out waiting for device dev-vdz.device - /dev/vdz.
[DEPEND] Dependency failed for srv.mount - /srv.
[DEPEND] Dependency failed for local-fs.target - Local File Systems.
You are in emergency mode. After logging in, type "journalctl -xb" to view
system logs, "systemctl reboot" to reboot, or "exit"
to continue bootup.

"""
PROMPT = "Press Enter for maintenance\n(or press Control-D to continue): "
LOCKED = "Cannot open access to console, the root account is locked.\nSee sulogin(8) man page for more details.\n"
INITRAMFS = """\
Gave up waiting for root file system device.  Common problems:
ALERT!  LABEL=root does not exist.  Dropping to a shell!

BusyBox v1.35.0 (Debian 1:1.35.0-4+b3) built-in shell (ash)
Enter 'help' for a list of built-in commands.

(initramfs) """


@pytest.mark.parametrize(
    ("since_s", "means"), [(3.0, "it may still be starting"), (60.0, "one of: it is still starting")]
)
def test_a_silent_console_of_a_guest_that_was_just_started_is_no_fault_yet(since_s: float, means: str) -> None:
    e = but(KERNEL, direct=None, through=None, answered=None, seen_age_s=None)
    hop = boot(e._replace(run=e.run._replace(since_s=since_s, console_empty=True, booted="", shown="")))
    assert hop.means.startswith(means)


@pytest.mark.parametrize(
    ("console", "seen", "means", "remedy"),
    [
        (EMERGENCY + PROMPT, 'mode", after "Timed out waiting for device dev-vdz.device', "failed", "journalctl -xb"),
        (EMERGENCY + LOCKED, "emergency mode", "waits for an administrator", "root has no password"),
        (EMERGENCY + "[   99.1] audit: type=1130\n", "emergency mode", "failed", "dacha console gauge"),
        (INITRAMFS, '"(initramfs)", after "LABEL=root does not exist', "initial RAM disk", "dacha console gauge"),
        ("error: no such partition.\r\ngrub rescue> ", 'rescue>", after "no such partition"', "boot loader", "console"),
        ("Boot failed: not a bootable disk\r\n\r\nNo bootable device.\r\n", "No bootable device", "no disk", "show"),
        ("Please unlock disk tides: ", "Please unlock disk tides:", "passphrase", "type the passphrase"),
    ],
)  # fmt: skip
def test_what_stopped_a_boot_is_quoted(console: str, seen: str, means: str, remedy: str) -> None:
    found = stopped_boot(console, "gauge")
    assert found and seen in found.seen and means in found.means and remedy in found.remedy
    assert found.waits is ("passphrase" in means)


@pytest.mark.parametrize(
    "console",
    [
        "", "gauge login: ", EMERGENCY + "[  OK  ] Reached target multi-user.target\n", EMERGENCY + "\ngauge login: ",
        INITRAMFS + "exit\n[    0.0] Linux version 6.1.0\n", "Please unlock disk tides: \n[  OK  ] Started tides\n",
        "cryptsetup: Please unlock disk tides: \nset up successfully\n", "[FAILED] Failed to start tides.service\n",
    ],
)  # fmt: skip
def test_a_boot_that_continues_has_not_stopped(console: str) -> None:
    assert stopped_boot(console, "gauge") is None


def test_a_long_or_hostile_line_is_shortened_and_harmless() -> None:
    found = stopped_boot(f"ALERT!  {'x' * 500}\x1b]0;y\x07\n(initramfs) ", "gauge")
    assert found and len(found.seen) < 200 and "\x1b" not in found.seen
