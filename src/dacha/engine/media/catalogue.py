"""The administrator's catalogue: a file with the places of images and installers, by name, and the newest file of each.

It is `places.toml` in the configuration folder. Nothing is built in: an example shows the form.
"""

from __future__ import annotations

import re
from fnmatch import fnmatchcase
from importlib.resources import files
from pathlib import Path

from dacha.core.errors import AnswerNo, DachaError, UsageError
from dacha.core.named import NamedTuple
from dacha.engine.media.fetch import add_from
from dacha.engine.media.media_facts import names_in_sums, short_name
from dacha.engine.media.media_store import Kept, Progress, Store
from dacha.engine.media.places import Place, expected_of, place_in, places_in, read_source
from dacha.host import folders


class Entry(NamedTuple):
    """An entry of the catalogue: its name, a description, the address, and the medium that was stored from it."""

    name: str
    about: str
    address: str
    stored: Kept | None


class Newest(NamedTuple):
    """What a place offers now: the place with the address of one file, its checksum, its signer."""

    place: Place
    sha256: str | None
    signer: str


def path() -> Path:
    """The catalogue of this user."""
    return folders.config() / "places.toml"


def example() -> str:
    """An example of a catalogue, with made-up addresses."""
    return files("dacha").joinpath("profiles/places.example").read_text()


def entries(store: Store, word: str = "") -> list[Entry]:
    """The entries that contain `word` in their name, description or address; all without one, none if there is no
    catalogue. Raises UsageError for an invalid file."""
    if not path().exists():
        return []
    kept = store.all()
    found = []
    for name, place in sorted(places_in(str(path())).items()):
        text = f"{name} {place.about or ''} {place.address}".lower()
        if word.lower() in text:
            stored = next((k for k in kept if k.place == name), None) or store.find(name)
            found.append(Entry(name, place.about or "", place.address, stored))
    return found


def has(name: str) -> bool:
    """True if the catalogue has an entry of this name."""
    return path().exists() and name in places_in(str(path()))


def newest(place: Place) -> Newest:
    """The file that a place offers now. An address whose last part contains * stands for the highest version in the
    list of checksums. Raises UsageError, AnswerNo."""
    folder, _, pattern = place.address.rpartition("/")
    if "*" in pattern:
        if not place.sums:
            raise UsageError("an address with * needs a list of checksums", where=place.address, remedy="add: sums")
        text = read_source(place.sums, "checksums").decode("utf-8", "replace")
        fitting = [n for n in names_in_sums(text) if fnmatchcase(n, pattern)]
        if not fitting:
            raise AnswerNo(f"no file {pattern} is in the list of checksums", where=place.sums)
        place = place._replace(address=f"{folder}/{max(fitting, key=_version)}")
    expected, signer = expected_of(place)
    return Newest(place, expected, signer)


def _version(name: str) -> list[tuple[int, str]]:
    """Sorts 12.10 above 12.9: numbers as numbers."""
    return [(int(part), "") if part.isdigit() else (-1, part) for part in re.findall(r"\d+|\D+", name)]


def obtain(store: Store, name: str, progress: Progress) -> tuple[Kept, str]:
    """The medium of a catalogue entry: the stored one, else downloaded and verified now; with its signer. Raises
    UsageError without such an entry, AnswerNo if it cannot be downloaded or is not what it should be."""
    kept = store.find(name)
    if kept:
        return kept, ""
    found = newest(place_in(str(path()), name))
    kept, _ = add_from(store, found.place.address, name, expected=found.sha256, progress=progress, place=name)
    return kept, found.signer


def newer(kept: Kept) -> tuple[str, str] | None:
    """A newer file that the place of a stored medium offers: its address, and a short name for it; None if the stored
    one is the newest, or it has no place or no checksum there. Raises DachaError if that cannot be found out."""
    if not kept.place or not has(kept.place):
        return None
    found = newest(place_in(str(path()), kept.place))
    if found.sha256 is None or found.sha256.lower() == kept.sha256:
        return None
    return found.place.address, short_name(found.place.address)


def why_unknown(error: DachaError) -> str:
    """Why a place could not be queried, in a line."""
    return f"{error.what}{f': {error.why}' if error.why else ''}".replace("\n", "; ")
