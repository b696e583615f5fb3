"""What is told once, until it is another."""

from __future__ import annotations

from dacha.engine.home import Home
from dacha.host.files import replace_file


def is_news(home: Home, topic: str, text: str) -> bool:
    """True if something else, or nothing, was told of the topic last; the text is noted. Raises HostError."""
    note = home.folder / f"told-{topic}"
    try:
        if note.read_text() == text:
            return False
    except OSError:
        pass
    replace_file(note, text)
    return True
