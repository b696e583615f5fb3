"""The unit that keeps a program running under systemd (systemd.service(5), systemd.syntax(7))."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

# Restrictions of the host's own service (systemd.exec(5)). Kernel settings, control groups and disk folders stay
# writable, because it needs them; guests' emulators, which it starts, generate code.
_SHUT = """\
UMask=0077
NoNewPrivileges=yes
ProtectSystem=full
ProtectClock=yes
ProtectHostname=yes
ProtectKernelLogs=yes
ProtectKernelModules=yes
RestrictNamespaces=yes
RestrictRealtime=yes
RestrictSUIDSGID=yes
RestrictAddressFamilies=AF_UNIX AF_INET AF_INET6 AF_NETLINK AF_PACKET
LockPersonality=yes
SystemCallArchitectures=native
SystemCallFilter=~@clock @cpu-emulation @debug @module @mount @obsolete @raw-io @reboot @swap
SystemCallErrorNumber=EPERM"""


def service(
    description: str,
    command: Sequence[str],
    environment: Mapping[str, str],
    *,
    system: bool,
    capabilities: Sequence[str] = (),
    at_stop: Sequence[str] = (),
    stop_s: float = 90.0,
) -> str:
    """The unit's text. `system` is true for a unit of the host, false for one of a user; the host's has only these
    capabilities. `at_stop` is a command that runs before it is stopped; both have `stop_s` seconds for that."""
    settings = [f"Environment={_setting(f'{key}={value}')}" for key, value in environment.items()]
    if system:
        settings.append("CapabilityBoundingSet=" + " ".join(f"CAP_{c.upper()}" for c in capabilities))
        settings += _SHUT.splitlines()
    lines = [
        "[Unit]",
        f"Description={description.replace('%', '%%')}",
        *(["After=network-online.target", "Wants=network-online.target"] if system else []),
        "",
        "[Service]",
        f"ExecStart={' '.join(_word(word) for word in command)}",
        *([f"ExecStop={' '.join(_word(word) for word in at_stop)}"] if at_stop else []),
        *settings,
        f"TimeoutStopSec={stop_s:.0f}",
        "Restart=always",
        "RestartSec=1",
        "# Guests outlive it: only the process itself is ended with it.",
        "KillMode=process",
        "",
        "[Install]",
        f"WantedBy={'multi-user' if system else 'default'}.target",
    ]
    return "\n".join(lines) + "\n"


def _word(text: str) -> str:
    """One word of a command, in which "$" begins a variable."""
    return _setting(text.replace("$", "$$"))


def _setting(text: str) -> str:
    """One word, quoted if necessary; "%" begins a specifier."""
    plain = text.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%")
    return f'"{plain}"' if any(c in plain for c in " \t'\";\\") else plain
