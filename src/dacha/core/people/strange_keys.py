"""Keys that open a guest but are not the lab's, as incorrect settings of that guest."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from dacha.core.guest_settings import QUESTIONS, RIGHT, WRONG, Setting
from dacha.core.people.sessions_inside import FUNCTIONS, name_strangers, read_strangers


def questions(accounts: Mapping[str, Sequence[str]]) -> str:
    """The script that queries a guest's settings and the unknown keys in these accounts (with their known lines of
    authorized_keys)."""
    steps = "\n".join(name_strangers(account, lines) for account, lines in accounts.items())
    return f"{FUNCTIONS}{steps}\n{QUESTIONS}"


def keys_setting(accounts: Mapping[str, Sequence[str]], said: str) -> list[Setting]:
    """An incorrect setting for each key that Dacha did not install, else a correct one."""
    wrong = [
        Setting(f"key in {s.account}", WRONG, str(s), "only the lab's keys", s.remedy())
        for s in read_strangers(said)
        if s.account in accounts
    ]
    return wrong or [Setting("keys", RIGHT, "the lab's alone", "the lab's alone")]
