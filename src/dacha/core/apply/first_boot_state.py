"""How far a guest's first boot is, from what its software writes on the serial console."""

from __future__ import annotations

import re

from dacha.core.named import NamedTuple

# A boot is begun and ended by these lines; Dacha asks who reads its data to say the last, and its own scripts say it.
_BEGUN = re.compile(r"Cloud-init v\. \S+ running '(init|modules)")
_DONE = re.compile(r"first boot: done|Cloud-init v\. .{1,60} finished at")
_FAILED = re.compile(r"Running module ([a-z_-]+) .{0,200}failed|first boot: failed at ([^\r\n]{1,200})")
DONE_WORDS = "first boot: done after $UPTIME s"
# The parts of first-boot data by the module that takes them up, as the lab file calls them.
_PARTS = {
    "package-update-upgrade-install": "packages", "package_update_upgrade_install": "packages",
    "scripts-user": "commands", "scripts_user": "commands", "users-groups": "users", "users_groups": "users",
    "write-files": "files", "write_files": "files", "write-files-deferred": "files", "ssh": "host key",
    "set-passwords": "passwords", "set_passwords": "passwords", "locale": "locale", "timezone": "time zone",
    "keyboard": "keyboard", "apt-configure": "mirror", "apt_configure": "mirror",
}  # fmt: skip


class FirstBootState(NamedTuple):
    """`state` is "running", "done", "failed", or "unknown" where nothing on the console tells; `failed_at` names the
    parts that failed, each once, also while the others go on."""

    state: str
    failed_at: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        """What is worth saying of it beside a guest's state; "" for what is over and done, or not known."""
        parts = ", ".join(self.failed_at)
        if self.failed_at:
            return (
                f"first boot running; failed so far: {parts}"
                if self.state == "running"
                else f"first boot finished; failed: {parts}"
            )
        return "first boot" if self.state == "running" else ""


def first_boot_state(console: str) -> FirstBootState:
    """The state by what a guest's last start has put on its console."""
    failed = tuple(dict.fromkeys(_PARTS.get(m[1], m[1]) if m[1] else m[2].strip() for m in _FAILED.finditer(console)))
    if _BEGUN.search(console) and not _DONE.search(console):
        return FirstBootState("running", failed)
    if failed:
        return FirstBootState("failed", failed)
    return FirstBootState("done" if _DONE.search(console) else "unknown")
