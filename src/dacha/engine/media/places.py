"""The origin of media and how to verify them: a URL, its checksum, its signer; given as options, or stored by name in a
file of the administrator."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import tomli

from dacha.core.errors import UsageError
from dacha.core.named import NamedTuple
from dacha.core.spelling import did_you_mean
from dacha.engine.media.fetch import fetch_small
from dacha.engine.media.media_facts import expected_sum
from dacha.host import folders
from dacha.host.signature import check_signature

KEYS = ("address", "sha256", "sums", "signature", "key", "about")


class Place(NamedTuple):
    """A URL (or file), the medium's `sha256` or a file of `sums` that contains it, the `signature` of that and the
    `key` of its signer; sums, signature and key are files, the first two also URLs; `about` describes it."""

    address: str
    sha256: str | None = None
    sums: str | None = None
    signature: str | None = None
    key: str | None = None
    about: str | None = None


def place_in(file: str, name: str) -> Place:
    """The place of that name in a file of places. Raises UsageError."""
    told = _read_toml(file)
    if not isinstance(told.get(name), dict):
        raise UsageError(f"it has no place {name}", where=file, remedy=did_you_mean(name, told))
    return _place(file, name, told[name])


def places_in(file: str) -> dict[str, Place]:
    """Every place in a file of places, by name. Raises UsageError."""
    return {name: _place(file, name, table) for name, table in _read_toml(file).items() if isinstance(table, dict)}


def _read_toml(file: str) -> dict[str, Any]:
    try:
        with folders.expand(file).open("rb") as f:
            return tomli.load(f)
    except OSError as e:
        raise UsageError(f"the list of places cannot be read: {e.strerror}", where=file) from e
    except ValueError as e:
        raise UsageError(f"it is not valid TOML: {e}", where=file) from e


def _place(file: str, name: str, table: dict[str, Any]) -> Place:
    """A table of the file; relative files are beside it."""
    for key, value in table.items():
        if key not in KEYS:
            raise UsageError(f"{name}: unknown key {key}", where=file, remedy=did_you_mean(key, KEYS))
        if not isinstance(value, str):
            raise UsageError(f"{name}: {key} is not text", where=file, remedy=f'add: {key} = "…"')
    if "address" not in table:
        raise UsageError(f"{name} has no address", where=file, remedy='add: address = "https://…"')
    folder = folders.expand(file).parent
    plain = ("sha256", "about")
    beside = {k: v if k in plain or "://" in v else str(folder / v) for k, v in table.items()}
    return Place(**beside)


def expected_of(place: Place) -> tuple[str | None, str]:
    """The expected checksum of the medium, None if there is none, and its signer ("" for none). Raises UsageError for
    options that conflict, AnswerNo for a wrong signature."""
    if (place.signature or place.key) and not (place.sums and place.signature and place.key):
        raise UsageError("a signature signs the list of checksums", remedy="set all three: sums, signature, key")
    value, who = place.sha256, ""
    if place.sums:
        text = read_source(place.sums, "checksums")
        if place.signature and place.key:
            who = check_signature(text, read_source(place.signature, "signature"), folders.expand(place.key))
        file = place.address.rpartition("/")[2]
        value = expected_sum(text.decode("utf-8", "replace"), file)
        if value is None:
            raise UsageError(f"it has no checksum for {file}", where=place.sums)
        if place.sha256 and place.sha256.lower() != value:
            raise UsageError("the given checksum differs from the one in this list", where=place.sums)
    if value is not None and not (len(value) == 64 and all(c in "0123456789abcdefABCDEF" for c in value)):
        raise UsageError("a SHA-256 has 64 hexadecimal digits", where="sha256")
    return value, who


def read_source(source: str, what: str) -> bytes:
    """A list of checksums or a signature, from a file or a URL. Raises UsageError, AnswerNo."""
    if source.startswith(("http://", "https://")):
        return fetch_small(source)
    try:
        return Path(folders.expand(source)).read_bytes()
    except OSError as e:
        raise UsageError(f"the {what} cannot be read: {e.strerror}", where=source) from e
