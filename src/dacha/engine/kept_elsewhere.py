"""What to say of a lab that is kept under another name, or in a state folder that does not exist now."""

from __future__ import annotations

from pathlib import Path


def renamed_words(former: str, now: str) -> tuple[str, str]:
    """What to say of a lab file whose lab was given another name by hand, and the remedy."""
    return (
        f"this file previously described the lab {former}; its disks and host keys are stored under that name",
        f"dacha lab rename {former} {now}\n"
        f'to create a second lab: write it to another file, and set name = "{former}" here again',
    )


def away_words(lab: str, folder: Path, link: Path) -> tuple[str, str]:
    """What to say of a lab whose folder does not exist where it was moved to, and the remedy."""
    return (
        f"the lab {lab} is stored in {folder}, which does not exist",
        f"mount its file system; if the lab is lost permanently: rm {link}",
    )
