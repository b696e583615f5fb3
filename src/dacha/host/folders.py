"""Where Dacha keeps things: state, run files, cache (XDG Base Directory Specification 0.8).

A dozen lines of our own: the package for this would be imported by every command.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.units import whole_number


def home() -> Path:
    """This user's home folder: $HOME where that is a whole path, else as the system knows it. Raises HostError."""
    if os.environ.get("HOME", "").startswith("/"):
        return Path(os.environ["HOME"])
    import pwd

    try:
        return Path(pwd.getpwuid(os.getuid()).pw_dir)
    except KeyError:
        raise HostError(
            f"the user {os.getuid()} has no home folder",
            why="$HOME is not set, and the system does not know this user",
            remedy="set HOME to the absolute path of this user's home folder",
        ) from None


def expand(path: str) -> Path:
    """A path as people write it, with ~ and ~USER. Raises HostError where there is no such home."""
    if path == "~" or path.startswith("~/"):
        return home() / path[2:]
    try:
        return Path(path).expanduser()
    except RuntimeError:
        user = path.partition("/")[0]
        raise HostError(f"user {user[1:]} has no home folder", where=path, remedy="use an absolute path") from None


def _folder(variable: str, default: str) -> Path:
    value = os.environ.get(variable, "")
    return Path(value) if value.startswith("/") else expand(default)


# Root's, whoever's shell it is called from (Filesystem Hierarchy Standard 3.0, 5.8.1 and 3.15).
ROOTS_STATE, ROOTS_RUN = Path("/var/lib/dacha"), Path("/run/dacha")


def state() -> Path:
    """Disks, keys, console records: what must survive a reboot. $DACHA_STATE overrides it."""
    if os.environ.get("DACHA_STATE"):
        return Path(os.environ["DACHA_STATE"]).absolute()
    return ROOTS_STATE if os.geteuid() == 0 else _own_state()


def _own_state() -> Path:
    return _folder("XDG_STATE_HOME", "~/.local/state") / "dacha"


def take_over() -> str | None:
    """Root's state was in its home before: bring it to its place, once, and say so; None where nothing is to be done.

    Disks name what they lie on by its whole path, so a link stays where the folder was. Raises HostError.
    """
    old = _own_state()
    if os.geteuid() or os.environ.get("DACHA_STATE") or old.is_symlink() or not (old / "labs").is_dir():
        return None
    if (ROOTS_STATE / "labs").exists():
        return None  # both are there: the older one is looked at by hand
    try:
        ROOTS_STATE.parent.mkdir(parents=True, exist_ok=True)
        if ROOTS_STATE.is_dir():
            for entry in old.iterdir():
                os.rename(entry, ROOTS_STATE / entry.name)
            old.rmdir()
        else:
            os.rename(old, ROOTS_STATE)
        old.symlink_to(ROOTS_STATE)
        said = f"root's labs were moved to {ROOTS_STATE}; {old} is now a link to it"
    except OSError:
        try:
            # Another file system: disks are not carried over it without a word.
            if ROOTS_STATE.is_dir():
                (ROOTS_STATE / "labs").symlink_to(old / "labs")
                (ROOTS_STATE / "media").symlink_to(old / "media")
            else:
                ROOTS_STATE.symlink_to(old)
        except OSError as e:
            raise HostError(f"cannot move {old} to {ROOTS_STATE}", why=e.strerror or str(e)) from e
        said = f"{ROOTS_STATE} is now a link to root's labs, which stay in {old}"
    _take_over_run()
    return said


def _take_over_run() -> None:
    """The sockets of guests that run: links to where they are, gone with the next boot as they are themselves."""
    before = Path(os.environ.get("XDG_RUNTIME_DIR") or "/run/user/0") / "dacha"
    if not before.is_dir() or before.is_symlink() or before.lstat().st_uid != 0 or before == ROOTS_RUN:
        return
    for folder in before.iterdir():
        if not (ROOTS_RUN / folder.name).exists():
            (make_private(ROOTS_RUN) / folder.name).symlink_to(folder)


def cache() -> Path:
    """What can be made again: the demo's guest."""
    return _folder("XDG_CACHE_HOME", "~/.cache") / "dacha"


def config() -> Path:
    """The user's own lab file, when no other is named or near."""
    return _folder("XDG_CONFIG_HOME", "~/.config") / "dacha"


# Beside an ordinary user's state: which run folder it goes with, so that every shell, cron and a unit find the same.
RUN_NOTE = "run-folder"


def run() -> Path:
    """Sockets and process ids: gone with a reboot. $DACHA_RUN overrides it."""
    if os.environ.get("DACHA_RUN"):
        return Path(os.environ["DACHA_RUN"]).absolute()
    if os.geteuid() == 0:
        return ROOTS_RUN
    return _noted_run() or _usual_run()


def _usual_run() -> Path:
    if os.environ.get("XDG_RUNTIME_DIR", "").startswith("/"):
        return Path(os.environ["XDG_RUNTIME_DIR"]) / "dacha"
    sessions = Path(f"/run/user/{os.geteuid()}")
    return sessions / "dacha" if _own(sessions) else Path(f"/tmp/dacha-{os.geteuid()}")


