"""What media are said to be: made here with the labels and layouts of each family, whole and damaged."""

import io
from collections.abc import Mapping

import pycdlib
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from dacha.formats.disk.boot_sectors import boot_sectors
from dacha.formats.medium import inspect_iso, is_iso, looks_like_web_page


def made(label: str, files: Mapping[str, bytes], *, bios: bool = False, uefi: bool = False) -> bytes:
    """An ISO image with these files and boot entries; its names in Rock Ridge, and Joliet where the label fits."""
    iso = pycdlib.PyCdlib()
    joliet = len(label) <= 16
    iso.new(interchange_level=3, vol_ident=label, joliet=3 if joliet else None, rock_ridge="1.09")
    folders: set[str] = set()
    content = dict(files)
    if bios:
        content["/boot.bin"] = b"boot" * 512
    if uefi:
        content["/efi.img"] = b"efi." * 512

    def plain(path: str) -> str:
        return "/".join(p.upper().replace(".", "_").replace("-", "_")[:8] for p in path.split("/"))

    for path, data in content.items():
        parts = path.strip("/").split("/")
        for n in range(1, len(parts)):
            folder = "/" + "/".join(parts[:n])
            if folder not in folders:
                folders.add(folder)
                iso.add_directory(plain(folder), rr_name=parts[n - 1], joliet_path=folder if joliet else None)
        iso.add_fp(
            io.BytesIO(data), len(data), plain(path) + ".;1", rr_name=parts[-1], joliet_path=path if joliet else None
        )
    if bios:
        iso.add_eltorito("/BOOT_BIN.;1", boot_load_size=4)
    if uefi:
        iso.add_eltorito("/EFI_IMG.;1", boot_load_size=4, platform_id=0xEF, efi=True) if bios else iso.add_eltorito(
            "/EFI_IMG.;1", boot_load_size=4, platform_id=0xEF
        )
    out = io.BytesIO()
    iso.write_fp(out)
    iso.close()
    return out.getvalue()


BOTH = {"bios": True, "uefi": True}
INFO = "/.disk/info"
TREE = b"[general]\nfamily = Fedora\nversion = 40\narch = %s\n"
NETINST = b'Debian GNU/Linux 12.5.0 "Bookworm" - Official %s NETINST'
EFI = "/EFI/BOOT/BOOTX64.EFI"
# Name, image, what it is: family, version, architecture, boots by BIOS, by UEFI.
MEDIA = {
    "debian netinst": (
        made(
            "Debian 12.5.0 amd64 n",
            {INFO: NETINST % b"amd64"},
            bios=True,
            uefi=True,
        ),
        ("debian", "12.5.0", "amd64", True, True),
    ),
    "debian for another processor": (
        made("Debian 12.5.0 arm64 n", {INFO: NETINST % b"arm64"}, uefi=True),
        ("debian", "12.5.0", "arm64", False, True),
    ),
    "ubuntu server": (
        made(
            "Ubuntu-Server 24.04 LTS",
            {INFO: b'Ubuntu-Server 24.04 LTS "Noble Numbat" - Release amd64'},
            bios=True,
            uefi=True,
        ),
        ("ubuntu", "24.04", "amd64", True, True),
    ),
    "fedora kin": (
        made(
            "Fedora-S-dvd-x86_64-40",
            {"/.treeinfo": TREE % b"x86_64"},
            bios=True,
            uefi=True,
        ),
        ("fedora", "40", "amd64", True, True),
    ),
    "fedora kin, arm": (
        made("Fedora-S-dvd-aarch64-40", {"/.treeinfo": TREE % b"aarch64"}, uefi=True),
        ("fedora", "40", "arm64", False, True),
    ),
    "alpine": (
        made("alpine-std 3.19.1 x86_64", {"/boot/k": b"k"}, **BOTH),
        ("alpine", "3.19.1", "amd64", True, True),
    ),
    "windows client": (
        made(
            "CCCOMA_X64FRE_EN-US_DV9",
            {"/sources/boot.wim": b"w", "/boot/bootfix.bin": b"b", EFI: b"e"},
            bios=True,
            uefi=True,
        ),
        ("windows", "", "amd64", True, True),
    ),
    "windows server": (
        made("SSS_X64FREE_EN-US_DV9", {"/sources/install.wim": b"w", EFI: b"e"}, **BOTH),
        ("windows", "", "amd64", True, True),
    ),
    "bsd": (
        made("14_0_RELEASE_AMD64_CD", {"/boot/kernel/kernel": b"k"}, **BOTH),
        ("bsd", "14.0", "amd64", True, True),
    ),
    "another bsd": (
        made("OpenBSD/amd64   7.5 Install CD", {"/bsd.rd": b"k"}, bios=True),
        ("bsd", "7.5", "amd64", True, False),
    ),
    "any linux": (made("RESCUE", {EFI: b"e", "/vmlinuz": b"k"}, bios=True), ("", "", "amd64", True, True)),
    "drivers": (made("virtio-drivers", {"/net/driver.inf": b"d"}), ("", "", "", False, False)),
    "first-boot data": (made("cidata", {"/meta-data": b"m", "/user-data": b"u"}), ("", "", "", False, False)),
    "a name that lies": (made("Debian 12 amd64", {"/readme": b"r"}), ("", "", "", False, False)),
}


