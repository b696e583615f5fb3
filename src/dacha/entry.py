"""Where the installed program begins: Ctrl-C ends it without a word while the rest of it is still being loaded."""

from __future__ import annotations

# The standard `signal` is made of this, and takes a tenth of the start to load.
import _signal  # type: ignore[import-not-found]


def program() -> None:
    """Load the command line, be it, and end."""
    _signal.signal(_signal.SIGINT, _signal.SIG_DFL)
    from dacha.cli.main import program as run

    _signal.signal(_signal.SIGINT, _signal.default_int_handler)
    try:
        run()
    finally:
        # The interpreter is taken down: there is nothing left to interrupt.
        _signal.signal(_signal.SIGINT, _signal.SIG_DFL)
