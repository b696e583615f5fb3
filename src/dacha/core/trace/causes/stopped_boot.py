"""Why a boot has stopped and waits for a person, as the last output on the guest's serial console shows it."""

from __future__ import annotations

import re

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple

# After one of these messages the boot continues, whatever was shown before.
_GOES_ON = re.compile(r"login: ?$|Reached target|Linux version|^Welcome to |Started ", re.M)
# What failed before, the first of them: systemd's marks, initramfs-tools, GRUB, fsck.
_FAILED = (
    re.compile(r"\[ *(?:FAILED|TIME|DEPEND) *\] *([^\r\n]+)"),
    re.compile(r"ALERT! +([^\r\n]+)"),
    re.compile(r"(UNEXPECTED INCONSISTENCY[^\r\n]*)"),
    re.compile(r"^error: ([^\r\n]+)", re.M),
)
# The longest part of a message that is shown.
_SHOWN = 100
# The message of sulogin(8) in a system whose root has no password.
_LOCKED = re.compile(r"root account is locked")


class _Sign(NamedTuple):
    """A message that is the last one of a boot; what it means, and what to do. {guest} stands for the guest's name. A
    `waits` one only waits for input: that is no failure."""

    shown: re.Pattern[str]
    means: str
    remedy: str
    waits: bool = False


_SIGNS = (
    _Sign(
        re.compile(r"You are in (?:emergency|rescue) mode|Entering emergency mode"),
        "its boot has failed, and its console waits for an administrator",
        "dacha console {guest}, and log in there as root: journalctl -xb shows the error",
    ),
    _Sign(
        re.compile(r"^\(initramfs\)|^dracut:/#", re.M),
        "its boot has stopped in its initial RAM disk, before its system started",
        "dacha console {guest} opens the shell there\nto see its disks: dacha guest show {guest}",
    ),
    _Sign(
        re.compile(r"^grub(?: rescue)?>", re.M),
        "its boot loader did not find what to start",
        "dacha console {guest} opens the boot loader's prompt\nto see its disks: dacha guest show {guest}",
    ),
    _Sign(
        re.compile(r"No bootable device|No bootable option or device was found|^Shell> ?\Z", re.M),
        "its firmware found no disk or medium to start from",
        "to see its disks and media: dacha guest show {guest}",
    ),
    _Sign(
        re.compile(r"(?:Please unlock disk|[Ee]nter passphrase for)[^\r\n]*\Z"),
        "it waits for the passphrase of an encrypted disk",
        "dacha console {guest}, and type the passphrase",
        waits=True,
    ),
)  # fmt: skip


class StoppedBoot(NamedTuple):
    """A boot that does not continue by itself: what its console shows, what that means, and what to do. `waits` is true
    if it only waits for input."""

    seen: str
    means: str
    remedy: str
    waits: bool


def stopped_boot(console: str, guest: str) -> StoppedBoot | None:
    """Whether the boot of a guest has stopped, by its console's last output without escape sequences."""
    text = console.rstrip()
    last, sign = max(
        ((found, sign) for sign in _SIGNS for found in sign.shown.finditer(text)), key=lambda x: x[0].start(),
        default=(None, None),
    )  # fmt: skip
    if last is None or sign is None or _GOES_ON.search(text, last.end()):
        return None
    seen = f'its console shows "{_line(text, last)}"'
    if failed := _failed_before(text[: last.start()]):
        seen += f', after "{failed}"'
    remedy = sign.remedy.format(guest=guest)
    if _LOCKED.search(text, last.start()):
        remedy = (
            f"its root has no password, so its console admits nobody: repair its disk from another system, or restore "
            f"a snapshot\nto see them: dacha snapshot list {guest}"
        )
    return StoppedBoot(seen, sign.means, remedy, sign.waits)


def _line(text: str, found: re.Match[str]) -> str:
    """A message up to the end of its sentence or line."""
    end = re.compile(r"[\r\n]|\. |\Z").search(text, found.start())
    return _short(text[found.start() : end.start() if end else len(text)])


def _failed_before(text: str) -> str:
    found = [m for pattern in _FAILED if (m := pattern.search(text))]
    return _short(min(found, key=lambda m: m.start())[1]) if found else ""


def _short(text: str) -> str:
    line = harmless(text).strip().rstrip(".")
    return line if len(line) <= _SHOWN else f"{line[: _SHOWN - 1]}…"
