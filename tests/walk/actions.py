"""The commands that are tried after one another: what each is, what takes it back, and what it does to the model."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from tests.walk.model import Model

Effect = Callable[[Model], None]


def nothing(model: Model) -> None:
    """Most commands touch no disk and no host key."""


class Action(NamedTuple):
    """A command line in words; `undo` takes it back; `reads` are those that may change nothing at all; `effect` is
    what it does to the model where it succeeds."""

    words: str
    undo: str = ""
    effect: Effect = nothing
    reads: bool = False
    moves: bool = False


KEY = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIIGnJWTiPc5oWUtN2IGVMYcgVnUVaD8eHXMt6ZGOqHAo"
ACTIONS = [
    Action("guest add hut --disk 1MiB --memory 64MiB", "guest remove hut"),
    Action("guest add gauge --disk 1MiB --memory 64MiB", "guest remove gauge"),
    Action("guest add gauge --attach 0 --memory 64MiB", "guest remove gauge", lambda m: m.spare("gauge")),
    Action("guest add gauge --new-disk --disk 1MiB --memory 64MiB", "guest remove gauge", lambda m: m.spare("gauge")),
    Action("guest add db --from base --disk 1MiB --memory 64MiB", "guest remove db"),
    Action("guest remove gauge", "guest add gauge --attach 0 --memory 64MiB"),
    Action("guest remove gauge --with-disks", "guest add gauge --attach 0 --memory 64MiB", lambda m: m.doom("gauge")),
    Action("guest remove shed --with-disks", "", lambda m: m.doom("shed")),
    Action("guest rename gauge z", "guest rename z gauge", lambda m: m.renamed("gauge", "z")),
    Action("guest rename web web-db", "guest rename web-db web", lambda m: m.renamed("web", "web-db")),
    Action("guest rename shed gauge", "guest rename gauge shed", lambda m: m.renamed("shed", "gauge")),
    Action("snapshot add first gauge", "snapshot remove first gauge"),
    Action("snapshot restore first gauge --yes --no-start", ""),
    Action("guest edit gauge --cpus 2", "guest edit gauge --cpus 1"),
    Action("guest edit gauge --memory 96MiB", "guest edit gauge --memory 64MiB"),
    Action("guest edit gauge --add-disk 2MiB", "guest edit gauge --detach-disk 1"),
    Action("guest edit web --add-disk 1MiB", "guest edit web --detach-disk 1"),
    Action("guest edit gauge --detach-disk 0", "guest edit gauge --attach-disk 0"),
    Action("guest edit gauge --attach-disk 0", "guest edit gauge --detach-disk 0"),
    Action("guest edit web --detach-disk 0", "guest edit web --attach-disk 0"),
    Action("guest edit gauge --adapter yard", "guest edit gauge --remove-adapter yard"),
    Action("guest edit gauge --remove-adapter pier", "guest edit gauge --adapter pier"),
    Action("guest edit gauge --address 10.91.0.77", "guest edit gauge --unset adapter.0.address"),
    Action("network add lake --kind host-only", "network remove lake"),
    Action("network remove yard", "network add yard --kind host-only"),
    Action("network edit pier --renumber 10.92.0.0/24", "network edit pier --renumber 10.91.0.0/24"),
    Action("door add gauge http --port 8091", "door remove gauge http"),
    Action("door add gauge http --from lan --port 8092", "door remove gauge http"),
    Action("door edit gauge ssh --port 2291", "door edit gauge ssh --port 2290"),
    Action("door remove gauge ssh", "door add gauge ssh --port 2290"),
    Action(f"person add mara --key {KEY} --enter gauge", "person remove mara"),
    Action("person remove kim", f"person add kim --key {KEY} --enter gauge"),
    Action("person edit kim --enter shed", "person edit kim --not-enter shed"),
    Action("media add base.raw --name other", "media remove other"),
    Action("media remove base", "media add base.raw"),
    Action("handout gauge --output out", ""),
    Action("handout shed --output out", ""),
    Action("handout gauge --output web-site", ""),
    Action("handout gauge --output archive.zip", ""),
    Action("apply --no-wait", "", Model.applied),
    Action("lab move pier --state state2", "lab move pier --state state", moves=True),
    Action("lab remove pier --yes", ""),
    Action("start gauge --no-wait", "stop gauge --force --wait 0s"),
    Action("status", reads=True),
    Action("diff", reads=True),
    Action("check", reads=True),
    Action("reach", reads=True),
    Action("guest list", reads=True),
]
