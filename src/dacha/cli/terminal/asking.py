"""Prompts for secrets, which are not shown."""

from __future__ import annotations

import sys

from dacha.core.errors import AnswerNo


def secret(what: str, new: bool) -> str:
    """Prompt for a secret, for a new one twice. Raises AnswerNo without a terminal, or if the two entries differ."""
    import getpass

    if not sys.stdin.isatty():
        raise AnswerNo(
            f"the passphrase of {what} is needed, and standard input is not a terminal",
            remedy='run the command on a terminal, or set it to a file: passphrase = "FILE"',
        )
    found = getpass.getpass(f"{'New passphrase' if new else 'Passphrase'} of {what} (nothing is shown): ")
    if new and getpass.getpass("The same once more: ") != found:
        raise AnswerNo("the two passphrases differ", remedy="run the command again")
    return found
