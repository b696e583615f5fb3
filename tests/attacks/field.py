"""A kernel lab with a hostile guest beside an honest one, and eyes where its frames must not come to."""

from __future__ import annotations

import json
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterable
from pathlib import Path
from typing import Any

from dacha.core.lab.names import link_name
from tests.attacks.frames import EVERYBODY, ethernet, records, sender, udp
from tests.conftest import boot_lines, stop_everything
from tests.networks.world import PYTHON, HostedLab, World

# No process of Dacha's may take more memory than this.
MOST_MIB = 100
LAB = """\
[lab]
name = "siege"
[network.pier]
kind = "nat"
backend = "kernel"
subnet = "10.77.4.0/24"
subnet6 = "fd77:4::/64"
dynamic = "10.77.4.100-10.77.4.199"
[network.vault]
kind = "host-only"
backend = "kernel"
subnet = "10.77.9.0/24"
[guest.squall]
@BOOT@
adapter = [
  { network = "pier", address = "10.77.4.66", address6 = "fd77:4::66" },
  { network = "vault", address = "10.77.9.66" },
]
door.ssh = { from = "host", port = 2266 }
[guest.gauge]
@BOOT@
adapter = [{ network = "pier", address = "10.77.4.20", address6 = "fd77:4::20" }]
door.ssh = { from = "host", port = 2221 }
door.http = { from = "lan", port = 8020 }
"""
# Prints each frame that comes by on some links, as hexadecimal, until it is told that the last one came.
_EYES = """
import socket, sys, select, time
last, links = bytes.fromhex(sys.argv[1]), sys.argv[2:]
eyes = []
for link in links:
    s = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3)); s.bind((link, 3)); eyes.append(s)
print("up", flush=True)
seen, until = set(), time.monotonic() + 30
while len(seen) < len(links) and time.monotonic() < until:
    for s in select.select(eyes, [], [], 1)[0]:
        data = s.recv(4096)
        if last in data: seen.add(s)
        else: print(links[eyes.index(s)], data.hex())
print("end", len(seen))
"""
# Notes every datagram that comes to a port of this host, until one says so.
_EAR = """
import socket, sys
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM); s.bind((sys.argv[1], int(sys.argv[2])))
print("up", flush=True)
s.settimeout(60)
while (data := s.recv(2048)) != b"end": print(data.decode(), flush=True)
"""


