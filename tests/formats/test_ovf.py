"""Descriptions of OVF packages (DMTF DSP0243) as other programs write them, and as nobody should."""

from __future__ import annotations

import contextlib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dacha.core.archive.appliance import Appliance, ApplianceDisk
from dacha.core.errors import PeerError
from dacha.formats.ovf.read import checksums, decode
from dacha.formats.ovf.write import Part, encode, manifest

SCHEMA = "http://schemas.dmtf.org/ovf/envelope/1"
RASD = "http://schemas.dmtf.org/wbem/wscim/1/cim-schema/2/CIM_ResourceAllocationSettingData"


def item(**told: str) -> str:
    return "<Item>" + "".join(f"<rasd:{key}>{value}</rasd:{key}>" for key, value in told.items()) + "</Item>"


CONTROLLER = item(ElementName="controller", InstanceID="3", ResourceType="6")
DISK = {"ElementName": "disk", "InstanceID": "5", "Parent": "3", "AddressOnParent": "0", "ResourceType": "17"}
USUAL = "".join(
    [
        item(ElementName="2 CPUs", InstanceID="1", ResourceType="3", VirtualQuantity="2"),
        item(AllocationUnits="byte * 2^20", InstanceID="2", ResourceType="4", VirtualQuantity="768"),
        CONTROLLER,
        item(**{**DISK, "InstanceID": "6", "AddressOnParent": "1"}, HostResource="ovf:/disk/second"),
        item(**DISK, HostResource="/disk/first"),
        item(ElementName="adapter", InstanceID="7", ResourceType="10", ResourceSubType="E1000"),
        item(ElementName="adapter", InstanceID="8", ResourceType="10", ResourceSubType="VirtIO"),
    ]
)
FILES = '<File ovf:id="file1" ovf:href="tides-disk1.vmdk" ovf:size="100"/>'
DISKS = (
    '<Disk ovf:capacity="8" ovf:capacityAllocationUnits="byte * 2^30" ovf:diskId="first" ovf:fileRef="file1"/>'
    '<Disk ovf:capacity="1048576" ovf:diskId="second"/>'
)


def described(
    items: str = USUAL, files: str = FILES, disks: str = DISKS, system: str = "Debian GNU/Linux 12 (64-bit)",
    more: str = "", before: str = "",
) -> bytes:  # fmt: skip
    return f"""<?xml version="1.0" encoding="UTF-8"?>{before}
<Envelope xmlns="{SCHEMA}" xmlns:ovf="{SCHEMA}" xmlns:rasd="{RASD}">
<References>{files}</References><DiskSection><Info/>{disks}</DiskSection>
<VirtualSystem ovf:id="tides"><Info/><Name>Tide gauge 1</Name>
<OperatingSystemSection ovf:id="96"><Info/><Description>{system}</Description></OperatingSystemSection>
<VirtualHardwareSection><Info/>{items}{more}</VirtualHardwareSection></VirtualSystem></Envelope>""".encode()


def test_a_machine_is_read_with_its_disks_in_the_order_of_its_firmware() -> None:
    disks = (ApplianceDisk("tides-disk1.vmdk", 8 << 30), ApplianceDisk("", 1 << 20))
    expected = Appliance("Tide gauge 1", 2, 768 << 20, "debian", "bios", disks, ("e1000", "virtio"))
    assert decode(described()) == expected
    # Older words for units, another namespace for the same elements, and an extension that names the firmware.
    older = described(USUAL.replace("byte * 2^20", "MegaBytes"), more='<Config ovf:key="firmware" ovf:value="efi"/>')
    assert decode(older) == expected._replace(firmware="uefi")
    assert decode(described().replace(b"/envelope/1", b"/envelope/2")) == expected
    systems = {"Windows Server": "windows", "Red Hat 9": "fedora", "Other 5.x Linux": "linux", "x": "other"}
    for word, family in systems.items():
        assert decode(described(system=word)).system == family
    assert decode(described("", "", "")).memory == 1 << 30


