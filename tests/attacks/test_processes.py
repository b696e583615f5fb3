"""Processes that were taken over: one guest's cannot touch another's, and none has a power that it does not need."""

from __future__ import annotations

import json
import subprocess
import sys
import textwrap
from pathlib import Path

from tests.attacks.report import Report
from tests.caretaker.test_worker import children, named
from tests.conftest import Lab
from tests.networks.world import HostedLab

LAB = """\
[lab]
name = "siege"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
"""
GUEST = """\
[guest.{name}]
memory = "64 MiB"
tpm = true
disk = [{{ size = "1 MiB" }}]
adapter = [{{ network = "pier", address = "10.77.4.{last}" }}]
"""
# What a process of the user in the arguments can do to another: prints the names of what succeeded.
ATTEMPTS = textwrap.dedent("""
    import ctypes, os, signal, socket, sys
    victim, run, state = int(sys.argv[1]), sys.argv[2], sys.argv[3]

    def attempt(what, do):
        try:
            do()
            print(what)
        except OSError:
            pass

    def connect(path):
        s = socket.socket(socket.AF_UNIX)
        s.connect(path)

    def trace():
        if ctypes.CDLL(None, use_errno=True).ptrace(16, victim, 0, 0):
            raise OSError(ctypes.get_errno(), "ptrace")

    attempt("its monitor, by its folder", lambda: connect(f"{run}/qmp"))
    attempt("its monitor, by /proc", lambda: connect(f"/proc/{victim}/cwd/qmp"))
    attempt("its memory", lambda: open(f"/proc/{victim}/mem", "rb").close())
    attempt("its files, by /proc", lambda: os.listdir(f"/proc/{victim}/fd"))
    attempt("to trace it", trace)
    attempt("to kill it", lambda: os.kill(victim, signal.SIGTERM))
    attempt("its disk", lambda: open(f"{state}/disk-0.qcow2", "rb").close())
    attempt("its console's record", lambda: open(f"{state}/console.log", "rb").close())
    attempt("its TPM's memory", lambda: os.listdir(f"{state}/tpm"))
    attempt("to make itself root", lambda: os.setuid(0))
""")


def facts(pid: int) -> dict[str, str]:
    rows = (line.split(":", 1) for line in Path(f"/proc/{pid}/status").read_text().splitlines())
    return {key: value.strip() for key, value in rows}


def processes(lab: Lab) -> dict[str, int]:
    """Every process of the lab, by what it is."""
    found = {}
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            words = (entry / "cmdline").read_bytes().decode().split("\0")
            inside = {str(p.resolve()) for p in (entry / "fd").iterdir()}
            where = str((entry / "cwd").resolve())
        except OSError:
            continue
        folder = str(lab.folder)
        here = where.startswith(str(Path(lab.env["DACHA_RUN"]).resolve()))
        if here and words[0].endswith("qemu-system-x86_64") and any(".siege" in w for w in words):
            found["QEMU of " + next(w for w in words if ".siege" in w).split("=")[1]] = int(entry.name)
        elif words[0].endswith("swtpm") and any(folder in x for x in inside):
            guest = next(Path(x).parts for x in inside if "/tpm/" in x or x.endswith("/tpm.log"))
            found[f"swtpm of {guest[guest.index('guests') + 1]}"] = int(entry.name)
        elif "dacha.caretaker.run" in words and any(folder in w for w in words):
            found["caretaker, root part"] = int(entry.name)
            for child in children(int(entry.name)):
                found["source of packet workers"] = child
                words = {"dacha-packets": "packet worker", "dacha-relay": "frame relay"}
                found |= {words.get(named(p), "packet worker, new"): p for p in children(child)}
    return found


