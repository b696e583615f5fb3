"""Another address of a guest that runs: doors follow it, and nothing is lost where it does not work."""

from __future__ import annotations

import contextlib
import os
import re
import signal
import subprocess
import time

import pytest

from tests.conftest import PROGRAM, Lab
from tests.guests.test_live_setup import LAB, ROOT, on
from tests.networks.world import until

FIXED = LAB.replace("kind = ", 'subnet = "10.77.4.0/24"\nkind = ').replace(
    'network = "pier" }', 'network = "pier", address = "10.77.4.20" }'
)


def give(lab: Lab, address: str) -> None:
    """Write another address of the guest into the lab file."""
    lab.file.write_text(re.sub(r'address = "[0-9.]+"', f'address = "{address}"', lab.file.read_text()))


def addresses(lab: Lab) -> list[str]:
    return on(lab, "ip -4 -o address show dev eth0 | awk '{ print $4 }'").split()


def pid(lab: Lab) -> int:
    return int(lab("status", "--json", code=None).json["guests"][0]["pid"])


def test_a_running_guest_gets_another_address_and_goes_back_from_one_that_does_not_work(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(FIXED)
    lab("apply")
    began = pid(lab)
    give(lab, "10.77.4.30")
    assert "address 10.77.4.20 → 10.77.4.30, while it runs" in lab("diff").out
    # Nobody there may change it: it keeps the address until its next start, and its door works.
    done = lab("apply")
    assert "(not while it runs: the login user does not become root without a password)  at next start" in done.out
    assert addresses(lab) == ["10.77.4.20/24"] and lab("connect", "gauge", "--", "true")
    on(lab, ROOT)
    done = lab("apply")
    assert "address 10.77.4.20 → 10.77.4.30" in done.out and "may use that address again" in done.out
    until(lambda: addresses(lab) == ["10.77.4.30/24"])
    assert pid(lab) == began
    assert lab("connect", "gauge", "--", "true") and "nothing to do" in lab("apply").out
    assert "10.77.4.30" in lab("status", code=None).out
    # The new address is no good: something in the guest removes it at once.
    on(lab, "(while sleep 0.05; do ip address del 10.77.4.40/24 dev eth0 2> /dev/null; done) > /dev/null 2>&1 & echo")
    give(lab, "10.77.4.40")
    failed = lab("apply", code=3)
    assert "door ssh does not answer at the new address" in failed.err and "dacha restart gauge" in failed.err
    assert addresses(lab) == ["10.77.4.30/24"] and lab("connect", "gauge", "--", "true")
    until(lambda: on(lab, "ls -d /run/address-* 2> /dev/null | wc -l").strip() == "0")
    assert lab("trace", "gauge").code == 0
    # The remedy works.
    lab("restart", "gauge", "--force")
    assert addresses(lab) == ["10.77.4.40/24"] and "nothing to do" in lab("apply").out


@pytest.mark.whole
def test_a_command_that_is_killed_in_between_leaves_no_guest_without_its_door(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(FIXED)
    lab("apply")
    on(lab, ROOT)
    for n in range(6):
        wanted = f"10.77.4.{31 + n % 2}"
        give(lab, wanted)
        child = subprocess.Popen(
            [PROGRAM, "apply"], env=lab.env, cwd=lab.folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            start_new_session=True,
        )  # fmt: skip
        time.sleep(0.5 + 0.6 * n)
        with contextlib.suppress(ProcessLookupError):
            os.killpg(child.pid, signal.SIGKILL)
        child.wait()
        lab("apply")
        until(lambda wanted=wanted: addresses(lab) == [f"{wanted}/24"])
        assert lab("connect", "gauge", "--", "true")
        assert "nothing to do" in lab("apply").out
