"""Remote desktop on a Linux guest, set up securely: packages, settings, and the commands that apply them.

TLS only, with a key that its server can read; a small desktop in a session of its own, so that a user at the console
with the same account does not leave it blank; no prompt of the colour manager; allowed accounts only.
"""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.named import NamedTuple

GROUP = "remote-desktop"
# A session that inherits the console's bus or runtime folder joins that one, and shows nothing.
_START = """\
#!/bin/sh
unset DBUS_SESSION_BUS_ADDRESS XDG_RUNTIME_DIR SESSION_MANAGER
[ -r /etc/profile ] && . /etc/profile
exec dbus-run-session -- icewm-session
"""
# Without this rule, the colour manager prompts remote desktop users for an administrator's password.
_RULE = """\
polkit.addRule(function (action, subject) {
  if (action.id.indexOf("org.freedesktop.color-manager.") == 0 && subject.isInGroup("remote-desktop")) {
    return polkit.Result.YES;
  }
});
"""
_PACKAGES = {
    "apt": ("xrdp", "xorgxrdp", "icewm", "xterm", "dbus-daemon", "ssl-cert"),
    "dnf": ("xrdp", "xorgxrdp", "icewm", "xterm", "dbus-daemon"),
}


class RemoteDesktop(NamedTuple):
    """What is needed: packages, files by path (each with its mode), and commands to run afterwards."""

    packages: tuple[str, ...]
    files: tuple[tuple[str, str, str], ...]
    commands: tuple[str, ...]


def remote_desktop(family: str, users: Iterable[str]) -> RemoteDesktop:
    """For a package family, "apt" or "dnf"; `users` are the allowed accounts."""
    commands = [
        "sed -i 's/^security_layer=.*/security_layer=tls/; s/^crypt_level=.*/crypt_level=high/' /etc/xrdp/xrdp.ini",
        "sed -i 's/^AllowRootLogin=.*/AllowRootLogin=false/; s/^AlwaysGroupCheck=.*/AlwaysGroupCheck=true/; "
        f"s/^TerminalServerUsers=.*/TerminalServerUsers={GROUP}/' /etc/xrdp/sesman.ini",
        f"getent group {GROUP} > /dev/null || groupadd --system {GROUP}",
        *(f"usermod --append --groups {GROUP} {user}" for user in users),
        # The package installs this file: it is overwritten.
        "install -m 0755 /etc/xrdp/startwm-lab.sh /etc/xrdp/startwm.sh",
    ]
    if family == "apt":
        commands.append("usermod --append --groups ssl-cert xrdp")
    else:
        commands.append("! command -v firewall-cmd > /dev/null || firewall-cmd --permanent --add-port=3389/tcp")
    commands += ["systemctl enable xrdp xrdp-sesman", "systemctl restart xrdp-sesman xrdp"]
    files = (
        ("/etc/xrdp/startwm-lab.sh", _START, "0755"),
        ("/etc/polkit-1/rules.d/45-remote-desktop.rules", _RULE, "0644"),
    )
    return RemoteDesktop(_PACKAGES[family], files, tuple(commands))
