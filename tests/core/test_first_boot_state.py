"""How far a first boot is, by the lines of real consoles."""

import pytest

from dacha.core.apply.first_boot_state import first_boot_state

BEGUN = "[   12.1] cloud-init[210]: Cloud-init v. 22.4.2 running 'init-local' at Thu, 26 Nov 2026 10:00:00 +0000.\r\n"
FAILED = (
    "2026-11-26 10:01:00,12 - util.py[WARNING]: Running module package-update-upgrade-install (<module"
    " 'cloudinit.config.cc_package_update_upgrade_install' from '/usr/lib/x.py'>) failed\r\n"
)


@pytest.mark.parametrize(
    ("console", "words", "state"),
    [
        ("", "", "unknown"),
        ("gauge login: ", "", "unknown"),
        (BEGUN, "first boot", "running"),
        (BEGUN + "[ 118.2] cloud-init[512]: first boot: done after 118.20 s\r\n", "", "done"),
        (
            BEGUN + "cloud-init[512]: Cloud-init v. 24.1 finished at Thu, 26 Nov 2026 10:02:00 +0000. Up 118 s",
            "",
            "done",
        ),
        # The others go on.
        (BEGUN + FAILED, "first boot running; failed so far: packages", "running"),
        (BEGUN + FAILED + FAILED + "first boot: done after 9 s", "first boot finished; failed: packages", "failed"),
        ("first boot: failed at user mara, run 2\r\n", "first boot finished; failed: user mara, run 2", "failed"),
    ],
)
def test_the_state_by_its_console(console: str, words: str, state: str) -> None:
    found = first_boot_state(console)
    assert (found.state, found.words) == (state, words)