def _noted_run() -> Path | None:
    """The run folder that was made first, while it is there and this user's own."""
    try:
        noted = Path((state() / RUN_NOTE).read_text().strip())
    except (OSError, UnicodeDecodeError):
        return None
    return noted if noted.is_absolute() and _own(noted) else None


def _own(folder: Path) -> bool:
    try:
        seen = folder.lstat()
    except OSError:
        return False
    return stat.S_ISDIR(seen.st_mode) and seen.st_uid == os.geteuid()


def make_run() -> Path:
    """The run folder, made where it is not there yet, and noted beside the state. Raises HostError."""
    folder = make_private(run())
    if os.geteuid() and not os.environ.get("DACHA_RUN") and _noted_run() != folder:
        make_private(state())
        try:
            (state() / RUN_NOTE).write_text(f"{folder}\n")
        except OSError as e:
            raise HostError(f"cannot write {state() / RUN_NOTE}", why=e.strerror or str(e)) from e
    return folder


def lingers() -> bool | None:
    """True where what this user starts outlives the last login, and starts at boot (loginctl(1), enable-linger); None
    where nobody ends it then: for root, and without systemd."""
    if os.geteuid() == 0 or not Path("/run/systemd/system").is_dir():
        return None
    import pwd

    try:
        return (Path("/var/lib/systemd/linger") / pwd.getpwuid(os.geteuid()).pw_name).exists()
    except KeyError:
        return False


def shared_folder() -> Path:
    """What all labs of one host have in common where root makes them: registers and their locks. A lab of an ordinary
    user shares with that user's others only. $DACHA_SHARED overrides it."""
    if os.environ.get("DACHA_SHARED"):
        return Path(os.environ["DACHA_SHARED"]).absolute()
    return ROOTS_STATE / "host" if os.geteuid() == 0 else state() / "host"


def shared() -> Path:
    """The same, made where it is not there yet. Raises HostError."""
    return make_private(shared_folder())


def make_private(folder: Path) -> Path:
    """Make a folder that only this user can enter; refuse one that belongs to somebody else, or that root would find by
    way of a folder that others may change.

    Raises HostError when it cannot be made: the run folder may lie in /tmp, where others can be first.
    """
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        seen = folder.lstat()
        if stat.S_ISLNK(seen.st_mode) and folder.parent.lstat().st_uid == os.geteuid():
            seen = folder.stat()  # a link of one's own, in a folder of one's own
    except OSError as e:
        raise HostError(
            f"cannot create the folder {folder}",
            why=e.strerror or str(e),
            remedy="make it writable, or set DACHA_STATE and DACHA_RUN to folders that are",
        ) from e
    if not stat.S_ISDIR(seen.st_mode) or seen.st_uid != os.geteuid():
        raise HostError(
            f"{folder} belongs to another user", remedy="set DACHA_STATE and DACHA_RUN to folders of your own"
        )
    weak = changed_by_others(folder)
    if weak:
        raise HostError(
            f"{folder} is not safe to use as root",
            why=f"other users can change {weak}, and so its contents",
            remedy=f"restrict it: chown root {weak}; chmod go-w {weak}, or set DACHA_STATE and DACHA_RUN to other "
            "folders",
        )
    return folder


def changed_by_others(path: Path) -> Path | None:
    """The nearest folder above `path` in which others than root (and whoever called it by sudo) may put another file in
    its place; None where nobody can, and for ordinary users, who see to their own."""
    if os.geteuid():
        return None
    for start in {path.parent, Path(os.path.realpath(path)).parent}:
        for folder in (start, *start.parents):
            try:
                seen = folder.stat()
            except OSError:
                continue
            # In a sticky folder nobody moves what is another's (chmod(1)).
            loose = seen.st_mode & 0o022 and not seen.st_mode & stat.S_ISVTX and not _own_group(seen)
            if loose or seen.st_uid not in trusted():
                return folder
    return None


def trusted() -> set[int]:
    """Whose files root takes for its own: root's, and those of whoever became root by sudo(8)."""
    sudo = whole_number(os.environ.get("SUDO_UID", ""))
    return {0} if sudo is None else {0, sudo}


def _own_group(seen: os.stat_result) -> bool:
    """True when only the owner is in the group that may write, as systems give each user one of the same number."""
    if seen.st_mode & 0o002 or seen.st_gid != seen.st_uid:
        return False
    import grp

    try:
        return len(grp.getgrgid(seen.st_gid).gr_mem) == 0
    except KeyError:
        return True


def file_changed_by_others(path: Path) -> str | None:
    """Why root cannot take a file for what its owner wrote: who else may write it; None when nobody else may."""
    if os.geteuid():
        return None
    try:
        seen = path.stat()
    except OSError:
        return None
    if seen.st_uid not in trusted():
        return f"it belongs to user {seen.st_uid}, who is not the caller"
    if seen.st_mode & 0o022 and not _own_group(seen):
        return "other users can write to it"
    weak = changed_by_others(path)
    return f"other users can replace it: {weak}" if weak else None
