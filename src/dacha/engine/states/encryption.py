"""Change the passphrase of an encrypted disk, and where it comes from.

The image has the new passphrase beside the old one until the lab file names the new source: whenever a command is
killed, the source that is recorded opens the disk.
"""

from __future__ import annotations

from dacha.core.errors import AnswerNo, UsageError
from dacha.core.lab.text.edits import Set
from dacha.engine.disks.disks import attached, source_of
from dacha.engine.lab.edit import edit_lab
from dacha.engine.lab.named import guest_named
from dacha.engine.lab.proposals import written_path
from dacha.engine.workspace import Workspace
from dacha.hypervisor.images import chain, passphrases
from dacha.hypervisor.images.image_tool import alone, run_with
from dacha.hypervisor.images.passphrases import ASK, CREDENTIAL


def change(named: str | None, ws: Workspace, guest: str, disk: str | None, to: str) -> tuple[Workspace, str]:
    """Change the passphrase of a disk to the one from `to`, and write that source into the lab file: the new workspace,
    and the disk. The lab's lock must be held. Raises UsageError, AnswerNo, HostError, LabError."""
    home, found = ws.home, guest_named(ws, guest)
    names = [d.name for d in found.disks]
    name = disk or next((d.name for d in found.disks if d.passphrase), "")
    if name not in names:
        what = f"{guest} has no {f'disk {disk}' if disk else 'encrypted disk'}"
        raise UsageError(what, remedy=f"dacha guest show {guest}")
    link = home.disk(guest, name)
    if not link.exists() or chain.passphrase_source(link) is None:
        raise UsageError(
            f"disk {name} of {guest} is not encrypted",
            why="a disk is encrypted from its creation on" if link.exists() else "it does not exist yet",
            remedy='set passphrase = "ask" for a disk that does not exist yet',
        )
    if attached(home, guest):
        raise AnswerNo(f"{guest} is on, and uses the disk", remedy=f"dacha stop {guest}, then change the passphrase")
    written = to if to == ASK or to.startswith(CREDENTIAL) else written_path(ws, to)
    at = names.index(name)
    source = source_of(ws, found.disks[at]._replace(passphrase=written)) or ASK
    old, what = chain.key(link), chain.words(link)
    if source == ASK:
        passphrases.forget()
    new = passphrases.passphrase(source, what, new=True)
    image = link.resolve()
    failed = f"cannot change the passphrase of {what}"
    work = f"encrypt.iter-time={passphrases.WORK_MS}"
    if new != old:
        added = f"encrypt.state=active,encrypt.new-secret=new,{work}"
        run_with({"key": old, "new": new}, ["amend", "-o", added, *alone(image, old)], failed, write=[image])
    ws = edit_lab(named, lambda before: [Set(("guest", guest, "disk", at, "passphrase"), written)])
    chain.note(link, source)
    if new != old:
        gone = "encrypt.state=inactive,encrypt.old-secret=key"
        run_with({"key": old, "new": new}, ["amend", "-o", gone, *alone(image, new, "new")], failed, write=[image])
    return ws, name
