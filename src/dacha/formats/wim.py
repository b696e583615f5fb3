"""The editions in a Windows image file (the published description of the Windows Imaging format): its header says where
a list of its images is, as XML in UTF-16."""

from __future__ import annotations

import re
import struct
from collections.abc import Callable

from dacha.core.named import NamedTuple

# The files with the system's images on an installation medium: compressed in the usual way, more, or in parts.
FILES = ("/sources/install.wim", "/sources/install.esd", "/sources/install.swm")
_HEADER, _XML_AT = 208, 72
# A real list has some kilobytes for each image.
_XML_MOST = 1 << 20
_COMPRESSED = 0x04
_IMAGE = re.compile(r'<IMAGE INDEX="(\d{1,4})"[^>]{0,200}>(.*?)</IMAGE>', re.S)
_FIELD = r"<{0}>\s*([^<>]{{1,200}}?)\s*</{0}>"


class Edition(NamedTuple):
    """An edition: its number in the file, its identifier ("Professional", "ServerStandard"), its name."""

    number: int
    edition: str
    name: str

    @property
    def remote_desktop(self) -> bool:
        """True if others can enter it by remote desktop: the home editions take no such connection."""
        return not self.edition.startswith("Core")


def editions(part: Callable[[int, int], bytes | None]) -> list[Edition]:
    """The editions in a file of which `part` gives a number of bytes from an offset; empty if it has no list."""
    header = part(0, _HEADER)
    if header is None or len(header) < _HEADER or not header.startswith(b"MSWIM\0\0\0"):
        return []
    packed, offset, size = struct.unpack_from("<QQQ", header, _XML_AT)
    # The first field is a length of seven bytes and one byte of flags.
    if (packed >> 56) & _COMPRESSED or not 0 < size <= _XML_MOST:
        return []
    return read_list((part(offset, size) or b"").decode("utf-16", "replace"))


def read_list(text: str) -> list[Edition]:
    """The editions in the XML of such a file."""
    found = []
    for index, body in _IMAGE.findall(text):
        edition, shown = _field("EDITIONID", body), _field("DISPLAYNAME", body) or _field("NAME", body)
        if edition:
            found.append(Edition(int(index), edition, shown or edition))
    return found


def _field(name: str, body: str) -> str:
    found = re.search(_FIELD.format(name), body)
    return found[1] if found else ""


def chosen(known: list[Edition], wanted: str | None, *, remote_desktop: bool) -> Edition | None:
    """The edition with the identifier, name or number `wanted`. Without one: the first that takes remote desktop if
    that is needed, else the first. None if no edition fits."""
    if wanted is not None:
        return next((e for e in known if wanted.lower() in (e.edition.lower(), e.name.lower(), str(e.number))), None)
    return next((e for e in known if e.remote_desktop or not remote_desktop), None)