@pytest.mark.parametrize(
    ("change", "why"),
    [
        ({"files": FILES.replace("tides-disk1.vmdk", "../../etc/shadow")}, "outside of it"),
        ({"files": FILES.replace("tides-disk1.vmdk", "/etc/shadow")}, "outside of it"),
        ({"files": FILES.replace("tides-disk1.vmdk", "https://tides.example/disk")}, "outside of it"),
        ({"files": FILES.replace("tides-disk1.vmdk", "..")}, "outside of it"),
        ({"files": FILES.replace("ovf:size", 'ovf:compression="gzip" ovf:size')}, "is compressed"),
        ({"files": FILES.replace("ovf:size", 'ovf:chunkSize="100" ovf:size')}, "split into several files"),
        ({"files": ""}, "has no file"),
        ({"disks": DISKS.replace('"8"', '"99999999999999"')}, "impossible size"),
        ({"disks": DISKS.replace('"8"', '"-8"')}, "not a number"),
        ({"disks": DISKS.replace("byte * 2^30", "byte * 2^999")}, "unknown unit"),
        (
            {"disks": DISKS.replace('="second"', '="second" ovf:parentRef="a"')},
            "based on another",
        ),
        ({"items": USUAL.replace("768", "99999999999")}, "bytes of memory"),
        ({"items": USUAL.replace("<rasd:VirtualQuantity>2<", "<rasd:VirtualQuantity>9999<")}, "9999 processors"),
        ({"items": USUAL + item(ResourceType="10") * 40}, "more disks or adapters"),
        ({"before": '<!DOCTYPE x [<!ENTITY a "aa">]>'}, "declares entities"),
    ],
)
def test_what_no_guest_can_be_is_refused(change: dict[str, str], why: str) -> None:
    with pytest.raises(PeerError) as e:
        decode(described(**change))
    assert why in e.value.what


def test_several_machines_and_other_documents_are_refused() -> None:
    two = described().replace(b"</VirtualSystem>", b"</VirtualSystem><VirtualSystem ovf:id='b'/>")
    for data, why in ((two, "2 machines"), (b"<html/>", "not the description"), (b"\xff\xfe<\0", "malformed")):
        with pytest.raises(PeerError) as e:
            decode(data)
        assert why in e.value.what


@given(st.binary(max_size=300), st.integers(0, 3000), st.integers(0, 60))
def test_any_bytes_are_a_machine_or_refused(junk: bytes, at: int, cut: int) -> None:
    data = described()
    with contextlib.suppress(PeerError):
        decode(data[:at] + junk + data[at + cut :])


def test_checksums_of_each_algorithm() -> None:
    text = f"SHA256(a b.vmdk)= {'0a' * 32}\r\nSHA1 (x.ovf) = {'AB' * 20}\nnothing\nMD5(y)= {'0' * 32}\n"
    assert checksums(text) == {"a b.vmdk": ("sha256", "0a" * 32), "x.ovf": ("sha1", "ab" * 20)}


NAMES = st.from_regex(r"[a-z][a-z0-9-]{0,20}", fullmatch=True)


@given(
    NAMES, st.integers(1, 255), st.integers(16, 1 << 20), st.sampled_from(["debian", "linux", "windows", "bsd"]),
    st.sampled_from(["bios", "uefi"]), st.lists(st.integers(1, 1 << 31), max_size=12),
    st.lists(st.tuples(st.sampled_from(["virtio", "e1000"]), NAMES), max_size=4),
)  # fmt: skip
def test_a_machine_is_read_as_it_was_written(
    name: str, cpus: int, memory: int, system: str, firmware: str, sizes: list[int], adapters: list[tuple[str, str]]
) -> None:
    disks = tuple(ApplianceDisk(f"{name}-disk-{n}.vmdk", 512 * size) for n, size in enumerate(sizes))
    machine = Appliance(name, cpus, memory << 20, system, firmware, disks, tuple(model for model, _ in adapters))
    written = encode(machine, tuple(network for _, network in adapters), {d.file: 7 for d in disks})
    assert decode(written) == machine
    assert b"NetworkSection" in written if adapters else b"NetworkSection" not in written


def test_names_are_escaped_and_checksums_are_read_again() -> None:
    machine = Appliance("a&<b>", 1, 1 << 30, "other", "bios", (), ("virtio",))
    assert decode(encode(machine, ('"pier" & <quay>',), {})).name == "a&<b>"
    assert checksums(manifest((Part("a.ovf", 1, "0a" * 32),)).decode()) == {"a.ovf": ("sha256", "0a" * 32)}
