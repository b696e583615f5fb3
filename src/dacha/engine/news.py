"""Messages that are printed once, until they change."""

from __future__ import annotations

from dacha.engine.home import Home
from dacha.host.files import replace_file


def is_news(home: Home, topic: str, text: str) -> bool:
    """True if another message about the topic, or none, was printed last; the text is recorded. Raises HostError."""
    note = home.folder / f"told-{topic}"
    try:
        if note.read_text() == text:
            return False
    except OSError:
        pass
    replace_file(note, text)
    return True
