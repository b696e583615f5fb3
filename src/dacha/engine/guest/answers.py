"""The answer file of a guest's installer: whether there is one, and its generated files."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from dacha.core.apply.answers import DISK_BY_BUS, Answers
from dacha.core.apply.machine import MachineBoot
from dacha.core.errors import HostError, UsageError
from dacha.core.lab.model import Guest
from dacha.core.named import NamedTuple
from dacha.core.plan.plan import Plan
from dacha.engine.guest.first_boot import first_boot_facts
from dacha.engine.guest.install import disk_written, pending
from dacha.engine.guest.passwords import hashes, needs_plain, plain
from dacha.engine.lab.named import guest_named
from dacha.engine.media.media import medium_path
from dacha.engine.network import install_files
from dacha.engine.shares import smb
from dacha.engine.workspace import Workspace
from dacha.host import folders
from dacha.host.files import replace_file

if TYPE_CHECKING:
    from dacha.formats.answers.forms import Form

# Limits for the size of an installer's kernel and initrd on a medium.
KERNEL_MOST, INITRD_MOST = 64 << 20, 256 << 20
VOLUME = "answers.iso"
OVER_NETWORK = "over its boot network, to its own address only"
HIDDEN = "(stored by Dacha, passed to the guest only)\n"


def form_of(ws: Workspace, guest: Guest) -> Form | None:
    """The answer format of the guest's installer; None if it gets no answers: it is already installed, has no login
    user, the lab file disables them, its medium supports none, or its disk is not empty (only an installation in
    progress overwrites it)."""
    if not taken(guest) or not pending(ws, guest.name, ws.home.read(guest.name)) or why_none(ws, guest):
        return None
    return _forms()[family(ws, guest)]


def _forms() -> dict[str, Form]:
    """The table of formats, imported only for installations."""
    from dacha.formats.answers.forms import FORMS

    return FORMS


def taken(guest: Guest) -> bool:
    """True for a guest whose installer gets answers, if its medium supports them."""
    return bool(guest.install and guest.answers and guest.login and guest.disks and not guest.boot)


def family(ws: Workspace, guest: Guest) -> str:
    """The family of the system on the guest's medium; "" if the medium does not tell. For a network installation, the
    lab file's."""
    if guest.by_network:
        return guest.system
    facts = _facts(ws, guest)
    found = str(facts.get("family") or "")
    # One of the BSDs supports answers; the media of the others have other labels.
    return "another BSD" if found == "bsd" and "_RELEASE_" not in str(facts.get("label")) else found


def _facts(ws: Workspace, guest: Guest) -> dict[str, Any]:
    from dacha.engine.media.media_facts import inspect
    from dacha.engine.media.media_store import Store

    written = guest.install or ""
    kept = None if "/" in written else Store(ws.lab).find(written)
    if kept:
        return kept.facts
    path = ws.resolve(written)
    return inspect(path) if path.is_file() else {}


def folder(ws: Workspace, name: str) -> Path:
    """The folder of files generated for the guest's installer."""
    return ws.home.guest(name) / "answers"


def direct_boot(ws: Workspace, guest: Guest) -> MachineBoot | None:
    """The kernel that starts the guest's installation; None if its medium is booted instead."""
    form = form_of(ws, guest)
    if form is None or not form.kernels or guest.by_network:
        return None
    where = folder(ws, guest.name)
    return {
        "kernel": str(where / "kernel"),
        "initrd": str(where / "initrd"),
        "command_line": form.command_line,
        "once": True,
    }


def volume(ws: Workspace, guest: Guest) -> Path | None:
    """The volume with the answers, which the guest has as a disk during its installation; None if there is none."""
    form = form_of(ws, guest)
    wanted = form and form.volume and not form.drive and not guest.by_network
    return folder(ws, guest.name) / VOLUME if wanted else None


