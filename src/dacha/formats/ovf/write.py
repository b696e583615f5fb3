"""Write the description of an OVF package (DMTF DSP0243 version 1.1, which most programs read) and its checksums."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from xml.sax.saxutils import escape, quoteattr

from dacha.core.archive.appliance import Appliance
from dacha.core.named import NamedTuple
from dacha.core.units import MIB

_ENVELOPE = "http://schemas.dmtf.org/ovf/envelope/1"
_CIM = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_"
# The namespace of our extension, the firmware: the standard has no element for it.
_OWN = "urn:dacha:ovf:1"
# The identifier by which readers of the standard recognise this form of disks: compressed, each in one file.
DISK_FORM = "http://www.vmware.com/interfaces/specifications/vmdk.html#streamOptimized"
# Types of systems of 64 bits (CIM_OperatingSystem, OSType), and how they are described; others are "Other 64-Bit".
_SYSTEMS = {
    "debian": (96, "Debian GNU/Linux"), "ubuntu": (94, "Ubuntu"), "fedora": (101, "Fedora Linux"),
    "alpine": (101, "Alpine Linux"), "linux": (101, "Linux"), "bsd": (78, "FreeBSD"), "windows": (102, "Windows"),
}  # fmt: skip
_OTHER = (102, "Other")
# Resource types (CIM_ResourceAllocationSettingData, ResourceType).
_CPU, _MEMORY, _ADAPTER, _DISK, _STORAGE = 3, 4, 10, 17, 20
# The controller comes after the processors and the memory.
_CONTROLLER = 3


class Part(NamedTuple):
    """A file of the package: its name, its length and its SHA-256 in hexadecimal."""

    name: str
    length: int
    sha256: str


def encode(machine: Appliance, networks: tuple[str, ...], lengths: Mapping[str, int]) -> bytes:
    """The description of a machine. `networks` has the network of each adapter, `lengths` the length of each disk's
    file (bytes)."""
    files = "".join(
        f'    <File ovf:id="file{n}" ovf:href={quoteattr(d.file)} ovf:size="{lengths[d.file]}"/>\n'
        for n, d in enumerate(machine.disks)
    )
    disks = "".join(
        f'    <Disk ovf:diskId="disk{n}" ovf:fileRef="file{n}" ovf:capacity="{d.size}" ovf:format="{DISK_FORM}"/>\n'
        for n, d in enumerate(machine.disks)
    )
    number, described = _SYSTEMS.get(machine.system, _OTHER)
    firmware = "efi" if machine.firmware == "uefi" else "bios"
    items = "".join(_item(n, fields) for n, fields in enumerate(_items(machine, networks), 1))
    name = escape(machine.name)
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<Envelope ovf:version="1.0" xml:lang="en-US" xmlns="{_ENVELOPE}" xmlns:ovf="{_ENVELOPE}" xmlns:own="{_OWN}"
    xmlns:rasd="{_CIM}ResourceAllocationSettingData" xmlns:vssd="{_CIM}VirtualSystemSettingData">
  <References>
{files}  </References>
  <DiskSection>
    <Info>Virtual disks</Info>
{disks}  </DiskSection>
{_networks(networks)}  <VirtualSystem ovf:id={quoteattr(machine.name)}>
    <Info>A virtual machine</Info>
    <Name>{name}</Name>
    <OperatingSystemSection ovf:id="{number}">
      <Info>The guest's operating system</Info>
      <Description>{described} (64-bit)</Description>
    </OperatingSystemSection>
    <VirtualHardwareSection>
      <Info>Virtual hardware</Info>
      <System>
        <vssd:ElementName>Virtual hardware</vssd:ElementName>
        <vssd:InstanceID>0</vssd:InstanceID>
        <vssd:VirtualSystemIdentifier>{name}</vssd:VirtualSystemIdentifier>
      </System>
{items}      <own:Config ovf:required="false" own:key="firmware" own:value="{firmware}"/>
    </VirtualHardwareSection>
  </VirtualSystem>
</Envelope>
""".encode()


def _networks(networks: tuple[str, ...]) -> str:
    named = "".join(
        f"    <Network ovf:name={quoteattr(n)}><Description>Network {escape(n)}</Description></Network>\n"
        for n in dict.fromkeys(networks)
    )
    section = f"  <NetworkSection>\n    <Info>Networks of the adapters</Info>\n{named}  </NetworkSection>\n"
    return section if named else ""


def manifest(parts: tuple[Part, ...]) -> bytes:
    """The package's manifest: the checksum of each other file."""
    return "".join(f"SHA256({part.name})= {part.sha256}\n" for part in parts).encode()


def _items(machine: Appliance, networks: tuple[str, ...]) -> Iterator[dict[str, object]]:
    """The virtual hardware, each with its properties. All disks are on one SATA controller, in their order: every
    system knows it."""
    yield {
        "AllocationUnits": "hertz * 10^6", "ElementName": "Virtual CPUs", "ResourceType": _CPU,
        "VirtualQuantity": machine.cpus,
    }  # fmt: skip
    yield {
        "AllocationUnits": "byte * 2^20", "ElementName": "Memory", "ResourceType": _MEMORY,
        "VirtualQuantity": machine.memory // MIB,
    }  # fmt: skip
    if machine.disks:
        yield {"Address": 0, "ElementName": "SATA controller", "ResourceSubType": "AHCI", "ResourceType": _STORAGE}
    for n, _ in enumerate(machine.disks):
        yield {
            "AddressOnParent": n, "ElementName": f"Disk {n}", "HostResource": f"ovf:/disk/disk{n}",
            "Parent": _CONTROLLER, "ResourceType": _DISK,
        }  # fmt: skip
    for n, (model, network) in enumerate(zip(machine.adapters, networks, strict=True)):
        yield {
            "AutomaticAllocation": "true", "Connection": network, "ElementName": f"Network adapter {n}",
            "ResourceSubType": model.upper() if model == "e1000" else model, "ResourceType": _ADAPTER,
        }  # fmt: skip


def _item(number: int, fields: dict[str, object]) -> str:
    told = fields | {"InstanceID": number}
    body = "".join(f"        <rasd:{key}>{escape(str(value))}</rasd:{key}>\n" for key, value in sorted(told.items()))
    return f"      <Item>\n{body}      </Item>\n"
