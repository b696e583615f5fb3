"""Which accelerator runs a guest here, and why."""

from __future__ import annotations

import os
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.named import NamedTuple

DEVICE = "/dev/kvm"


class Choice(NamedTuple):
    """The accelerator ("kvm" or "tcg") and the reason in a sentence."""

    name: str
    why: str


def choose(wanted: str) -> Choice:
    """Choose between hardware and software. "auto" uses KVM only if CPU, device and permission agree: the device alone
    exists in many containers and nested machines where guests do not run. Raises HostError if "kvm" is set and the
    device is not accessible."""
    if wanted == "tcg":
        return Choice("tcg", "the lab file sets software emulation")
    obstacle = None if os.access(DEVICE, os.R_OK | os.W_OK) else _why_no_device()
    if wanted == "kvm":
        if obstacle:
            raise HostError(
                f"the lab file sets KVM, but {obstacle}", remedy='set accelerator = "auto" in [lab], or fix the cause'
            )
        return Choice("kvm", "the lab file sets KVM")
    if not _processor_flag():
        return Choice("tcg", "this CPU has no hardware virtualization: software emulation, slow, but works")
    if obstacle:
        return Choice("tcg", f"{obstacle}: software emulation, slow, but works")
    return Choice("kvm", f"the CPU supports it, and {DEVICE} is accessible")


def _processor_flag() -> bool:
    with open("/proc/cpuinfo") as f:
        for line in f:
            if line.startswith("flags"):
                return bool({"vmx", "svm"} & set(line.split()))
    return False


def _why_no_device() -> str:
    if not Path(DEVICE).exists():
        return f"{DEVICE} does not exist (load the kvm module; enable virtualization in the firmware)"
    return f"{DEVICE} is not accessible for this user (join the group that owns it, usually kvm)"
