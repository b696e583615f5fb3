"""What is noted of the addresses that guests use, without a network."""

from __future__ import annotations

import asyncio
from ipaddress import IPv4Address
from pathlib import Path

from dacha.caretaker import watching
from dacha.caretaker.watching import Watch, Watched

FIRST, SECOND, THIRD = (IPv4Address(f"10.77.4.{n}") for n in (100, 117, 2))


def test_the_last_of_quick_changes_is_noted_though_the_guest_says_it_once(tmp_path: Path) -> None:
    async def quick() -> Watch:
        moved = asyncio.Event()
        link = Watched(("buoy", 0), "02:00:00:00:00:20", None)
        watch = Watch({"tap": link}, {}, tmp_path / "seen.json", lambda text: None, moved.set)
        watch.used("tap", FIRST, "wire")
        watch.used("tap", SECOND, "wire")
        watch.used("tap", THIRD, "wire")
        assert watch.seen[link.key].address == FIRST, "each note is a write to the disk"
        moved.clear()
        await asyncio.wait_for(moved.wait(), 10 * watching.CHANGED_S)
        watch.used("tap", FIRST, "wire")
        watch.used("tap", THIRD, "wire")
        watch.close()
        return watch

    watch = asyncio.run(quick())
    assert watch.seen["buoy", 0].address == THIRD
    assert "10.77.4.2" in (tmp_path / "seen.json").read_text()


def test_an_agents_words_are_addresses_or_nothing(tmp_path: Path) -> None:
    async def told() -> Watch:
        link = Watched(("buoy", 0), "02:00:00:00:00:20", None)
        watch = Watch({"tap": link}, {}, tmp_path / "seen.json", lambda text: None, lambda: None)
        mine = link.hardware
        watch.told(
            [(mine, "fd77:4::20%x; flush ruleset/64"), (mine, "fd77:4::20/64"), (mine, "high tide"), ("", "::1")]
        )
        watch.close()
        return watch

    assert asyncio.run(told()).seen["buoy", 0].others == ("fd77:4::20",)
