"""An upgrade while a lab runs: guests, keys, ports and leases stay, and the service becomes the new version's.

`make host-tests`.
"""

from __future__ import annotations

import pytest

from tests.networks.world import until
from tests.whole_host.conftest import DACHA, OLDER, WholeHost

pytestmark = pytest.mark.whole
LAB = """\
[lab]
name = "ebb"
accelerator = "kvm"
[network.mole]
kind = "nat"
backend = "kernel"
subnet = "10.78.4.0/24"
[guest.knot]
memory = "32 MiB"
video = false
disk = [{ size = "1 MiB" }]
stop-after = "3 s"
adapter = [{ network = "mole", address = "10.78.4.10" }]
door.web = { service = "http", from = "lan" }
start = { at-boot = true }
[guest.ruff]
memory = "32 MiB"
video = false
disk = [{ size = "1 MiB" }]
stop-after = "3 s"
restart = "always"
"""


def test_a_lab_that_runs_goes_through_an_upgrade(whole_host: WholeHost) -> None:
    host = whole_host

    def old(words: str, code: int | None = 0) -> str:
        return host.sh(f"cd /root && {OLDER} {words} --lab ebb.toml", code).out

    def new(words: str, code: int | None = 0) -> str:
        said = host.sh(f"cd /root && {DACHA} {words} --lab ebb.toml", code)
        return said.out + said.err

    def kept() -> str:
        """What an upgrade must not change."""
        folder = "/var/lib/dacha/labs/ebb"
        return host.sh(
            f"pgrep -f 'guest=.*[.]ebb' | sort; sha256sum {folder}/guests/*/host_key.pub; cat {folder}/known_hosts; "
            f"sha256sum {folder}/guests/*/disk-*.qcow2 | cut -c 1-64; grep port /root/ebb.toml; "
            "nft list maps | grep -c 10.78.4"
        ).out

    host.write("/root/ebb.toml", LAB)
    try:
        old("apply --no-wait")
        old("caretaker install")
        before, table = kept(), host.sh("nft list ruleset | grep -v handle").out
        assert len(before.split()) > 6 and "10.78.4.10" in table
        # The new version reads what the old one wrote, and says what is of the old one.
        assert "knot" in new("status", None)
        assert "no errors" in new("check", None) or "no problems" in new("check", None)
        pending = new("diff", None)
        assert "caretaker" in pending, pending
        print(pending)
        print(new("apply --no-wait"))
        # Its service starts this version from now on.
        assert "/opt/dacha/venv" in host.sh("systemctl cat dacha-ebb").out
        assert "everything applied" in new("diff")
        assert kept() == before
        shown = host.sh("systemctl show dacha-ebb -p NRestarts -p ActiveState -p ExecStart").out
        assert "NRestarts=0" in shown and "ActiveState=active" in shown and "/opt/dacha/venv" in shown
        # It minds the guests that the old version started.
        host.sh("kill -9 $(pgrep -f 'guest=ruff[.]ebb')")
        until(lambda: '"state": "on"' in new("status ruff --json", None).replace('"state":"on"', '"state": "on"'), 300)
        # The old version refuses what it does not understand, or does no harm; the new one goes on.
        old("status", None)
        new("restart knot --force --wait 1s --no-wait")
        assert "everything applied" in new("diff")
    finally:
        new("caretaker install --remove", None)
        new("stop --all --force --wait 0s", None)
        host.sh(f"cd /root && {DACHA} lab remove ebb --with-disks --yes", None)
    assert "ebb" not in host.sh("nft list ruleset").out
