"""Atomic file replacement, and the lock that serializes commands."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import stat
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from dacha.core.errors import BusyError, HostError

# The mode of a file with a secret.
SECRET = 0o600
_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


def refused(path: Path, error: OSError, doing: str = "write") -> HostError:
    """The HostError for a file that could not be used, with a remedy for the usual causes."""
    remedy = {
        errno.ENOSPC: "free some space there",
        errno.EDQUOT: "free some space there: your quota is used up",
        errno.EACCES: f"become its owner, or make it writable: {path}",
        errno.EPERM: f"become its owner, or make it writable: {path}",
        errno.EROFS: "the file system is mounted read-only",
    }.get(error.errno or 0, "")
    return HostError(f"cannot {doing} {path}", why=error.strerror or str(error), remedy=remedy)


def replace_file(path: Path, content: bytes | str, mode: int = 0o644, *, follow: bool = False) -> None:
    """Replace `path` with `content`: temporary file, fsync, rename.

    The permission bits of an existing file of this user are kept, with `follow` its owner, too; but a secret (`mode`
    0o600) belongs to its writer only, whatever was there before. A link at `path` is replaced, not followed, unless
    `follow` is set: a lab file that is stored elsewhere stays a link. The data goes into a new file with an
    unpredictable name, in the folder that was opened at first. Raises HostError.
    """
    path = Path(os.path.realpath(path)) if follow else path
    data = content.encode() if isinstance(content, str) else content
    try:
        folder = _open_folder(path, follow=follow)
        try:
            fd, temporary = _begin(folder, path.name, mode)
            try:
                with os.fdopen(fd, "wb") as f:
                    f.write(data)
                    f.flush()
                    with contextlib.suppress(FileNotFoundError):
                        before = os.stat(path.name, dir_fd=folder, follow_symlinks=False)
                        ours = follow or before.st_uid == os.geteuid()
                        if mode == SECRET or not ours or not stat.S_ISREG(before.st_mode):
                            raise FileNotFoundError  # delete the temporary file
                        mode = before.st_mode & 0o777
                        if (before.st_uid, before.st_gid) != (os.geteuid(), os.getegid()):
                            with contextlib.suppress(PermissionError):
                                os.fchown(f.fileno(), before.st_uid, before.st_gid)
                    os.fchmod(f.fileno(), mode)
                    os.fsync(f.fileno())
                    os.replace(temporary, path.name, src_dir_fd=folder, dst_dir_fd=folder)  # while it is locked
            except BaseException:
                with contextlib.suppress(OSError):
                    os.unlink(temporary, dir_fd=folder)
                raise
        finally:
            os.close(folder)
    except OSError as e:
        raise refused(path, e) from e


def _open_folder(path: Path, *, follow: bool) -> int:
    """The open folder of a file to be written. Raises OSError, and HostError if root must not write there: through a
    link that another user could create, or into a folder where other users can replace the file."""
    if follow or os.geteuid():
        return os.open(path.parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC | (os.O_NOFOLLOW if follow else 0))
    parent = Path(os.path.abspath(path.parent))
    for step in [*reversed(parent.parents), parent]:
        seen = step.lstat()
        if stat.S_ISLNK(seen.st_mode) and seen.st_uid and step.parent.stat().st_mode & stat.S_IWOTH:
            raise HostError(
                f"cannot write {path}",
                why=f"{step} is a symbolic link of another user (user id {seen.st_uid})",
                remedy="use a path without that link",
            )
    folder = os.open(parent, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    mode = os.fstat(folder).st_mode
    if mode & stat.S_IWOTH and not mode & stat.S_ISVTX:
        os.close(folder)
        raise HostError(
            f"cannot write {path}",
            why=f"every user may replace files in {parent} (mode {mode & 0o7777:o})",
            remedy=f"write to another folder, or: chmod o-w {parent}",
        )
    return folder


def _begin(folder: int, name: str, mode: int) -> tuple[int, str]:
    """A new temporary file for `name` in an open folder, and its name. It is locked while it is written: `sweep` may
    run in another process, and even before the lock is taken."""
    while True:
        temporary = f".{name}.{os.urandom(6).hex()}.part"
        fd = os.open(temporary, _NEW, mode, dir_fd=folder)
        lock_briefly(fd)
        try:
            os.stat(temporary, dir_fd=folder, follow_symlinks=False)
            return fd, temporary
        except FileNotFoundError:
            os.close(fd)


def lock_briefly(fd: int) -> None:
    """Lock an open file that others lock for moments only. After two seconds it is used without the lock: the holder is
    suspended, or is another user who may read the file and wants to block the writer. Some file systems have no
    locks."""
    for _ in range(200):
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return
        except BlockingIOError:
            time.sleep(0.01)
        except OSError:
            return


def sweep(folder: Path, pattern: str = ".*.part") -> None:
    """Remove temporary files of killed processes in `folder`; files being written are locked. In a folder that is not
    ours alone the `pattern` names our own ones."""
    for part in folder.glob(pattern):
        with contextlib.suppress(OSError):
            if part.is_symlink():
                part.unlink()
                continue
            fd = os.open(part, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
            try:
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
                part.unlink()
            finally:
                os.close(fd)


def held(lock: Path) -> bool:
    """True while a process holds the lock on this file, which the kernel keeps exactly as long as that process or a
    child that inherited it lives. So neither a stale id nor a removed socket can mislead."""
    try:
        fd = os.open(lock, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOFOLLOW)
    except FileNotFoundError:
        return False
    try:
        fcntl.flock(fd, fcntl.LOCK_SH | fcntl.LOCK_NB)
        return False
    except BlockingIOError:
        return True
    finally:
        os.close(fd)


@contextlib.contextmanager
def locked(
    path: Path, doing: str, wait_s: float, on_wait: Callable[[str], None] | None = None, *, fleeting: bool = False
) -> Iterator[None]:
    """Hold the lock file `path`. Another holder is waited for, up to `wait_s` seconds, and then reported. `doing` is
    recorded for other waiters; `on_wait` is called once with the holder. The kernel releases the lock with the process,
    so a killed command leaves none behind. A `fleeting` one is deleted when it is released. Raises BusyError."""
    deadline = time.monotonic() + wait_s
    told = False
    fd = _lock_file(path)
    try:
        while True:
            try:
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                holder = os.pread(fd, 200, 0).decode(errors="replace").strip() or "another dacha process"
                if on_wait and not told:
                    on_wait(holder)
                    told = True
                if time.monotonic() >= deadline:
                    raise BusyError(
                        f"the lab is held by {holder}",
                        remedy="wait until it has finished, then try again",
                        holder=holder,
                    ) from None
                time.sleep(0.05)
                continue
            if _is_at(fd, path):
                break
            # Its former holder has deleted it: another one may hold a new file of that name.
            os.close(fd)
            fd = _lock_file(path)
        with contextlib.suppress(OSError):  # on a full disk, the name is omitted
            os.ftruncate(fd, 0)
            os.pwrite(fd, f"{doing} (process {os.getpid()})".encode(), 0)
        yield
        if fleeting:
            path.unlink(missing_ok=True)
    finally:
        os.close(fd)


def _lock_file(path: Path) -> int:
    try:
        return os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, 0o600)
    except OSError as e:
        raise refused(path, e) from e


def _is_at(fd: int, path: Path) -> bool:
    """True if the path still leads to this open file."""
    try:
        seen = path.stat(follow_symlinks=False)
    except OSError:
        return False
    return (seen.st_dev, seen.st_ino) == (os.fstat(fd).st_dev, os.fstat(fd).st_ino)


@contextlib.contextmanager
def folder_held(folder: Path) -> Iterator[None]:
    """Hold a folder briefly while a file is put into it; others wait. Creates no file there."""
    fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        fcntl.flock(fd, fcntl.LOCK_EX)
        yield
    finally:
        os.close(fd)


@contextlib.contextmanager
def editing(path: Path, wait_s: float = 20.0) -> Iterator[None]:
    """Prevent other edits of `path` while it is read, changed and replaced. Raises BusyError, HostError.

    The lock is on the file itself, so an edit needs no other writable place. Since every edit replaces the file, the
    lock counts only while the locked file is still the one with that name.
    """
    deadline = time.monotonic() + wait_s
    while True:
        try:
            fd = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        except OSError as e:
            raise refused(path, e, "edit") from e
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if os.path.samestat(os.fstat(fd), path.stat()):
                yield
                return
        except BlockingIOError:
            pass
        finally:
            os.close(fd)
        if time.monotonic() >= deadline:
            raise BusyError(f"{path} is being edited by another dacha process", remedy="try again when it has finished")
        time.sleep(0.02)
