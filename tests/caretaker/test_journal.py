"""A caretaker that is killed at any moment: no lease that a client was told of is lost, and none is given twice."""

from __future__ import annotations

import subprocess
from ipaddress import IPv4Address
from pathlib import Path

from dacha.caretaker.journal import Journal, read
from dacha.wire.dhcp.dhcp4 import Kind, Option
from dacha.wire.dhcp.dhcp4_lease import Keep, Lease, Reply
from dacha.wire.dhcp.dhcp4_server import Server
from tests.wire.test_dhcp4 import SCOPE, said, take

WIDE = SCOPE._replace(dynamic=(IPv4Address("10.77.4.100"), IPv4Address("10.77.4.140")))


def client(n: int) -> bytes:
    return bytes.fromhex(f"02000000{n:04x}")


def test_a_journal_cut_at_any_byte_keeps_every_lease_that_was_told(tmp_path: Path) -> None:
    journal = Journal(tmp_path / "leases")
    server = Server(WIDE, journal.leases)
    told: list[tuple[int, bytes, IPv4Address]] = []
    for n in range(12):
        # As the service does it: what is to be kept is written before the client is told.
        before = dict(server.leases)
        address = take(server, client(n), 100.0 * n)
        for lease in server.leases.values():
            if before.get(lease.address) != lease:
                journal.keep(lease)
        told.append((journal.path.stat().st_size, client(n), address))
    journal.close()
    whole = journal.path.read_bytes()
    cut = tmp_path / "cut"
    for length in range(len(whole) + 1):
        cut.write_bytes(whole[:length])
        kept = read(cut)
        safe = [(hardware, address) for size, hardware, address in told if size <= length]
        assert all(kept[address].hardware == hardware for hardware, address in safe)
        if length % 37:
            continue
        # The next one carries on: a stranger gets none of them, and each client keeps its own.
        carried_on = Server(WIDE, kept)
        assert take(carried_on, client(99), 1300.0) not in [address for _, address in safe]
        for hardware, address in safe:
            renewal = said(Kind.REQUEST, hardware, ciaddr=address.packed, options={Option.HOST_NAME: b"x"})
            keep, reply = carried_on.receive(renewal, 1300.0)
            assert isinstance(keep, Keep) and isinstance(reply, Reply) and reply.message.kind == Kind.ACK


def test_a_full_disk_keeps_leases_in_memory_and_writes_them_when_there_is_room(tmp_path: Path) -> None:
    small = tmp_path / "small"
    small.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", small], check=True)
    try:
        journal = Journal(small / "leases")
        (small / "filler").write_bytes(bytes(40 << 10))
        failed = 0
        for n in range(400):
            lease = Lease(IPv4Address(0x0A500000 + n), client(n), client(n), 100.0, "bound", "")
            try:
                journal.keep(lease)
            except OSError:
                failed += 1
        assert failed and len(journal.leases) == 400 and len(read(small / "leases")) < 400
        (small / "filler").unlink()
        journal.keep(Lease(IPv4Address("10.81.0.1"), client(401), client(401), 100.0, "bound", ""))
        assert read(small / "leases").keys() == journal.leases.keys() and len(journal.leases) == 401
        journal.close()
    finally:
        subprocess.run(["umount", small], check=True)
