"""Messages about a lab that is stored under another name, or in a state folder that does not exist now."""

from __future__ import annotations

from pathlib import Path


def renamed_words(former: str, now: str) -> tuple[str, str]:
    """The message about a lab file whose name was changed by hand, and the remedy."""
    return (
        f"this file previously described the lab {former}; its disks and host keys are stored under that name",
        f"dacha lab rename {former} {now}\n"
        f'to create a second lab: write it to another file, and set name = "{former}" here again',
    )


def away_words(lab: str, folder: Path, link: Path) -> tuple[str, str]:
    """The message about a lab that was moved to a folder that does not exist, and the remedy."""
    return (
        f"the lab {lab} is stored in {folder}, which does not exist",
        f"mount its file system; if the lab is lost permanently: rm {link}",
    )
