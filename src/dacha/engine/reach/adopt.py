"""Taking over a machine that exists: one login with a password adds the lab's keys; from then on keys open it."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from dacha.core.errors import AnswerNo, HostError, UsageError
from dacha.core.inside.adopted import Adopted, read_answers, script
from dacha.core.lab.names import host_name
from dacha.core.named import NamedTuple
from dacha.core.plan.doors import entered_at
from dacha.engine.guest.keys import key_lines
from dacha.engine.inside.run import NO_LOGIN
from dacha.engine.inside.ssh import refuse_unless_on, ssh_command
from dacha.engine.inside.through import has_ssh_door
from dacha.engine.lab.named import guest_named
from dacha.engine.network.live import live_plan
from dacha.engine.reach.host_key import accept, shown_key
from dacha.engine.workspace import Workspace
from dacha.formats.openssh import fingerprint, known_hosts
from dacha.host import folders
from dacha.host.bounded import run_bounded
from dacha.host.facts import program
from dacha.host.network.addresses import lan_address

# How long the machine may take to start its SSH server, and to run the script (seconds).
BOOT_S, SCRIPT_S, AGAIN_S = 300.0, 180.0, 1.0


class Shown(NamedTuple):
    """The host key that the machine presents, and its fingerprint."""

    line: str
    fingerprint: str


def wait_for_key(ws: Workspace, name: str, waiting: Callable[[], None]) -> Shown:
    """The machine's host key, once its SSH server presents it; `waiting` is called again and again. Raises AnswerNo if
    it does not, UsageError for a guest without an ssh door."""
    deadline = time.monotonic() + BOOT_S
    while True:
        refuse_unless_on(ws, name)
        line = shown_key(ws, name)
        if line:
            return Shown(line, fingerprint(line))
        if time.monotonic() > deadline:
            raise AnswerNo(f"{name} presents no Ed25519 host key", remedy=f"see: dacha trace {name}")
        waiting()
        time.sleep(AGAIN_S)


def refuse(ws: Workspace, name: str) -> None:
    """Raise UsageError for a guest without an ssh door, AnswerNo for one that is not on."""
    if not has_ssh_door(guest_named(ws, name)):
        raise UsageError(f"{name} has no ssh door", remedy=f"dacha door add {name} ssh --from host, then dacha apply")
    refuse_unless_on(ws, name)


def adopt(ws: Workspace, name: str, user: str, password: str, key: Shown, keys: Sequence[str]) -> Adopted:
    """Log in with a password, to the server with this host key and no other; add `keys` to the account, and
    trust the host key. Raises AnswerNo for a wrong password, or keys that cannot be added: then nothing is trusted."""
    guest = guest_named(ws, name)
    lines = key_lines(ws, keys)
    door = next(d for d in guest.doors if d.service == "ssh")
    place = entered_at(live_plan(ws).doors[name, door.name], lan_address())
    ssh = program("ssh")
    if place is None or ssh is None:
        raise HostError("ssh is not installed", remedy="on Debian: apt install openssh-client")
    alias = host_name(ws.lab.name, name)
    with _asking(password, known_hosts([([alias], key.line)])) as (folder, env):
        options = {
            "UserKnownHostsFile": str(folder / "known"), "GlobalKnownHostsFile": "/dev/null", "HostKeyAlias": alias,
            "StrictHostKeyChecking": "yes", "CheckHostIP": "no", "HostKeyAlgorithms": "ssh-ed25519",
            "PubkeyAuthentication": "no", "PreferredAuthentications": "password,keyboard-interactive",
            "NumberOfPasswordPrompts": "1", "ConnectTimeout": "60", "LogLevel": "ERROR",
        }  # fmt: skip
        argv = [ssh, "-F", "/dev/null", "-p", str(place[1]), "-l", user]
        argv += [word for item in options.items() for word in ("-o", f"{item[0]}={item[1]}")]
        done = run_bounded([*argv, str(place[0]), "--", "sh"], SCRIPT_S, given=script(lines), env=env)
    found = read_answers(done.text)
    if found is None:
        said = (done.text.strip().splitlines() or ["no answer"])[-1]
        refused = done.code == NO_LOGIN
        what = f"{name} refuses {user} with this password" if refused else f"{name} did not run the script"
        remedy = "check user and password; the server may refuse passwords (PasswordAuthentication no)"
        raise AnswerNo(what, why=said, remedy=remedy if refused else f"see its console: dacha console {name}")
    if found.refused or not (found.added or found.had):
        raise AnswerNo(f"{name} did not store the key", why=f"the key file of {user} cannot be written")
    accept(ws, name, key.line)
    return found


def opens(ws: Workspace, name: str) -> bool:
    """Whether the lab's key opens the machine now."""
    argv = ssh_command(ws, name, ["true"], user=None, terminal=False)
    return run_bounded([argv[0], "-o", "BatchMode=yes", *argv[1:]], SCRIPT_S).code == 0


@contextmanager
def _asking(password: str, known: str) -> Iterator[tuple[Path, dict[str, str]]]:
    """A folder of this user alone with the server's key and the program that tells ssh the password (ssh(1),
    SSH_ASKPASS), and the environment for it. The password is in no argument list and no environment, and gone after."""
    folders.make_run()
    folder = Path(tempfile.mkdtemp(prefix="adopt-", dir=folders.run()))
    try:
        (folder / "known").write_text(known)
        teller = '#!/bin/sh\nexec cat "${0%/*}/word"\n'
        for file, text, mode in (("word", password + "\n", 0o600), ("tell", teller, 0o700)):
            with open(os.open(folder / file, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode), "w") as f:
                f.write(text)
        env = {k: v for k, v in os.environ.items() if not k.startswith("SSH_")}
        yield folder, env | {"SSH_ASKPASS": str(folder / "tell"), "SSH_ASKPASS_REQUIRE": "force", "DISPLAY": ":0"}
    finally:
        shutil.rmtree(folder, ignore_errors=True)
