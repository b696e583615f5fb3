"""What goes wrong with real guests: killed commands, killed guests, hung ones, and two commands at once."""

import json
import os
import signal
import socket
import subprocess
import time
from pathlib import Path

from tests.conftest import PROGRAM, Lab
from tests.processes import kill, wait_until_gone

TEXT = """\
[lab]
name = "faults"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.gauge]
@BOOT@
disk = [{ size = "16 MiB" }]
adapter = [{ network = "pier", address = "10.77.4.20" }]
door.ssh = { from = "host" }
"""


def processes_of(lab: Lab) -> list[int]:
    """The QEMU processes of this lab, by the run folder that each is in."""
    found = []
    for entry in os.listdir("/proc"):
        if entry.isdigit():
            try:
                with open(f"/proc/{entry}/cmdline", "rb") as f:
                    line = f.read()
                place = str(Path(f"/proc/{entry}/cwd").readlink())
            except OSError:
                continue
            if line.startswith(b"/usr/bin/qemu") and place.startswith(lab.env["DACHA_RUN"]):
                found.append(int(entry))
    return found


def test_a_command_killed_at_any_moment_is_mended_by_the_next_apply(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(TEXT)
    # From before its first write to after its last: the guest's process, if any, is found again, never doubled.
    for delay_ms in (60, 120, 160, 200, 240, 280, 320, 380, 450, 600):
        command = subprocess.Popen(
            [PROGRAM, "apply", "--no-wait"],
            cwd=lab.folder,
            env=lab.env,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        time.sleep(delay_ms / 1000)
        command.kill()
        command.wait()
        lab("apply", "--no-wait")
        assert len(processes_of(lab)) == 1, f"killed after {delay_ms} ms"
        assert lab("diff").out == "faults: everything applied\n"
        folder = lab.guest_folder("gauge")
        assert [p.name for p in folder.iterdir() if p.name.endswith(".part")] == []
        if delay_ms < 300:  # the next round begins from nothing again
            lab("stop", "gauge", "--force", "--wait", "0s")
            for name in ("disk-0.qcow2", "disk-0.json", "host_key", "host_key.pub", "seed.iso", "guest.json"):
                (folder / name).unlink()
        elif delay_ms < 600:
            lab("stop", "gauge", "--force", "--wait", "0s")
            lab("start", "gauge", "--no-wait")
    lab("restart", "gauge", "--force", "--wait", "0s")
    assert lab("connect", "gauge", "--", "hostname").out == "gauge\n"


def test_two_at_once_the_second_waits(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(TEXT)
    both = [
        subprocess.Popen(
            [PROGRAM, "apply", "--no-wait"],
            cwd=lab.folder,
            env=lab.env,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        for _ in range(2)
    ]
    said = [p.communicate(timeout=60) for p in both]
    assert [p.returncode for p in both] == [0, 0], said
    assert len(processes_of(lab)) == 1
    assert any("waiting for dacha apply (process" in err for _, err in said) or any(
        "nothing to do" in out for out, _ in said
    )


def test_a_guest_killed_hung_or_stale_is_seen_for_what_it_is(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(TEXT)
    lab("apply")
    pid = lab.pid("gauge")

    # Hung: its process is there, its monitor is silent. No command waits for ever.
    os.kill(pid, signal.SIGSTOP)
    assert "does not respond" in lab("status", code=1).out
    began = time.monotonic()
    refused = lab("stop", "gauge", "--wait", "2s", code=1).err
    assert "its monitor does not respond" in refused and "dacha stop gauge --force" in refused
    assert time.monotonic() - began < 30
    lab("stop", "gauge", "--wait", "1s", "--force")
    assert processes_of(lab) == []

    # Off by itself, told to end from outside, killed: trace says which.
    lab("start", "gauge")
    with socket.socket(socket.AF_UNIX) as console:
        console.connect(f"{lab.env['DACHA_RUN']}/faults/gauge/serial")
        pid = lab.pid("gauge")
        console.sendall(b"poweroff -f\n")
        wait_until_gone(pid)
    assert "powered off inside the guest: dacha log gauge" in lab("trace", "gauge", code=1).out
    lab("start", "gauge", "--no-wait")
    pid = lab.pid("gauge")
    os.kill(pid, signal.SIGTERM)
    wait_until_gone(pid)
    assert f"QEMU received SIGTERM from process {os.getpid()} (" in lab("trace", "gauge", code=1).out

    # Killed from outside: off, and the next apply starts it again, because nobody meant it to be off.
    lab("start", "gauge", "--no-wait")
    kill(lab.pid("gauge"))
    assert "it ended without a message" in lab("trace", "gauge", code=1).out
    assert [g["state"] for g in lab("status", "--json").json["guests"]] == ["off"]
    assert "guest gauge        start" in lab("diff").out

    # A record whose process id belongs to another program by now: that program is never touched.
    stranger = subprocess.Popen(["sleep", "300"])
    try:
        record = lab.guest_folder("gauge") / "guest.json"
        raw = json.loads(record.read_text())
        raw["process"][0] = stranger.pid
        record.write_text(json.dumps(raw))
        assert [g["state"] for g in lab("status", "--json").json["guests"]] == ["off"]
        lab("stop", "gauge", "--force", "--wait", "0s")
        lab("start", "gauge", "--no-wait")
        assert stranger.poll() is None
    finally:
        stranger.kill()
        stranger.wait()

    # A record that is lost or damaged: the guest is found by its own monitor and adopted.
    record.write_text("{ damaged")
    found = lab("status", "--json", code=None).json["guests"][0]
    assert found["state"] == "on" and found["pid"] == processes_of(lab)[0]
    record.unlink()
    lab("stop", "gauge", "--wait", "0s", "--force")
    assert processes_of(lab) == []


def test_the_lab_file_gone_while_guests_run_is_said_with_the_way_back(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(TEXT)
    lab("apply", "--no-wait")
    text = lab.file.read_text()
    lab.file.unlink()
    for said in (lab("status", code=2).err, lab("status", "--lab", str(lab.file), code=2).err):
        assert "its guests may still run" in said and f"applied.toml {lab.file}" in said
    command = next(line.split(": ", 1)[1] for line in said.splitlines() if "cp " in line)
    subprocess.run(command.split(), check=True)
    assert lab.file.read_text() == text
    assert "1 on" in lab("status", code=None).out


def test_qemu_refusing_to_start_is_told_in_its_own_words(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(TEXT.replace("[guest.gauge]", '[guest.gauge]\ncpu = "no-such-processor"'))
    done = lab("apply", code=3)
    assert "QEMU did not start gauge" in done.err and "unable to find CPU model" in done.err
    assert processes_of(lab) == []
    lab.write(TEXT)
    lab("apply", "--no-wait")
    assert len(processes_of(lab)) == 1


def test_a_guest_that_ignores_its_button_is_said_and_can_be_forced(guest_lab: Lab, image: object) -> None:
    lab = guest_lab
    # A kernel without its root file system ends in a panic and hears no button.
    text = TEXT.replace("@BOOT@", f'memory = "128 MiB"\nvideo = false\nboot = {{ kernel = "{image.kernel}" }}')  # type: ignore[attr-defined]
    lab.write(text.replace('disk = [{ size = "16 MiB" }]\n', ""))
    lab("apply", "--no-wait")
    refused = lab("stop", "gauge", "--wait", "1s", code=1)
    assert "still on 1 s after its power button was pressed" in refused.err and "--force" in refused.err
    assert len(processes_of(lab)) == 1
    assert "powered off" in lab("stop", "gauge", "--wait", "1s", "--force").out
    assert processes_of(lab) == []


def test_a_guest_whose_kernel_gave_up_is_not_waited_for(guest_lab: Lab, image: object) -> None:
    lab = guest_lab
    boot = f'kernel = "{image.kernel}", command-line = "console=ttyS0 nokaslr mitigations=off"'  # type: ignore[attr-defined]
    text = TEXT.replace("@BOOT@", f'memory = "128 MiB"\nvideo = false\nboot = {{ {boot} }}')
    lab.write(text.replace('disk = [{ size = "16 MiB" }]\n', ""))
    lab("apply", "--no-wait")
    deadline = time.monotonic() + 120
    while "end Kernel panic" not in lab("console", "gauge", "--record").out:
        assert time.monotonic() < deadline
        time.sleep(0.5)
    traced = lab("trace", "gauge", "--json", code=1).json
    boot_hop = next(h for h in traced["hops"] if h["name"] == "boot")
    assert "its kernel panicked: dacha trace gauge ssh" in lab("status", code=1).out
    assert boot_hop["seen"].endswith("unknown-block(0,0)"), boot_hop
    began = time.monotonic()
    refused = lab("stop", "gauge", "--wait", "5min", code=1)
    assert "gauge does not respond to the power button: its kernel panicked" in refused.err
    assert "Unable to mount root fs" in refused.err and "dacha stop gauge --force" in refused.err
    assert "powered off: its kernel had panicked" in lab("stop", "gauge", "--force", "--wait", "5min").out
    assert time.monotonic() - began < 100 and processes_of(lab) == []


def test_a_guest_whose_boot_has_failed_is_not_waited_for(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(TEXT)
    ends = 'rdinit=/bin/busybox -- sh -c \\"echo You are in emergency mode. Press Enter.; /bin/busybox sleep 999\\""'
    text = lab.file.read_text()
    assert 'rdinit=/init"' in text
    lab.file.write_text(text.replace('rdinit=/init"', ends))
    began = time.monotonic()
    done = lab("apply", "--wait", "5min", code=1)
    assert "its boot has failed, and its console waits for an administrator" in done.err, done
    assert time.monotonic() - began < 200
    assert "its boot has failed: dacha trace gauge ssh" in lab("status", code=1).out
    traced = lab("trace", "gauge", "ssh", code=1).out
    assert 'its console shows "You are in emergency mode"' in traced and "journalctl -xb" in traced


def test_a_door_that_never_answers_is_exit_code_1_in_the_stated_time(guest_lab: Lab) -> None:
    lab = guest_lab
    lab.write(TEXT)
    lab.file.write_text(lab.file.read_text().replace("rdinit=/init", "rdinit=/none"))
    began = time.monotonic()
    done = lab("apply", "--wait", "3s", code=1)
    assert "door gauge ssh does not respond" in done.err and "dacha trace gauge ssh" in done.err
    assert time.monotonic() - began < 30