def drive(ws: Workspace, guest: Guest) -> list[str | None]:
    """A further drive, for an installer that looks for its answers in one; empty after the installation."""
    if guest.system != "windows" or not taken(guest):
        return []
    form = form_of(ws, guest)
    return [str(folder(ws, guest.name) / VOLUME) if form and form.drive else None]


def documents(ws: Workspace, plan: Plan, guest: Guest, form: Form, *, secrets: bool) -> dict[str, str]:
    """The answer files by name; without `secrets`, passwords and the private host key are omitted."""
    try:
        private = (ws.home.guest(guest.name) / "host_key").read_text()
    except OSError:
        private = ""
    known = hashes(ws.home, guest.name)
    answers = Answers(
        facts=first_boot_facts(ws, plan, guest),
        disk=DISK_BY_BUS[guest.disks[0].bus],
        bus=guest.disks[0].bus,
        firmware=guest.firmware,
        host_key_private=private if secrets else HIDDEN,
        passwords=known if secrets else dict.fromkeys(known, "*"),
        plain=plain(ws.home, guest.name) if secrets else {},
        share_password=smb.password(ws.home, guest.name) if secrets else "*",
        remote_desktop=bool(guest.setup.remote_desktop) or any(d.service == "rdp" for d in guest.doors),
        image=_image(ws, guest),
        further_medium=bool(guest.media),
        product_key=(guest.product_key if secrets else HIDDEN.strip()) if guest.product_key else None,
    )
    return form.documents(answers)


def _image(ws: Workspace, guest: Guest) -> int:
    """The number of the edition to install, on a medium with several."""
    if guest.system != "windows":
        return 1
    from dacha.engine.media.editions import edition_of

    edition = edition_of(ws, guest)
    return edition.number if edition else 1


def write(ws: Workspace, guest: Guest) -> None:
    """Create the files for the guest's installer at this start. Raises HostError."""
    form = form_of(ws, guest)
    if form is None:
        return
    from dacha.formats.iso_image import iso_image
    from dacha.formats.linux import cpio

    texts = documents(ws, ws.plan, guest, form, secrets=True)
    where = folders.make_private(folder(ws, guest.name))
    if guest.by_network:
        _write_for_network(ws, guest, form, texts)
        return
    kernel, initrd = _kernel(ws, guest, form)
    if form.in_initrd:
        # A kernel unpacks several archives in sequence; each begins at a multiple of four bytes.
        more = cpio.archive(cpio.file(name, text.encode()) for name, text in texts.items())
        initrd += bytes(-len(initrd) % 4) + more
    if kernel:
        replace_file(where / "kernel", kernel)
        replace_file(where / "initrd", initrd, mode=0o600)
    if form.volume:
        image = iso_image(form.volume, form.pack(texts))
        replace_file(where / VOLUME, image, mode=0o600)


def _write_for_network(ws: Workspace, guest: Guest, form: Form, texts: dict[str, str]) -> None:
    """The boot loader's menu, and the answers: in a second initrd, or as files served by HTTP."""
    from dacha.formats.answers.network_start import ARCHIVE, NETWORK_STARTS, OWN, menus
    from dacha.formats.linux import cpio
    from dacha.wire.http import quote

    start, network = NETWORK_STARTS[guest.system], install_files.network_of(ws.lab, guest)
    assert network is not None
    found = install_files.kernel_and_initrd(ws, network, start)
    assert found is not None
    here = f"http://{ws.plan.networks[network.name].gateway}"
    iso = quote(install_files.medium(ws, network) or "")
    line = start.command_line.format(answers=f"{here}/{OWN}", mirror=guest.setup.mirror, iso=f"{here}/{iso}")
    files = form.pack(texts)
    initrds = [found[1]]
    if start.in_initrd:
        files = {ARCHIVE: cpio.archive(cpio.file(name, text.encode()) for name, text in texts.items())}
        initrds.append(f"{OWN}/{ARCHIVE}")
    where = folders.make_private(install_files.folder(ws, guest.name))
    for name, data in files.items():
        replace_file(where / name, data, mode=0o600)
    for name, text in menus(found[0], initrds, line).items():
        replace_file(where / name, text, mode=0o600)