class Field:
    """The lab while it is under attack. `squall` is the hostile guest, `gauge` the honest one."""

    def __init__(self, image: Any, key_files: Path, text: str = LAB) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="dacha-siege-"))
        self.world = World()
        (self.folder / "home").mkdir()
        self.lab = HostedLab(self.folder, self.folder / "run", self.world)
        for name in ("id", "id.pub"):
            shutil.copy(key_files / name, self.folder / name)
        boot_lines(self.lab, image)
        try:
            self._begin(text)
        except BaseException:
            self.close()
            raise

    def _begin(self, text: str) -> None:
        self.lab.write(text)
        self.lab("apply", timeout=400)
        self.bridge = link_name("siege", "network", "pier")
        self.taps = {g: link_name("siege", "guest", g, "0") for g in ("squall", "gauge")}
        self.hardware = {g: self._hardware(g) for g in ("squall", "gauge")}
        self.gateway = self._address(self.bridge)
        self.put("squall", "send", sender())

    def _hardware(self, guest: str) -> bytes:
        record = json.loads((self.lab.guest_folder(guest) / "guest.json").read_text())
        return bytes.fromhex(record["machine"]["adapters"][0]["hardware_address"].replace(":", ""))

    def _address(self, link: str) -> bytes:
        text = self.world.run("host", "cat", f"/sys/class/net/{link}/address").strip()
        return bytes.fromhex(text.replace(":", ""))

    def close(self) -> None:
        try:
            stop_everything(self.lab)
        finally:
            self.world.close()
            shutil.rmtree(self.folder, ignore_errors=True)

    def put(self, guest: str, name: str, data: bytes) -> None:
        """Make a file in the home of a guest's user."""
        (self.folder / "sent").write_bytes(data)
        with (self.folder / "sent").open() as source:
            self.lab("connect", guest, "--", f"cat > {name}; chmod 755 {name}", stdin=source)

    def on_console(self, guest: str, command: str, timeout_s: float = 60) -> str:
        """Run a command as root in a guest; what it said."""
        return on_console(Path(self.lab.env["DACHA_RUN"]) / "siege" / guest, command, timeout_s)

    def passed(self, frames: dict[str, bytes]) -> dict[str, set[str]]:
        """Send frames from the hostile guest: by name, where each of them was seen: "host", "neighbour"."""
        last = udp("10.77.4.66", "10.77.4.255", 9, f"last{time.monotonic_ns()}".encode())
        final = ethernet(EVERYBODY, self.hardware["squall"], 0x0800, last)
        links = {self.bridge: "host", self.taps["gauge"]: "neighbour"}
        eyes = subprocess.Popen(
            self.world.inside("host", *PYTHON, "-c", _EYES, last.hex(), *links),
            stdout=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert eyes.stdout and eyes.stdout.readline() == "up\n"
        self.send([*frames.values(), final])
        out, _ = eyes.communicate(timeout=60)
        lines = out.splitlines()
        assert lines[-1] == "end 2", "an honest frame must come through: " + lines[-1]
        seen: dict[str, set[str]] = {name: set() for name in frames}
        for line in lines[:-1]:
            link, _, data = line.partition(" ")
            for name, frame in frames.items():
                # What comes after the addresses, tags and type.
                if self.inner(frame).hex() in data:
                    seen[name].add(links[link])
        return seen

    @staticmethod
    def inner(frame: bytes) -> bytes:
        at = 12
        while frame[at : at + 2] in (b"\x81\x00", b"\x88\xa8"):
            at += 4
        return frame[at + 2 :]

    def send(self, frames: Iterable[bytes]) -> None:
        """Send frames from the hostile guest, as they are."""
        self.put("squall", "frames", records(list(frames)))
        self.on_console("squall", "/home/ops/send < /home/ops/frames")

    def heard(self, machine: str, address: str, port: int, attack: Any) -> list[str]:
        """Which datagrams come to a port of a machine while `attack` goes on."""
        ear = subprocess.Popen(
            self.world.inside(machine, *PYTHON, "-c", _EAR, address, str(port)), stdout=subprocess.PIPE, text=True
        )
        assert ear.stdout and ear.stdout.readline() == "up\n"
        attack()
        code = f"import socket; socket.socket(2,2).sendto(b'end',({address!r},{port}))"
        self.world.run(machine, *PYTHON, "-c", code)
        return ear.communicate(timeout=60)[0].split()

    def lan_syn(self, address: str, port: int, to: bytes | None = None) -> bool:
        """True when a machine on the LAN that sends the first packet of a connection to this host's hardware address
        is answered, whatever address the packet is for."""
        code = f"""
import socket, time
from tests.attacks.frames import ethernet, syn
s = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(0x0800)); s.bind(("eth0", 0x0800))
own = s.getsockname()[4]
for n in range(3):
    s.send(ethernet({to or self._address_of_host()!r}, own, 0x0800, syn("192.0.2.20", {address!r}, {port}, 50123)))
    until = time.monotonic() + 0.7
    while (left := until - time.monotonic()) > 0:
        s.settimeout(left)
        try: data = s.recv(2048)
        except TimeoutError: break
        if data[:6] == own and data[23] == 6 and data[36:38] == (50123).to_bytes(2, "big") and data[47] & 0x12 == 0x12:
            raise SystemExit(print("answered"))
"""
        return "answered" in self.world.run("lan", "env", f"PYTHONPATH={Path.cwd()}", sys.executable, "-c", code)

    def _address_of_host(self) -> bytes:
        return self._address("eth0")


def on_console(run: Path, command: str, timeout_s: float = 60) -> str:
    """Run a command as root in the guest whose sockets are in this folder; what it said."""
    number = time.monotonic_ns()
    with socket.socket(socket.AF_UNIX) as console:
        console.connect(f"{run}/serial")
        console.settimeout(timeout_s)
        # The echo of what is typed has quotes in the marks, their output has none.
        console.sendall(f"echo be''gun{number}; {command}; echo do''ne{number}\n".encode())
        said = b""
        deadline = time.monotonic() + timeout_s
        while f"done{number}".encode() not in said:
            assert time.monotonic() < deadline, said[-800:]
            said += console.recv(4096)
    return said.decode(errors="replace").partition(f"begun{number}")[2].partition(f"done{number}")[0]


def memory_of() -> dict[str, int]:
    """Memory of every process of Dacha's, in MiB, by its number."""
    found = {}
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            words = (entry / "cmdline").read_bytes()
            if b"dacha.caretaker" in words or b"recorder.py" in words:
                rss = next(x for x in (entry / "status").read_text().splitlines() if x.startswith("VmRSS"))
                found[entry.name] = int(rss.split()[1]) >> 10
        except (OSError, StopIteration):
            continue
    return found
