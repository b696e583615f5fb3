"""The folders of profiles: the package's, and the administrator's configuration folder, which has precedence."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cache
from pathlib import Path

import tomli

from dacha.core.errors import HostError, UsageError
from dacha.core.lab.table.profile import Profile, read_profile
from dacha.host import folders

_OWN = Path(__file__).parent.parent / "profiles"


class ProfileFolder(Mapping[str, Profile]):
    """Every profile by its system's name; a file is read when its name is requested."""

    def __init__(self) -> None:
        self._files: dict[str, Path] = {}
        for folder in (_OWN, folders.config() / "profiles"):
            try:
                if folder.is_dir():
                    self._files |= {p.stem: p for p in folder.glob("*.toml")}
            except OSError as e:
                raise HostError(f"cannot look into {folder}", why=e.strerror or str(e)) from e
        self._read: dict[str, Profile] = {}

    def __getitem__(self, name: str) -> Profile:
        if name not in self._read:
            path = self._files[name]
            try:
                profile, findings = read_profile(name, path.read_text())
            except (OSError, ValueError) as e:
                raise UsageError(f"the profile {name} cannot be read", where=str(path), why=str(e)) from e
            if findings:
                raise UsageError(findings[0].what, where=str(path), remedy=findings[0].remedy)
            self._read[name] = profile
        return self._read[name]

    def written(self, name: str) -> tuple[str, set[str]]:
        """The origin of a profile, in words, and the keys in its file."""
        self[name]
        path = self._files[name]
        return f"profile {name}" if path.parent == _OWN else str(path), set(tomli.loads(path.read_text()))

    def __iter__(self) -> Iterator[str]:
        return iter(self._files)

    def __len__(self) -> int:
        return len(self._files)

    def __contains__(self, name: object) -> bool:
        return name in self._files


@cache
def profiles() -> ProfileFolder:
    """The profiles of this process: the folders are read once."""
    return ProfileFolder()
