"""Names in a guest's setup that its system does not know: a time zone, a keyboard layout."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

from dacha.core.findings import WARNING, Finding
from dacha.core.lab.model import Guest
from dacha.core.spelling import nearest

ZONES = Path("/usr/share/zoneinfo")
# Layouts by their names in the X keyboard extension's database, also used by Linux consoles and installers.
_NAMES = """
af al am ara at au az ba bd be bg br brai bt bw by ca cd ch cm cn cz de dk dz ee eg epo es et eu fi fo fr ga gb ge gh
gn gr hr hu id ie il in iq ir is it jp jv ke kg kh kr kz la latam lk lt lv ma mao md me mk ml mm mn mt mv my ng nl no np
nz ph pk pl pt ro rs ru se sg si sk sn sy tg th tj tm tr tw tz ua us uz vn za
"""
LAYOUTS = frozenset(_NAMES.split())
# Common wrong names of layouts.
_MEANT = {"uk": "gb", "en": "gb", "da": "dk", "sv": "se", "cs": "cz", "el": "gr", "ja": "jp", "ko": "kr", "nb": "no"}


def name_findings(guest: Guest) -> Iterator[Finding]:
    """Each with the most similar known name."""
    setup, about = guest.setup, f"guest {guest.name}"
    if setup.keyboard and setup.keyboard not in LAYOUTS:
        near = _MEANT.get(setup.keyboard) or nearest(setup.keyboard, LAYOUTS)
        what = f"unknown keyboard layout {setup.keyboard}"
        yield Finding(
            WARNING, "keyboard", about, what, _meant(near), ("guest", guest.name, "setup", "keyboard"), "host"
        )
    elif setup.keyboard and guest.system == "windows" and setup.keyboard not in _input_locales():
        what = f"no Windows keyboard layout is known for {setup.keyboard}; its language's usual one is used"
        remedy = "set the layout inside the guest, or choose one of: " + ", ".join(sorted(_input_locales()))
        path = ("guest", guest.name, "setup", "keyboard")
        yield Finding(WARNING, "keyboard-windows", about, what, remedy, path, "host")
    zone = setup.time_zone
    if zone and (ZONES / "UTC").exists() and not (ZONES / zone).is_file():
        from zoneinfo import available_timezones

        known = {name.lower(): name for name in available_timezones()}
        near = known.get(nearest(zone, known) or "")
        what = f"unknown time zone {zone} (in this host's time zone data)"
        yield Finding(
            WARNING, "time-zone", about, what, _meant(near), ("guest", guest.name, "setup", "time-zone"), "host"
        )


def _input_locales() -> Mapping[str, str]:
    from dacha.formats.answers.windows_keyboards import INPUT_LOCALES

    return INPUT_LOCALES


def _meant(name: str | None) -> str:
    return f"did you mean {name}?" if name else "use the name that its system uses"
