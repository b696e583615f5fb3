"""Whether VLAN links are possible, also for a service that the kernel's modules are hidden from."""

from __future__ import annotations

from pathlib import Path

from dacha.host.network.iproute import is_hidden


def test_hidden_modules_are_not_taken_for_missing_ones(tmp_path: Path) -> None:
    folder = tmp_path / "modules"
    assert not is_hidden(folder)
    folder.mkdir()
    assert not is_hidden(folder)
    # As systemd shows them to a service with ProtectKernelModules.
    folder.chmod(0)
    assert is_hidden(folder)
