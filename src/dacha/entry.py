"""Where the installed program begins: Ctrl-C ends it without a word while the rest of it is still being loaded."""

from __future__ import annotations

import signal


def program() -> None:
    """Load the command line, and be it."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    from dacha.cli.main import program as run

    signal.signal(signal.SIGINT, signal.default_int_handler)
    run()
