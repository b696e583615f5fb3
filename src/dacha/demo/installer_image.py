"""A small installer medium, built from Debian packages with GRUB's ISO tool: it boots by BIOS and by UEFI, writes the
demo guest to the disk without questions, and restarts (or powers off)."""

from __future__ import annotations

import gzip
import subprocess
import tempfile
from collections.abc import Callable
from hashlib import sha256
from pathlib import Path

from dacha.core.errors import HostError
from dacha.demo import guest_image
from dacha.formats.linux import cpio
from dacha.host import folders
from dacha.host.facts import program
from dacha.host.files import locked

# A medium of this kind starts only if the space key is pressed within a few seconds, like some installers.
_ASK = """\
set timeout=8
set timeout_style=hidden
menuentry "nobody pressed a key" {{
  exit
}}
menuentry "{title}" --hotkey=" " {{
  linux /boot/vmlinuz {command_line}
  initrd /boot/initrd
}}
"""
_SERIAL = """\
serial --unit=0 --speed=115200
terminal_output console serial
"""
_MENU = """\
set timeout=0
menuentry "{title}" {{
  linux /boot/vmlinuz {command_line}
  initrd /boot/initrd
}}
"""


def installer_image(
    finish: str = "reboot", progress: Callable[[str], None] = lambda text: None, *, ask: bool = False
) -> Path:
    """The installer medium that ends with `finish`, created on first use; with `ask` it requires a key press. Raises
    HostError if a tool is missing."""
    tool = program("grub-mkrescue")
    if not tool or not program("xorriso") or not program("mformat"):
        raise HostError(
            "grub-mkrescue is not installed",
            why="it creates the installer medium",
            remedy="on Debian: apt install grub-common grub-pc-bin grub-efi-amd64-bin xorriso mtools",
        )
    made_by = b"".join(Path(file).read_bytes() for file in (__file__, str(guest_image.__file__)))
    source = b"".join(guest_image._own(n) for n in (*guest_image.OWN, "installer.sh")) + made_by
    folder = folders.make_private(folders.cache() / "demo-installer" / sha256(source).hexdigest()[:16])
    target = folder / f"saltmarsh-{finish}{'-ask' if ask else ''}.iso"
    with locked(folder / "lock", "dacha demo", 600.0):
        if not target.is_file():
            with tempfile.TemporaryDirectory(prefix="dacha-installer-") as temporary:
                _build(Path(temporary), tool, target, finish, ask, progress)
    return target


def _build(work: Path, tool: str, target: Path, finish: str, ask: bool, progress: Callable[[str], None]) -> None:
    root = guest_image.unpacked(progress)
    kernel = next((root / "boot").glob("vmlinuz-*")).read_bytes()
    progress("creating the disk contents to install")
    disk = installed_disk(work, tool)
    progress("creating the installer")
    entries = guest_image.entries(root)
    entries = [e for e in entries if e.path != "init"] + [
        cpio.file("init", guest_image._own("installer.sh"), 0o755),
        cpio.file("payload", disk.read_bytes()),
    ]
    part = target.with_suffix(".part")
    boot_medium(
        work / "installer",
        tool,
        part,
        "saltmarsh installer",
        kernel,
        cpio.archive(entries),
        f"{guest_image.COMMAND_LINE} finish={finish}",
        "SALTMARSH_INSTALL",
        ask=ask,
    )
    part.rename(target)


def installed_disk(work: Path, tool: str) -> Path:
    """A disk image from which the demo guest boots by BIOS and by UEFI."""
    disk, root = work / "disk.iso", guest_image.unpacked()
    kernel = next((root / "boot").glob("vmlinuz-*")).read_bytes()
    initrd = cpio.archive(guest_image.entries(root))
    boot_medium(
        work / "disk", tool, disk, "saltmarsh guest", kernel, initrd, guest_image.COMMAND_LINE, "SALTMARSH_GUEST"
    )
    return disk


def boot_medium(
    tree: Path,
    tool: str,
    out: Path,
    title: str,
    kernel: bytes,
    initrd: bytes,
    line: str,
    label: str,
    *,
    ask: bool = False,
) -> None:
    """Create a medium labelled `label` that boots `kernel` with the command line `line`, by BIOS and by UEFI. `tree` is
    a working folder; `initrd` is compressed if it is not; with `ask` it requires a key press. Raises HostError."""
    (tree / "boot/grub").mkdir(parents=True)
    (tree / "boot/vmlinuz").write_bytes(kernel)
    packed = initrd if initrd.startswith(b"\x1f\x8b") else gzip.compress(initrd, compresslevel=3, mtime=0)
    (tree / "boot/initrd").write_bytes(packed)
    menu = (_ASK if ask else _MENU).format(title=title, command_line=line)
    (tree / "boot/grub/grub.cfg").write_text(_SERIAL + menu)
    if ask:
        (tree / "boot/bootfix.bin").write_bytes(b"Press any key to boot from CD or DVD")
    modules = "linux normal iso9660 part_gpt part_msdos serial terminal search all_video"
    done = subprocess.run(
        [
            tool,
            f"--install-modules={modules}",
            "--locales=",
            "--fonts=",
            "--themes=",
            "-o",
            out,
            tree,
            "--",
            "-volid",
            label,
        ],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        raise HostError("grub-mkrescue failed", why="\n".join(done.stderr.splitlines()[-3:]))
