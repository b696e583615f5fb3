"""Changes: small frozen values, each one step from the observed to the desired state.

To add a kind: its class in `guest_changes` or `host_changes` (name, phase, words), its name in the union here, and the
function that carries it out in `engine/apply/carry_out.py`.
"""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.apply.changes.change import KINDS, LIVE, NEXT_START, kind_of, phase_of, when_of
from dacha.core.apply.changes.guest_changes import (
    AttachDisk,
    ChangeMachine,
    ChangeMedium,
    CloseForward,
    DeleteDisk,
    DetachDisk,
    GrowDisk,
    MakeDisk,
    MakeHostKey,
    MoveDisk,
    MoveScreen,
    OpenForward,
    ReattachTap,
    StartGuest,
    StopGuest,
    WriteDown,
    WriteSeed,
)
from dacha.core.apply.changes.host_changes import (
    AskRouter,
    Caretaker,
    CloseFirewall,
    Forwarding,
    LoadRules,
    MakeLink,
    OpenFirewall,
    RemoveLink,
    RemoveRules,
)
from dacha.core.apply.changes.inside_changes import ChangeAddress, ChangeInside, ChangeKeys
from dacha.core.apply.changes.usb_changes import AttachUsb, DetachUsb

Change = (
    WriteDown
    | MakeHostKey
    | MakeDisk
    | GrowDisk
    | MoveDisk
    | AttachDisk
    | DetachDisk
    | DeleteDisk
    | MoveScreen
    | WriteSeed
    | ChangeAddress
    | ChangeKeys
    | ChangeInside
    | MakeLink
    | ReattachTap
    | RemoveLink
    | LoadRules
    | RemoveRules
    | Forwarding
    | OpenFirewall
    | CloseFirewall
    | AskRouter
    | Caretaker
    | StartGuest
    | StopGuest
    | OpenForward
    | CloseForward
    | ChangeMedium
    | AttachUsb
    | DetachUsb
    | ChangeMachine
)


def subject(change: Change) -> str:
    """The subject of a change: "guest gauge", "door gauge ssh", "lab file", "this host"."""
    if isinstance(change, WriteDown):
        return "lab file"
    if isinstance(change, OpenForward):
        return f"door {change.guest} {change.door}"
    return f"guest {change.guest}" if change.guest else "this host"


def in_order(changes: Iterable[Change]) -> list[Change]:
    """The changes in the order of an apply. Changes of the same phase keep their order."""
    return sorted(changes, key=phase_of)


__all__ = [
    "KINDS", "LIVE", "NEXT_START", "AskRouter", "AttachDisk", "AttachUsb", "Caretaker", "Change", "ChangeAddress",
    "ChangeInside", "ChangeKeys", "ChangeMachine", "ChangeMedium", "CloseFirewall", "CloseForward", "DeleteDisk",
    "DetachDisk", "DetachUsb", "Forwarding", "GrowDisk", "LoadRules", "MakeDisk", "MakeHostKey", "MakeLink",
    "MoveDisk", "MoveScreen", "OpenFirewall", "OpenForward", "ReattachTap", "RemoveLink", "RemoveRules", "StartGuest",
    "StopGuest", "WriteDown", "WriteSeed", "in_order", "kind_of", "phase_of", "subject", "when_of",
]  # fmt: skip
