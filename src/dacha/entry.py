"""The start of the installed program: Ctrl-C ends it silently while the rest is still being imported."""

from __future__ import annotations

# The standard `signal` module is based on this one, and takes a tenth of the start to import.
import _signal  # type: ignore[import-not-found]


def program() -> None:
    """Import the command line, run it, and exit."""
    _signal.signal(_signal.SIGINT, _signal.SIG_DFL)
    from dacha.cli.main import program as run

    _signal.signal(_signal.SIGINT, _signal.default_int_handler)
    try:
        run()
    finally:
        # The interpreter is shutting down: there is nothing left to interrupt.
        _signal.signal(_signal.SIGINT, _signal.SIG_DFL)
