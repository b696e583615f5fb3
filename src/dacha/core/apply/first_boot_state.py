"""The progress of a guest's first boot, from what its software prints on the serial console."""

from __future__ import annotations

import re

from dacha.core.named import NamedTuple

# Lines that mark the begin and end of a boot. Dacha's first-boot data makes the guest print the last one.
_BEGUN = re.compile(r"Cloud-init v\. \S+ running '(init|modules)")
_DONE = re.compile(r"first boot: done|Cloud-init v\. .{1,60} finished at")
_FAILED = re.compile(r"Running module ([a-z_-]+) .{0,200}failed|first boot: failed at ([^\r\n]{1,200})")
DONE_WORDS = "first boot: done after $UPTIME s"
# Modules of the guest's first-boot software, with the lab file's name for what each applies.
_PARTS = {
    "package-update-upgrade-install": "packages", "package_update_upgrade_install": "packages",
    "scripts-user": "commands", "scripts_user": "commands", "users-groups": "users", "users_groups": "users",
    "write-files": "files", "write_files": "files", "write-files-deferred": "files", "ssh": "host key",
    "set-passwords": "passwords", "set_passwords": "passwords", "locale": "locale", "timezone": "time zone",
    "keyboard": "keyboard", "apt-configure": "mirror", "apt_configure": "mirror",
    "ntp": "time servers",
}  # fmt: skip


class FirstBootState(NamedTuple):
    """`state` is "running", "done", "failed", or "unknown" if the console does not tell; `failed_at` lists the failed
    parts, also while others are still running."""

    state: str
    failed_at: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        """A description to show beside the guest's state; "" if it is done or unknown."""
        parts = ", ".join(self.failed_at)
        if self.failed_at:
            return (
                f"first boot running; failed so far: {parts}"
                if self.state == "running"
                else f"first boot finished; failed: {parts}"
            )
        return "first boot" if self.state == "running" else ""


def first_boot_state(console: str) -> FirstBootState:
    """The state, from the console output since the guest's last start."""
    failed = tuple(dict.fromkeys(_PARTS.get(m[1], m[1]) if m[1] else m[2].strip() for m in _FAILED.finditer(console)))
    if _BEGUN.search(console) and not _DONE.search(console):
        return FirstBootState("running", failed)
    if failed:
        return FirstBootState("failed", failed)
    return FirstBootState("done" if _DONE.search(console) else "unknown")
