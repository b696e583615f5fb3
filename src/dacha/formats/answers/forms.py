"""The formats of answer files: the format of each family, how its installer gets it, and which function writes it."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from dacha.core.apply.answers import Answers
from dacha.core.named import NamedTuple
from dacha.formats.answers import alpine, bsd, debian, fedora, ubuntu, windows


def as_they_are(documents: Mapping[str, str]) -> dict[str, bytes]:
    """Each document as a separate file."""
    return {name: text.encode() for name, text in documents.items()}


class Form(NamedTuple):
    """The format of a family. `documents` creates the files by name; they go into the initrd of the medium's kernel
    (`kernels`: paths of kernel and initrd, started with `command_line`), or onto a volume named `volume`, which is a
    disk of the guest, or with `drive` in a drive. `pack` creates the volume's files; `by_hand` is the line to type if
    the installer does not find them by itself."""

    name: str
    documents: Callable[[Answers], dict[str, str]]
    kernels: tuple[tuple[str, str], ...] = ()
    command_line: str = ""
    in_initrd: bool = False
    volume: str | None = None
    drive: bool = False
    pack: Callable[[Mapping[str, str]], dict[str, bytes]] = as_they_are
    by_hand: str | None = None


FORMS = {
    "debian": Form("preseed", debian.documents, debian.KERNELS, debian.COMMAND_LINE, in_initrd=True),
    "ubuntu": Form("autoinstall", ubuntu.documents, ubuntu.KERNELS, ubuntu.COMMAND_LINE, volume="cidata"),
    "fedora": Form("kickstart", fedora.documents, volume="OEMDRV"),
    "alpine": Form("overlay", alpine.documents, volume="ANSWERS", pack=alpine.overlay),
    "windows": Form("unattended XML", windows.documents, volume="ANSWERS", drive=True),
    "bsd": Form(
        "installerconfig", bsd.documents, volume="ANSWERS",
        by_hand="mount -t cd9660 /dev/iso9660/ANSWERS /mnt && bsdinstall script /mnt/installerconfig",
    ),
}  # fmt: skip
