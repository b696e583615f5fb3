"""What one guest may cost this host by its shared folders, without a network."""

from __future__ import annotations

import asyncio

from dacha.caretaker.file_service import STARTS_MOST, FileService


def test_a_guest_that_connects_all_the_time_is_not_served_all_the_time_and_others_are() -> None:
    async def connects() -> tuple[int, bool]:
        service = FileService(lambda text: None)
        served = sum(not service._too_often("squall") for _ in range(10 * STARTS_MOST))
        return served, service._too_often("gauge")

    assert asyncio.run(connects()) == (STARTS_MOST, False)
