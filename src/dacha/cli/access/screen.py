"""dacha screen: a guest's display, which works even when the guest's own network does not."""

from __future__ import annotations

import argparse
import secrets
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dacha.cli import arguments
from dacha.cli.terminal import output
from dacha.core.errors import AnswerNo, HostError, UsageError

if TYPE_CHECKING:
    from dacha.engine.workspace import Workspace


# No characters that look alike, and none that differ between keyboard layouts.
_LETTERS = "abcdefghijkmnopqrstuvwx23456789"


def screen_arguments(parser: argparse.ArgumentParser) -> None:
    parser.description = (
        "A guest's display. Without a client: take a picture, read its text, send keys. For a VNC client it is on "
        "a UNIX socket\n"
        "of this user, or with --listen on TCP. The client needs the password, which is set now, and\n"
        "stored only with --keep."
    )
    arguments.guest(parser)
    parser.add_argument("--save", metavar="FILE.png", help="save a picture of the screen")
    parser.add_argument("--text", action="store_true", help="print a text-mode screen as text")
    parser.add_argument("--type", metavar="TEXT", help="type this text; \\n is the enter key")
    parser.add_argument("--press", metavar="KEY", nargs="+", help="press keys: enter, f2, ctrl-alt-delete")
    parser.add_argument(
        "--listen",
        metavar="host|lan|none",
        help="for a VNC client, listen on: loopback (host), the LAN, or only the UNIX socket (none)",
    )
    parser.add_argument(
        "--port",
        metavar="PORT",
        type=int,
        help="with --listen: the port (default: a free one from 5900 on); with --browser: the page's",
    )
    parser.add_argument(
        "--browser",
        action="store_true",
        help="serve it to a browser on this host, until the last viewer closes it",
    )
    parser.add_argument("--password", action="store_true", help="prompt for the password instead of generating one")
    parser.add_argument(
        "--keep", action="store_true", help="store the password: it is the same after the guest's next start"
    )
    parser.add_argument("--forget", action="store_true", help="delete the stored password")


def run_screen(args: argparse.Namespace) -> int:
    from dacha.cli.words import lab_or_applied
    from dacha.engine.lab.named import guest_named
    from dacha.hypervisor.command_line import QMP
    from dacha.hypervisor.monitor.qmp import Qmp

    if args.save and not args.save.lower().endswith(".png"):
        raise UsageError(
            f"--save: the picture is a PNG file, not {args.save}", remedy="choose a name that ends in .png"
        )
    ws = lab_or_applied(args)
    guest = guest_named(ws, args.guest)
    if args.listen not in (None, "host", "lan", "none"):
        raise UsageError(f"--listen: unknown value {args.listen!r}", remedy="choose host, lan or none")
    if not ws.home.is_running(guest.name) and not args.forget:
        raise AnswerNo(f"{guest.name} is off", remedy=f"dacha start {guest.name}")
    machine = ws.home.read(guest.name).machine
    if machine and not machine["video"]:
        raise AnswerNo(
            f"{guest.name} has no display",
            why="it was started with video = false",
            remedy=f"use its serial console: dacha console {guest.name}",
        )
    if args.forget:
        return _forget(args, ws)
    if args.browser:
        return _browser(args, ws)
    said: dict[str, Any] = {"guest": guest.name}
    with ws.home.lock("screen", ws.path), Qmp(ws.home.run(guest.name) / QMP) as qmp:
        _keys(args, qmp)
        if args.save:
            _save(args, qmp, ws.home.run(guest.name), said)
        if args.text:
            _text(args, qmp, ws.home.run(guest.name), said)
        if not (args.save or args.text or args.type or args.press):
            _listener(args, ws, qmp, said)
    if args.json:
        output.emit_json(said)
    return 0


def _forget(args: argparse.Namespace, ws: Workspace) -> int:
    from dacha.engine.screen import password as screen_password

    if not screen_password.forget(ws.home, args.guest):
        raise AnswerNo(f"no display password of {args.guest} is stored")
    if args.json:
        output.emit_json({"guest": args.guest})
    else:
        output.say(f"The stored password of {args.guest} was deleted. The display keeps it until the guest stops.")
    return 0


def _password(args: argparse.Namespace, ws: Workspace) -> str:
    """The password to set: one that somebody types, the stored one, or a new one."""
    from dacha.engine.screen import password as screen_password
    from dacha.hypervisor.live import screen

    if args.password:
        return _ask()
    made = "".join(secrets.choice(_LETTERS) for _ in range(screen.PASSWORD_LENGTH))
    return screen_password.stored(ws.home, args.guest) or made


