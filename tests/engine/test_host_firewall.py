"""A firewall's program that is half removed: its rules are in the kernel, and nothing can be asked to change them."""

from __future__ import annotations

import pytest

from dacha.core.errors import HostError
from dacha.engine.network import host_firewall


def test_a_firewall_without_its_program_is_named_and_left_without_trouble() -> None:
    with pytest.raises(HostError) as told:
        host_firewall._run(["no-such-firewall", "allow", "22"])
    assert "no-such-firewall is not installed, but its rules are present" in told.value.what
    assert "install it again" in told.value.remedy
    host_firewall._run(["no-such-firewall", "delete", "22"], may_fail=True)
    # One that is there and refuses: its own words, and the command to try.
    with pytest.raises(HostError) as told:
        host_firewall._run(["sh", "-c", "echo its rules are locked; exit 1"])
    assert told.value.why == "its rules are locked" and "try it by hand" in told.value.remedy