def test_each_medium_is_known_for_what_it_is(capsys: pytest.CaptureFixture[str]) -> None:
    wrong = []
    with capsys.disabled():
        print(f"\n  {'medium':<30} {'said to be':<44} right")
        for name, (image, expected) in MEDIA.items():
            fp = io.BytesIO(image)
            assert is_iso(fp)
            m = inspect_iso(fp, len(image))
            said = (m.family, m.version, m.architecture, m.bios, m.uefi)
            print(f"  {name:<30} {said!s:<44} {'yes' if said == expected else f'no: {expected}'}")
            wrong += [name] if said != expected else []
    assert len(MEDIA) >= 12 and wrong == []


def test_only_the_loader_that_waits_for_a_key_is_said_to() -> None:
    asking = {n for n, (image, _) in MEDIA.items() if inspect_iso(io.BytesIO(image), len(image)).press_key}
    assert asking == {"windows client"}


def test_another_processor_is_a_problem() -> None:
    problems = {n: inspect_iso(io.BytesIO(i), len(i)).problems for n, (i, _) in MEDIA.items()}
    assert [n for n, p in problems.items() if p] == ["debian for another processor", "fedora kin, arm"]
    assert "for arm64" in problems["fedora kin, arm"][0]


@given(st.sampled_from(list(MEDIA)), st.data())
def test_a_cut_medium_is_said_to_be_cut(name: str, data: st.DataObject) -> None:
    image = MEDIA[name][0]
    cut = image[: data.draw(st.integers(17 * 2048, len(image) - 2048))]
    assert "truncated" in inspect_iso(io.BytesIO(cut), len(cut)).problems[0]


@given(st.sampled_from(list(MEDIA)), st.integers(17 * 2048, 40 * 2048), st.binary(min_size=1, max_size=64))
@example("debian netinst", 34888, b"\x01")
@example("debian netinst", 49412, b"\x00\x00\x00\x02")
def test_a_damaged_medium_is_judged_without_an_error(name: str, at: int, junk: bytes) -> None:
    image = bytearray(MEDIA[name][0])
    image[at : at + len(junk)] = junk
    inspect_iso(io.BytesIO(bytes(image)), len(image))


def test_web_pages_and_other_files_are_no_media() -> None:
    assert looks_like_web_page(b"\r\n<!DOCTYPE html><title>404") and looks_like_web_page(b"<html>")
    assert not looks_like_web_page(MEDIA["debian netinst"][0][:4096]) and not is_iso(io.BytesIO(b"x" * 100000))


def test_boot_sectors_say_who_can_start_from_them() -> None:
    assert boot_sectors(b"") == ("none", False, False)
    assert not boot_sectors(bytes(510) + b"\x55\xaa").bootable, "partitioned, but nothing to start"
    mbr = bytearray(512)
    mbr[0:3], mbr[450], mbr[510:] = b"\xeb\x63\x90", 0x83, b"\x55\xaa"
    assert boot_sectors(bytes(mbr)) == ("mbr", True, False)
    gpt = bytearray(34 * 512)
    gpt[450], gpt[510:512], gpt[512:520], gpt[596] = 0xEE, b"\x55\xaa", b"EFI PART", 128
    assert boot_sectors(bytes(gpt)) == ("gpt", False, False)
    gpt[1024:1040] = bytes.fromhex("28732ac11ff8d211ba4b00a0c93ec93b")
    assert boot_sectors(bytes(gpt)) == ("gpt", False, True)