def test_one_guest_owns_no_other_and_nobody_has_a_power_to_spare(hosted: HostedLab) -> None:
    lab, report = hosted, Report()
    lab.write(LAB + GUEST.format(name="squall", last=66) + GUEST.format(name="gauge", last=20))
    lab("apply", "--no-wait")
    found = processes(lab)
    print()
    for name, pid in sorted(found.items()):
        f = facts(pid)
        print(f"{name:<24} uid {f['Uid'].split()[0]:<11} CapEff {f['CapEff']} CapBnd {f['CapBnd']} "
              f"seccomp {f['Seccomp']} {Path(f'/proc/{pid}/cgroup').read_text().splitlines()[-1]}")  # fmt: skip
        root = name.startswith("caretaker")
        report.shut(f"{name}: capabilities", "" if root else f["CapEff"].strip("0") + f["CapBnd"].strip("0"))
        report.shut(f"{name}: is root", "" if root else f["Uid"].split()[0] == "0")
        # What workers are copied from reads nothing of anybody's: it makes new processes, and no worker can.
        report.open(f"{name}: seccomp", root or name.startswith("source") or f["Seccomp"] == "2")
    # Of the root part's few: not the modules, raw devices, clock, other processes' memory, or administration at large.
    powers = int(facts(found["caretaker, root part"])["CapBnd"], 16)
    report.shut("caretaker: dangerous powers", [n for n in (16, 17, 18, 19, 21, 22, 25, 39, 38) if powers >> n & 1])
    users = {name: facts(pid)["Uid"].split()[0] for name, pid in found.items() if name.startswith("QEMU")}
    report.open("each guest has a user of its own", len(set(users.values())) == 2 and "65534" not in users.values())
    record = json.loads((lab.guest_folder("squall") / "guest.json").read_text())
    report.open("the guest's record says which", str(record["uid"]) == users["QEMU of squall.siege"])
    victim, run = found["QEMU of gauge.siege"], Path(lab.env["DACHA_RUN"]) / "siege/gauge"
    for who in ("QEMU of squall.siege", "packet worker"):
        uid = facts(next(p for n, p in found.items() if n.startswith(who)))["Uid"].split()[0]
        done = subprocess.run(
            ["setpriv", "--reuid", uid, "--regid", uid, "--clear-groups", "--inh-caps=-all", "--bounding-set=-all",
             "/usr/bin/python3", "-I", "-c", ATTEMPTS, str(victim), str(run), str(lab.guest_folder("gauge"))],
            capture_output=True, text=True, check=True, cwd="/",
        )  # fmt: skip
        for line in done.stdout.splitlines() or [""]:
            report.shut(f"as {who.partition(' of')[0]}: {line or 'the other guest'}", line)
    # Somebody else who listens where the monitor should be is told nothing.
    said = pretend(lab, run)
    report.shut("a process that took the monitor's place: what it is told", said)
    report.judge()


def pretend(lab: Lab, run: Path) -> str:
    """What a process hears that listens in the place of a guest's monitor."""
    for name in ("qmp", "watch"):
        (run / name).rename(run / f"{name}.aside")
    code = (
        "import socket,select,sys,os\nss=[]\n"
        f"os.chdir({str(run)!r})\n"
        "for n in ('qmp','watch'):\n s=socket.socket(socket.AF_UNIX); s.bind(n); s.listen(9); ss.append(s)\n"
        "print('up',flush=True)\nheard=b''\n"
        "while True:\n r,_,_=select.select(ss,[],[],12)\n if not r: break\n for s in r:\n"
        "  c,_=s.accept(); c.settimeout(1)\n"
        "  try:\n   c.sendall(b'{\"QMP\": {}}\\n'); heard+=c.recv(4096)\n  except OSError: pass\n"
        "print(heard)\n"
    )
    with subprocess.Popen([sys.executable, "-c", code], stdout=subprocess.PIPE, text=True) as trap:
        assert trap.stdout and trap.stdout.readline() == "up\n"
        lab("status", code=None)
        lab("pause", "gauge", code=None)
        heard = trap.communicate(timeout=60)[0].strip()
    for name in ("qmp", "watch"):
        (run / f"{name}.aside").rename(run / name)
    return "" if heard == "b''" else heard
