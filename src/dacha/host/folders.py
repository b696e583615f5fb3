"""Dacha's folders: state, run files, cache (XDG Base Directory Specification 0.8).

Our own dozen lines: every command would import the package for this.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.units import whole_number


def home() -> Path:
    """This user's home folder: $HOME if it is an absolute path, else from the user database. Raises HostError."""
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
    """Expand ~ and ~USER in a path. Raises HostError if there is no such home folder."""
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


# Root's, regardless of the shell (Filesystem Hierarchy Standard 3.0, 5.8.1 and 3.15).
ROOTS_STATE, ROOTS_RUN = Path("/var/lib/dacha"), Path("/run/dacha")


def state() -> Path:
    """Disks, keys, console records: what must survive a reboot. $DACHA_STATE overrides it."""
    if os.environ.get("DACHA_STATE"):
        return Path(os.environ["DACHA_STATE"]).absolute()
    return ROOTS_STATE if os.geteuid() == 0 else _own_state()


def _own_state() -> Path:
    return _folder("XDG_STATE_HOME", "~/.local/state") / "dacha"


def take_over() -> str | None:
    """Move root's state, which was in its home folder in older versions, to its place, once, and return a message; None
    if there is nothing to do. Disks refer to their images by absolute paths, so a link remains in the old place. Raises
    HostError."""
    old = _own_state()
    if os.geteuid() or os.environ.get("DACHA_STATE") or old.is_symlink() or not (old / "labs").is_dir():
        return None
    if (ROOTS_STATE / "labs").exists():
        return None  # both exist: the older one must be examined by hand
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
            # Another file system: disks are not copied without asking.
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
    """The sockets of running guests: links to their place, which disappear with the next boot like the sockets."""
    before = Path(os.environ.get("XDG_RUNTIME_DIR") or "/run/user/0") / "dacha"
    if not before.is_dir() or before.is_symlink() or before.lstat().st_uid != 0 or before == ROOTS_RUN:
        return
    for folder in before.iterdir():
        if not (ROOTS_RUN / folder.name).exists():
            (make_private(ROOTS_RUN) / folder.name).symlink_to(folder)


def cache() -> Path:
    """Files that can be created again: the demo's guest."""
    return _folder("XDG_CACHE_HOME", "~/.cache") / "dacha"


def config() -> Path:
    """The user's own lab file, used if no other is specified or found."""
    return _folder("XDG_CONFIG_HOME", "~/.config") / "dacha"


# Beside an ordinary user's state: the run folder in use, so that every shell, cron and systemd find the same one.
RUN_NOTE = "run-folder"


def run() -> Path:
    """Sockets and process ids: deleted at a reboot. $DACHA_RUN overrides it."""
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
    """The run folder that was created first, while it exists and belongs to this user."""
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
    """The run folder, created if missing, and recorded beside the state. Raises HostError."""
    folder = make_private(run())
    if os.geteuid() and not os.environ.get("DACHA_RUN") and _noted_run() != folder:
        make_private(state())
        try:
            (state() / RUN_NOTE).write_text(f"{folder}\n")
        except OSError as e:
            raise HostError(f"cannot write {state() / RUN_NOTE}", why=e.strerror or str(e)) from e
    return folder


def lingers() -> bool | None:
    """True if this user's processes outlive the last login, and start at boot (loginctl(1), enable-linger); None if
    nothing terminates them: for root, and without systemd."""
    if os.geteuid() == 0 or not Path("/run/systemd/system").is_dir():
        return None
    import pwd

    try:
        return (Path("/var/lib/systemd/linger") / pwd.getpwuid(os.geteuid()).pw_name).exists()
    except KeyError:
        return False


def shared_folder() -> Path:
    """Data shared by all labs that root runs on one host: registers and their locks. An ordinary user's labs share a
    folder of that user. $DACHA_SHARED overrides it."""
    if os.environ.get("DACHA_SHARED"):
        return Path(os.environ["DACHA_SHARED"]).absolute()
    return ROOTS_STATE / "host" if os.geteuid() == 0 else state() / "host"


def shared() -> Path:
    """The same, created if missing. Raises HostError."""
    return make_private(shared_folder())


def make_private(folder: Path) -> Path:
    """Create a folder that only this user can enter; refuse one of another user, or, for root, one in a folder that
    others can change. Raises HostError if it cannot be created: the run folder may be in /tmp, where another user can
    be first."""
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        seen = folder.lstat()
        if stat.S_ISLNK(seen.st_mode) and folder.parent.lstat().st_uid == os.geteuid():
            seen = folder.stat()  # the user's own link, in the user's own folder
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
    """The nearest folder above `path` in which users other than root (and the caller of sudo) can replace files; None
    if there is none, and for ordinary users, who are responsible for their own folders."""
    if os.geteuid():
        return None
    for start in {path.parent, Path(os.path.realpath(path)).parent}:
        for folder in (start, *start.parents):
            try:
                seen = folder.stat()
            except OSError:
                continue
            # In a sticky folder, users cannot rename files of others (chmod(1)).
            loose = seen.st_mode & 0o022 and not seen.st_mode & stat.S_ISVTX and not _own_group(seen)
            if loose or seen.st_uid not in trusted():
                return folder
    return None


def trusted() -> set[int]:
    """The users whose files root trusts: root, and the caller of sudo(8)."""
    sudo = whole_number(os.environ.get("SUDO_UID", ""))
    return {0} if sudo is None else {0, sudo}


def _own_group(seen: os.stat_result) -> bool:
    """True if only the owner is in the group that may write, as systems create a group for each user."""
    if seen.st_mode & 0o002 or seen.st_gid != seen.st_uid:
        return False
    import grp

    try:
        return len(grp.getgrgid(seen.st_gid).gr_mem) == 0
    except KeyError:
        return True


def file_changed_by_others(path: Path) -> str | None:
    """Why root cannot trust the contents of a file: who else can write to it; None if nobody can."""
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