def _kernel(ws: Workspace, guest: Guest, form: Form) -> tuple[bytes, bytes]:
    """The installer's kernel and initrd, from the medium; empty if the medium itself is booted."""
    from dacha.hypervisor.images.read_medium import read_medium_files

    if not form.kernels:
        return b"", b""
    path = medium_path(ws, guest.install or "")
    try:
        for kernel, initrd in form.kernels:
            found = read_medium_files(path, {kernel: KERNEL_MOST, initrd: INITRD_MOST})
            if found:
                return found[kernel], found[initrd]
    except OSError as e:
        raise HostError(f"cannot read {path}", why=e.strerror or str(e)) from e
    raise HostError(
        f"{guest.install} has no kernel in the usual places of its family",
        where=str(path),
        why=f"looked for {', '.join(k for k, _ in form.kernels)}",
        remedy=f"install by hand: answers = false for guest {guest.name}, then dacha screen or console",
    )


class Made(NamedTuple):
    """A guest's answers: their format, how the installer gets them, and the documents by name."""

    form: str
    given: str
    documents: dict[str, str]


def answers_of(ws: Workspace, name: str, *, secrets: bool = False) -> Made:
    """The answers for the guest's installer, also after its installation. Raises UsageError with the reason if there
    are none."""
    guest = guest_named(ws, name)
    if not guest.install:
        raise UsageError(f"{name} is not installed from a medium", remedy="install = MEDIUM in the lab file")
    why = why_none(ws, guest)
    if why:
        raise UsageError(f"no answer file exists for the installer of {name}: {why[0]}", remedy=why[1])
    form = _forms()[family(ws, guest)]
    how = OVER_NETWORK if guest.by_network else given(form)
    return Made(form.name, how, documents(ws, ws.plan, guest, form, secrets=secrets))


def given(form: Form) -> str:
    """How the installer gets its answers, in words."""
    if form.by_hand:
        return f"on a volume {form.volume}; type at its shell: {form.by_hand}"
    if form.in_initrd:
        return "in the initrd of the medium's kernel"
    kernel = ", with the kernel of the medium" if form.kernels else ""
    return f"{'in a drive' if form.drive else 'on a disk'} of its own, a volume {form.volume}{kernel}"


def why_none(ws: Workspace, guest: Guest) -> tuple[str, str] | None:
    """Why a guest with an installation medium gets no answers, and the remedy; None if it gets some."""
    if not guest.answers:
        return "the lab file says answers = false", f"dacha guest edit {guest.name} --unset answers"
    if not guest.login:
        return "no login user is set", f"dacha guest edit {guest.name} --user ops --key FILE.pub"
    if guest.boot or not guest.disks:
        return "it starts a kernel directly" if guest.boot else "it has no disk", "add a disk, and remove the key boot"
    if guest.by_network and (why := install_files.why_not(ws, guest)):
        return why
    found = family(ws, guest)
    if found not in _forms():
        takes = ", ".join(sorted(_forms()))
        return f"the system of {guest.install} is {found or 'unknown'}", f"families with answer files: {takes}"
    record = ws.home.read(guest.name)
    # The generated files exist from the first such start to the end of the installation.
    begun, first = folder(ws, guest.name).is_dir(), guest.disks[0]
    used = first.base is not None or disk_written(ws.home, guest.name, first.name)
    if record.installed != guest.install and not begun and used:
        return "its disk is not empty, and the installer would overwrite it", "use a new disk"
    if needs_plain(guest) and guest.login.user not in plain(ws.home, guest.name) and pending(ws, guest.name, record):
        return f"{guest.login.user} needs a password there", f"dacha guest password {guest.name}"
    return None
