"""Network installation: which files of the network's folder start an installer, and the boot loaders' menus."""

from __future__ import annotations

import re
from collections.abc import Sequence

from dacha.core.named import NamedTuple
from dacha.formats.answers import debian

# The file with a guest's answers that its boot loader appends to the installer's initrd.
ARCHIVE = "answers.cpio"
# Requests below this path refer to files of the requesting guest.
OWN = "answers"
# The menus, by the boot loaders' file names.
GRUB, SYSLINUX = "grub.cfg", "pxelinux.cfg"
_SAFE = re.compile(r"[A-Za-z0-9_.,:/=@%+-]+")


class NetworkStart(NamedTuple):
    """The network installation of a family: paths of kernel and initrd as distributed, best first; the kernel's command
    line, in which `{answers}` is the HTTP address of the guest's answers, `{mirror}` the package mirror, `{iso}` the
    address of the medium in the folder. With `in_initrd`, the answers are a second initrd."""

    kernels: tuple[tuple[str, str], ...]
    command_line: str
    in_initrd: bool = False

    @property
    def needs_mirror(self) -> bool:
        return "{mirror}" in self.command_line

    @property
    def needs_iso(self) -> bool:
        return "{iso}" in self.command_line


# Debian installation guide 4.5; Ubuntu server documentation, "netboot the server installer"; Anaconda boot options.
NETWORK_STARTS = {
    "debian": NetworkStart(
        (
            ("debian-installer/amd64/linux", "debian-installer/amd64/initrd.gz"),
            ("install.amd/vmlinuz", "install.amd/initrd.gz"),
            ("linux", "initrd.gz"),
            ("vmlinuz", "initrd.gz"),
        ),
        debian.COMMAND_LINE,
        in_initrd=True,
    ),
    "ubuntu": NetworkStart(
        (("casper/vmlinuz", "casper/initrd"), ("amd64/linux", "amd64/initrd"), ("vmlinuz", "initrd")),
        "ip=dhcp url={iso} autoinstall ds=nocloud;s={answers}/ console=tty0 console=ttyS0,115200 ---",
    ),
    "fedora": NetworkStart(
        (("images/pxeboot/vmlinuz", "images/pxeboot/initrd.img"), ("vmlinuz", "initrd.img")),
        "inst.ks={answers}/ks.cfg inst.repo={mirror} inst.text console=tty0 console=ttyS0,115200",
    ),
}


def menus(kernel: str, initrds: Sequence[str], command_line: str) -> dict[str, str]:
    """The menus that start this kernel at once, by file name. Paths are relative to the folder."""
    words = " ".join(_for_grub(word) for word in command_line.split())
    grub = f"set timeout=0\nmenuentry install {{\n  linux /{kernel} {words}\n"
    grub += f"  initrd {' '.join(f'/{i}' for i in initrds)}\n}}\n"
    # Two colons: from the top, wherever the boot loader is.
    files = ",".join(f"::{i}" for i in initrds)
    syslinux = f"default install\nprompt 0\nlabel install\n  kernel ::{kernel}\n  initrd {files}\n"
    return {GRUB: grub, SYSLINUX: f"{syslinux}  append {command_line}\n"}


def _for_grub(word: str) -> str:
    """A word in GRUB's language, where a semicolon ends a command and a dollar sign starts a variable: single quotes
    disable both."""
    return word if _SAFE.fullmatch(word) else "'" + word.replace("'", "'\\''") + "'"


def own_file(asked: str) -> str | None:
    """The guest's own file for a request of a boot loader or an installer; None for one of the folder's. GRUB requests
    its menu as grub.cfg, with and without the client's address; the others request files in a folder pxelinux.cfg."""
    parts = [p for p in asked.replace("\\", "/").split("/") if p and p != "."]
    if not parts:
        return None
    if len(parts) > 1 and parts[-2] == SYSLINUX:
        return SYSLINUX
    if parts[-1] == GRUB or parts[-1].startswith(f"{GRUB}-"):
        return GRUB
    return parts[1] if len(parts) == 2 and parts[0] == OWN else None
