"""Editions in Windows image files: a list as the format describes it, and files that lie."""

import struct

from hypothesis import given
from hypothesis import strategies as st

from dacha.formats.wim import Edition, chosen, editions, read_list

NAMES = (("Core", "Pier 11 Home"), ("Professional", "Pier 11 Pro"), ("Enterprise", ""))


def wim(images: tuple[tuple[str, str], ...] = NAMES, *, flags: int = 0, claimed: int | None = None) -> bytes:
    """A file with a header, some content, and its list of images at the end."""
    body = "".join(
        f'<IMAGE INDEX="{n}"><NAME>{name or edition}</NAME><WINDOWS><ARCH>9</ARCH><EDITIONID>{edition}</EDITIONID>'
        f"<LANGUAGES><LANGUAGE>en-US</LANGUAGE></LANGUAGES></WINDOWS></IMAGE>"
        for n, (edition, name) in enumerate(images, 1)
    )
    xml = f"\ufeff<WIM><TOTALBYTES>1</TOTALBYTES>{body}</WIM>".encode("utf-16-le")
    content = b"packed" * 1000
    size = len(xml) if claimed is None else claimed
    header = b"MSWIM\0\0\0".ljust(72, b"\0") + struct.pack("<QQQ", size | flags << 56, 208 + len(content), size)
    return header.ljust(208, b"\0") + content + xml


def read(data: bytes) -> list[Edition]:
    return editions(lambda at, size: data[at : at + size])


def test_the_editions_are_those_of_the_list() -> None:
    found = read(wim())
    assert found == [(1, "Core", "Pier 11 Home"), (2, "Professional", "Pier 11 Pro"), (3, "Enterprise", "Enterprise")]
    assert [e.remote_desktop for e in found] == [False, True, True]
    assert (
        chosen(found, None, remote_desktop=True) == found[1] and chosen(found, None, remote_desktop=False) == found[0]
    )
    for wanted in ("professional", "Pier 11 Pro", "2"):
        assert chosen(found, wanted, remote_desktop=False) == found[1]
    assert chosen(found, "Ultimate", remote_desktop=False) is None and chosen([], None, remote_desktop=False) is None


def test_a_file_that_lies_has_none() -> None:
    assert read(wim(flags=0x04)) == read(wim(claimed=1 << 40)) == read(wim(claimed=0)) == read(b"w") == read(b"") == []
    assert editions(lambda at, size: None) == [] and read(wim()[:300]) == []
    assert read_list('<IMAGE INDEX="1"><NAME>x</NAME></IMAGE>') == []


@given(st.binary(max_size=400), st.integers(0, 400))
def test_any_bytes_are_read_without_an_error(noise: bytes, at: int) -> None:
    data = wim()
    read(data[:at] + noise + data[at + len(noise) :])
    read(b"MSWIM\0\0\0" + noise)
