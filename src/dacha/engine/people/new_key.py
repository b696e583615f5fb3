"""A new private key for one of the lab's people, for their handout only: the lab stores its public key."""

from __future__ import annotations

import os

from dacha.core.lab.person import Person
from dacha.core.lab.text.edits import Set
from dacha.core.named import NamedTuple
from dacha.engine.lab.edit import edit_lab
from dacha.engine.people.edits import person_named
from dacha.formats.handout.ppk import SALT, ppk
from dacha.formats.openssh import key_pair


class NewKey(NamedTuple):
    """A private key by its file name, in OpenSSH's and in PuTTY's format, and its public line."""

    name: str
    openssh: str
    putty: str
    public: str


def make_key(lab: str, person: Person, passphrase: str, putty_version: int) -> NewKey:
    """A new key, protected by `passphrase` ("" for none)."""
    secret, comment = os.urandom(32), f"{person.name}@{lab}"
    private, public = key_pair(secret, comment, passphrase)
    putty = ppk(
        secret, raw_public(public), comment, passphrase=passphrase, salt=os.urandom(SALT), version=putty_version
    )
    return NewKey(person.name, private, putty, public.strip())


def raw_public(line: str) -> bytes:
    """The 32 bytes of an Ed25519 key in its public line (RFC 8709 section 4)."""
    import base64

    return base64.b64decode(line.split()[1])[-32:]


def let_in(named: str | None, person: str, key: NewKey) -> None:
    """Add a public key to a person in the lab file. Raises LabError, HostError."""
    edit_lab(named, lambda ws: [Set(("person", person, "keys"), [*person_named(ws, person).keys, key.public])])
