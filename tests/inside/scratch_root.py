"""A scratch copy of this machine's own root: an overlay in namespaces of its own, without a network, with a package
archive in a folder of it. What a script changes there stays in the overlay."""

import contextlib
import hashlib
import os
import stat
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

# What package managers and account tools write besides what they are asked for.
VOLATILE = (
    "archive", "dev", "etc/.pwd.lock", "etc/apt", "etc/group-", "etc/group.", "etc/gshadow-", "etc/gshadow.",
    "etc/ld.so.cache", "etc/passwd-", "etc/passwd.", "etc/shadow-", "etc/shadow.", "etc/subgid-", "etc/subgid.",
    "etc/subuid-", "etc/subuid.", "proc", "run", "tmp", "usr/lib/locale/locale-archive", "var/cache", "var/lib/apt",
    "var/lib/dpkg", "var/lib/systemd/deb-systemd-helper-enabled", "var/log",
)  # fmt: skip
ENTER = """\
mount -t overlay overlay -o lowerdir=/,upperdir={top}/upper,workdir={top}/work {top}/root &&
mount -t proc proc {top}/root/proc && mount -t tmpfs run {top}/root/run && mount --rbind /dev {top}/root/dev &&
exec chroot {top}/root /bin/sh
"""


def namespace_below(pid: int) -> str:
    """The namespace of process ids that a process has created; "" if it has not yet."""
    with contextlib.suppress(OSError):
        for child in Path(f"/proc/{pid}/task/{pid}/children").read_text().split():
            return str(Path(f"/proc/{child}/ns/pid").readlink())
    return ""


def alive_in(space: str) -> bool:
    """Whether a process of that namespace is left, but for zombies."""
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            with contextlib.suppress(OSError):
                state = (entry / "stat").read_text().rpartition(")")[2].split()[0]
                if state != "Z" and str((entry / "ns/pid").readlink()) == space:
                    return True
    return False


class ScratchRoot:
    """`run` runs a script in it; `differences` is what is not as on this machine."""

    def __init__(self, top: Path) -> None:
        self.top = top
        for name in ("upper", "work", "root"):
            (top / name).mkdir(parents=True)

    def run(self, script: str, *, kill_after_s: float | None = None) -> str:
        """What it printed. With `kill_after_s`, all its processes are killed then, as by a power cut."""
        argv = [
            "unshare",
            "--mount",
            "--pid",
            "--fork",
            "--kill-child",
            "--net",
            "sh",
            "-c",
            ENTER.format(top=self.top),
        ]
        child = subprocess.Popen(argv, stdin=-1, stdout=-1, stderr=subprocess.STDOUT, text=True)
        try:
            return child.communicate(script, timeout=kill_after_s or 300)[0]
        except subprocess.TimeoutExpired:
            space = namespace_below(child.pid)
            child.kill()
            assert kill_after_s, "no end within five minutes"
            said = child.communicate()[0]
            # Its pipe closes before the last of its processes is gone, and what that one still writes is no power cut.
            deadline = time.monotonic() + 60
            while space and alive_in(space):
                assert time.monotonic() < deadline
                time.sleep(0.01)
            return said

    def archive(self, packages: dict[str, str], broken: tuple[str, ...] = ()) -> None:
        """A package archive, the only one of its apt: names with what they depend on. Each has a program, a service and
        a configuration file; the scripts of `broken` ones fail."""
        where = self.top / "upper/archive"
        index = []
        for name, needs in packages.items():
            tree = self.top / "packages" / name
            for path, text in ((f"usr/bin/{name}", "#!/bin/sh\n"), (f"etc/{name}.conf", f"depth = {len(name)}\n")):
                (tree / path).parent.mkdir(parents=True, exist_ok=True)
                (tree / path).write_text(text)
            (tree / "DEBIAN").mkdir()
            fields = f"Package: {name}\nVersion: 1.0\nArchitecture: all\nMaintainer: nobody@pier.example\n"
            fields += f"Depends: {needs}\n" if needs else ""
            (tree / "DEBIAN/control").write_text(f"{fields}Description: made up\n")
            (tree / "DEBIAN/conffiles").write_text(f"/etc/{name}.conf\n")
            if name in broken:
                (tree / "DEBIAN/preinst").write_text("#!/bin/sh\necho no water under the pier >&2\nexit 1\n")
                (tree / "DEBIAN/preinst").chmod(0o755)
            where.mkdir(parents=True, exist_ok=True)
            subprocess.run(["dpkg-deb", "-b", "-Znone", tree, where / f"{name}.deb"], check=True, capture_output=True)
            body = (where / f"{name}.deb").read_bytes()
            checked = hashlib.sha256(body).hexdigest()
            index.append(
                f"{fields}Filename: ./{name}.deb\nSize: {len(body)}\nSHA256: {checked}\nDescription: made up\n"
            )
        (where / "Packages").write_text("\n".join(index))
        self.run(
            "rm -rf /etc/apt/sources.list.d/* /etc/apt/apt.conf.d/*; echo 'APT::Sandbox::User \"root\";' > "
            "/etc/apt/apt.conf.d/root; echo 'deb [trusted=yes] file:/archive ./' > /etc/apt/sources.list; "
            "apt-get -qq update"
        )

    def differences(self) -> list[str]:
        return sorted(self._differences())

    def _differences(self) -> Iterator[str]:
        for folder, folders, files in os.walk(self.top / "upper"):
            for name in (*folders, *files):
                here = Path(folder) / name
                path = here.relative_to(self.top / "upper")
                if str(path).startswith(VOLATILE):
                    continue
                if difference := _difference(here, Path("/") / path):
                    yield f"{path}: {difference}"


def _difference(here: Path, before: Path) -> str:
    mine = here.lstat()
    gone = stat.S_ISCHR(mine.st_mode) and mine.st_rdev == 0
    if not os.path.lexists(before):
        return "" if gone else "new"
    if gone:
        return "removed"
    old = before.lstat()
    if (mine.st_mode, mine.st_uid, mine.st_gid) != (old.st_mode, old.st_uid, old.st_gid):
        return f"{mine.st_mode:o} {mine.st_uid} {mine.st_gid}, was {old.st_mode:o} {old.st_uid} {old.st_gid}"
    if here.is_symlink():
        return "" if here.readlink() == before.readlink() else "another link"
    if here.is_file() and here.read_bytes() != before.read_bytes():
        return "other contents"
    return ""
