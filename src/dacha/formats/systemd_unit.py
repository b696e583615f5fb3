"""The unit by which a host's service manager keeps a program running (systemd.service(5), systemd.syntax(7))."""

from __future__ import annotations

from collections.abc import Mapping, Sequence


def service(description: str, command: Sequence[str], environment: Mapping[str, str], *, system: bool) -> str:
    """The unit's text. `system` says whether it is the host's own or one user's."""
    settings = [f"Environment={_word(f'{key}={value}')}" for key, value in environment.items()]
    lines = [
        "[Unit]",
        f"Description={description.replace('%', '%%')}",
        *(["After=network-online.target", "Wants=network-online.target"] if system else []),
        "",
        "[Service]",
        f"ExecStart={' '.join(_word(word) for word in command)}",
        *settings,
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
    """One word, quoted where it has to be; "%" begins a specifier and "$" a variable."""
    plain = text.replace("\\", "\\\\").replace('"', '\\"').replace("%", "%%").replace("$", "$$")
    return f'"{plain}"' if any(c in plain for c in " \t'\";\\") else plain