def _browser(args: argparse.Namespace, ws: Workspace) -> int:
    """Serve the screen to browsers on this host until the last viewer has closed it."""
    import asyncio

    from dacha.engine.screen.browser import BrowserScreen, client_folder
    from dacha.hypervisor.command_line import QMP, SCREEN
    from dacha.hypervisor.live import screen
    from dacha.hypervisor.monitor.qmp import Qmp

    client = client_folder()
    password = _password(args, ws)
    with ws.home.lock("screen", ws.path), Qmp(ws.home.run(args.guest) / QMP) as qmp:
        screen.set_password(qmp, password)

    def ready(url: str) -> None:
        if args.json:
            output.emit_json({"guest": args.guest, "url": url})
        else:
            output.say(f"Open {url}\nThe address works once. This command ends with the last viewer, or with Ctrl-C.")
            _tunnel(url)
        sys.stdout.flush()

    served = BrowserScreen(args.guest, ws.home.run(args.guest) / SCREEN, password, client)
    asyncio.run(served.run(args.port or 0, ready))
    return 0


def _tunnel(url: str) -> None:
    """If this command was typed in an SSH session: the command that makes the page available on that client."""
    import getpass
    import os
    from urllib.parse import urlsplit

    words = os.environ.get("SSH_CONNECTION", "").split()
    if len(words) == 4:
        port, own = urlsplit(url).port, f"-p {words[3]} " if words[3] != "22" else ""
        tunnel = f"ssh -N -L {port}:127.0.0.1:{port} {own}{getpass.getuser()}@{words[2]}"
        output.say(f"You are connected by SSH: run this on your machine first, and open the address there:\n  {tunnel}")


def _keys(args: argparse.Namespace, qmp: Any) -> None:
    from dacha.hypervisor.live import keyboard, screen

    chords = keyboard.chords_of_text(args.type.replace("\\n", "\n")) if args.type else []
    chords += [keyboard.chord_of_name(k) for k in args.press or ()]
    screen.press(qmp, chords)


def _save(args: argparse.Namespace, qmp: Any, run: Path, said: dict[str, Any]) -> None:
    from dacha.host import folders
    from dacha.host.files import replace_file
    from dacha.hypervisor.live import screen

    path = folders.expand(args.save).absolute()
    if not path.parent.is_dir():
        raise HostError(f"the folder {path.parent} does not exist", remedy="create it, or save to another folder")
    png, width, height = screen.picture(qmp, run)
    replace_file(path, png)
    said["picture"] = {"file": str(path), "width": width, "height": height}
    if not args.json:
        output.say(f"Saved {path}, {width} x {height}.")


def _text(args: argparse.Namespace, qmp: Any, run: Path, said: dict[str, Any]) -> None:
    from dacha.hypervisor.live import screen

    said["text"] = screen.text(qmp, run)
    if not args.json:
        output.say("\n".join(said["text"]))


def _listener(args: argparse.Namespace, ws: Workspace, qmp: Any, said: dict[str, Any]) -> None:
    """Set a password, and open the requested listener."""
    from ipaddress import IPv4Address

    from dacha.engine.screen import password as screen_password
    from dacha.host.network import addresses
    from dacha.host.probe import ports
    from dacha.hypervisor.command_line import SCREEN
    from dacha.hypervisor.live import screen

    password = _password(args, ws)
    place = str(ws.home.run(args.guest) / SCREEN)
    if args.listen in ("host", "lan"):
        address = screen.ADDRESSES[args.listen]
        held = ports.listening()
        port = args.port or next(p for p in range(5900, 65536) if ("tcp", p) not in held)
        why = ports.why_not("tcp", IPv4Address(address), port)
        if why:
            raise HostError(
                f"port {port} of this host is not available: {why}", remedy="leave --port out: a free one is chosen"
            )
        # The password first: the display never listens without one.
        screen.set_password(qmp, password)
        screen.listen(qmp, args.listen, port)
        place = f"{addresses.lan_address() or address if args.listen == 'lan' else address}:{port}"
    else:
        screen.set_password(qmp, password)
        if args.listen == "none":
            screen.listen(qmp, None, None)
    if args.keep:
        screen_password.store(ws.home, args.guest, password)
    said |= {"vnc": place, "password": None if args.password else password}
    if args.json:
        return
    output.say(f"{'VNC display':<21}{place}")
    if not args.password:
        kept = screen_password.stored(ws.home, args.guest) == password
        until = "stored: the same after its next start" if kept else "until the next dacha screen sets another"
        output.say(f"{'password':<21}{password} ({until})")
    if args.listen == "lan":
        output.say(
            "Everybody on the LAN can try this password, and the picture crosses the LAN unencrypted.\n"
            f"To close it: dacha screen {args.guest} --listen none"
        )


def _ask() -> str:
    import getpass

    password = (
        getpass.getpass("Password for the display: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
    )
    if not 1 <= len(password) <= 8:
        raise UsageError("a VNC password has 1 to 8 characters", why="the protocol uses at most eight")
    return password
