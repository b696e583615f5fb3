"""The person at the terminal, for the few things that only a person knows."""

from __future__ import annotations

from collections.abc import Callable

# Prompts for a secret: takes what is asked, in words, and whether it is a new one. Set by a command line that has a
# terminal; None where nobody can be asked, as in a service.
secret: Callable[[str, bool], str] | None = None
