"""Read the description of an OVF package (DMTF DSP0243, versions 1 and 2) and its checksums.

A package may come from anybody: the description is small, has no document type (so no entities), and names files by
their plain names only.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from xml.etree import ElementTree
from xml.etree.ElementTree import Element

from dacha.core.archive.appliance import Appliance, ApplianceDisk
from dacha.core.errors import PeerError
from dacha.core.lab.families import FAMILIES
from dacha.core.units import GIB, KIB, LARGEST, MIB

# The longest description (bytes), and how many disks, adapters and virtual CPUs it may have.
DESCRIPTION_MOST, DISKS_MOST, ADAPTERS_MOST, CPUS_MOST = 8 << 20, 32, 16, 255
# Resource types (CIM_ResourceAllocationSettingData, ResourceType).
_CPU, _MEMORY, _ADAPTER, _DISK = "3", "4", "10", "17"
_UNITS = {"byte": 1, "bytes": 1, "kilobytes": KIB, "megabytes": MIB, "gigabytes": GIB}
_POWER = re.compile(r"(?:(\d+) ?\* ?)?byte ?\* ?(\d+)\^(\d+)", re.ASCII)
_SUM = re.compile(r"(SHA1|SHA256|SHA512) ?\((.+)\) ?= ?([0-9a-fA-F]{40,128})", re.ASCII)
# How the operating system is named, and the family of systems.
_SYSTEMS = tuple(name for name in FAMILIES if name not in ("linux", "other"))
_LIKE_FEDORA = ("rhel", "red hat", "centos", "rocky", "alma", "oracle")


def decode(data: bytes) -> Appliance:
    """The machine that a description describes. Raises PeerError for one that is malformed, or describes several."""
    root = _parsed(data)
    files = {_attribute(f, "id"): _file_name(f) for f in _below(root, "File")}
    disks = {_attribute(d, "diskId"): _disk(d, files) for d in _below(root, "Disk")}
    systems = list(_below(root, "VirtualSystem"))
    if len(systems) != 1:
        raise PeerError(f"the package describes {len(systems)} machines", why="a guest is made of one machine")
    machine = systems[0]
    items = [item for kind in ("Item", "StorageItem", "EthernetPortItem") for item in _below(machine, kind)]
    order = {_text(item, "InstanceID"): n for n, item in enumerate(items)}
    used = sorted(
        (i for i in items if _text(i, "ResourceType") == _DISK),
        key=lambda i: (order.get(_text(i, "Parent"), 0), _number(_text(i, "AddressOnParent") or "0", "an address")),
    )
    named = (_text(i, "HostResource").rpartition("/")[2] for i in used)
    found = tuple(disks[n] for n in named if n in disks)
    adapters = tuple(_model(i) for i in items if _text(i, "ResourceType") == _ADAPTER)
    if len(found) > DISKS_MOST or len(adapters) > ADAPTERS_MOST:
        raise PeerError("the package describes more disks or adapters than a guest can have")
    name = next((_content(n) for n in machine if _local(n) == "Name"), "") or _attribute(machine, "id")
    return Appliance(
        name=name, cpus=_cpus(items), memory=_memory(items), system=_system(machine), firmware=_firmware(machine),
        disks=found, adapters=adapters,
    )  # fmt: skip


def checksums(text: str) -> dict[str, tuple[str, str]]:
    """The checksums of a package's manifest: each file's algorithm ("sha256") and digest in hexadecimal."""
    found = (_SUM.fullmatch(line.strip()) for line in text.splitlines())
    return {m[2]: (m[1].lower(), m[3].lower()) for m in found if m}


def _parsed(data: bytes) -> Element:
    if len(data) > DESCRIPTION_MOST:
        raise PeerError(f"the package's description has more than {DESCRIPTION_MOST >> 20} MiB")
    try:
        text = data.decode("utf-8-sig")
        if "<!DOCTYPE" in text or "<!ENTITY" in text:
            raise PeerError("the package's description declares entities", why="OVF does not use them")
        root = ElementTree.fromstring(text)
    except (UnicodeDecodeError, ElementTree.ParseError, ValueError) as e:
        raise PeerError("the package's description is malformed", why=str(e)) from e
    if _local(root) != "Envelope":
        raise PeerError("this is not the description of an OVF package", why=f"its root is {_local(root)[:40]!r}")
    return root


def _local(element: Element) -> str:
    return str(element.tag).rpartition("}")[2]


def _below(element: Element, name: str) -> Iterator[Element]:
    return (e for e in element.iter() if _local(e) == name)


def _attribute(element: Element, name: str) -> str:
    return next((value for key, value in element.attrib.items() if key.rpartition("}")[2] == name), "")


def _content(element: Element) -> str:
    return (element.text or "").strip()


def _text(item: Element, name: str) -> str:
    return next((_content(e) for e in item if _local(e) == name), "")


def _number(text: str, what: str) -> int:
    if not re.fullmatch(r"\d{1,20}", text, re.ASCII):
        raise PeerError(f"the package's description has {what} that is not a number: {text[:40]!r}")
    return int(text)


def _factor(unit: str) -> int:
    """Bytes of an allocation unit: "byte * 2^20" (DSP0004 annex C.1), or an older word."""
    if (power := _POWER.fullmatch(unit.strip())) is not None and int(power[3]) < 80:
        factor: int = int(power[1] or 1) * int(power[2]) ** int(power[3])
        return factor
    known = _UNITS.get(unit.strip().lower() or "byte")
    if known is None:
        raise PeerError(f"the package's description has an unknown unit: {unit[:40]!r}")
    return known


def _file_name(file: Element) -> str:
    """The name of a file beside the description. Raises PeerError for a path, an address, or a compressed file."""
    name = _attribute(file, "href")
    if not name or "/" in name or "\\" in name or ":" in name or name.startswith(".") or not name.isprintable():
        raise PeerError(f"the package names a file outside of it: {name[:100]!r}")
    if (packed := _attribute(file, "compression") or "identity") != "identity":
        raise PeerError(f"{name} is compressed ({packed[:20]})", why="Dacha reads files that are not")
    if _attribute(file, "chunkSize"):
        raise PeerError(f"{name} is split into several files", why="Dacha reads disks that are in one file")
    return name


def _disk(disk: Element, files: dict[str, str]) -> ApplianceDisk:
    reference = _attribute(disk, "fileRef")
    if reference and reference not in files:
        raise PeerError(f"a disk of the package has no file: {reference[:40]!r}")
    if _attribute(disk, "parentRef"):
        raise PeerError("a disk of the package is based on another one", why="Dacha reads disks that are complete")
    size = _number(_attribute(disk, "capacity"), "a size") * _factor(_attribute(disk, "capacityAllocationUnits"))
    if not 0 < size <= LARGEST:
        raise PeerError(f"a disk of the package has an impossible size: {size} bytes")
    return ApplianceDisk(files.get(reference, ""), size)


def _cpus(items: list[Element]) -> int:
    told = [_text(i, "VirtualQuantity") for i in items if _text(i, "ResourceType") == _CPU]
    count = _number(told[0], "a number of processors") if told else 1
    if not 0 < count <= CPUS_MOST:
        raise PeerError(f"the package describes a machine with {count} processors")
    return count


def _memory(items: list[Element]) -> int:
    for item in items:
        if _text(item, "ResourceType") == _MEMORY:
            size = _number(_text(item, "VirtualQuantity"), "a size") * _factor(_text(item, "AllocationUnits"))
            if not 16 * MIB <= size <= 64 << 40:
                raise PeerError(f"the package describes a machine with {size} bytes of memory")
            return size
    return GIB


def _model(item: Element) -> str:
    return "virtio" if "virtio" in _text(item, "ResourceSubType").lower() else "e1000"


def _system(machine: Element) -> str:
    for section in _below(machine, "OperatingSystemSection"):
        described = " ".join([*map(_content, section), *section.attrib.values()]).lower()
        for name in _SYSTEMS:
            if name in described:
                return name
        if any(name in described for name in _LIKE_FEDORA):
            return "fedora"
        if "linux" in described:
            return "linux"
    return "other"


def _firmware(machine: Element) -> str:
    """The firmware: an extension of the standard that several programs share, a configuration entry "firmware"."""
    for element in machine.iter():
        if _local(element) == "Config" and _attribute(element, "key") == "firmware":
            return "uefi" if "efi" in _attribute(element, "value").lower() else "bios"
    return "bios"
