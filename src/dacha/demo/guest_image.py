"""A tiny real guest, built from Debian packages by an ordinary user: kernel, busybox, an SSH server.

Nothing is installed: the packages are downloaded with apt-get into a temporary folder and unpacked there.
"""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from collections.abc import Callable
from hashlib import sha256
from importlib.resources import files
from pathlib import Path

from dacha.core.errors import HostError
from dacha.core.named import NamedTuple
from dacha.formats.linux import cpio
from dacha.formats.linux.bzimage import uncompressed_kernel
from dacha.formats.linux.kernel_module import load_order, quick_to_load
from dacha.formats.linux.vmlinux import quick_to_start
from dacha.host import folders
from dacha.host.files import locked, replace_file

KERNEL_META = "linux-image-cloud-amd64"
PACKAGES = (
    "busybox-static", "dropbear-bin", "openssh-sftp-server", "libtomcrypt1", "libtommath1", "libgmp10", "zlib1g",
    "libcrypt1", "libc6",
)  # fmt: skip
# Modules that every guest loads, and those for a device (virtio 1.2, section 5: its device ID).
MODULES = ("virtio_pci", "virtio_net", "virtio_blk", "virtio_console", "virtio_rng", "isofs", "evdev", "button")
MODULES_FOR_DEVICE = {"0x0008": ("virtio_scsi", "sd_mod", "sr_mod"), "0x001a": ("virtiofs",)}
LIBRARIES = (
    "libtomcrypt.so.1",
    "libtommath.so.1",
    "libgmp.so.10",
    "libz.so.1",
    "libcrypt.so.1",
    "libc.so.6",
    "libm.so.6",
    "ld-linux-x86-64.so.2",
)
OWN = ("init.sh", "lease.sh", "power.sh", "index.html", "tides.csv")
FOLDERS = (
    "bin dev etc etc/acpi etc/acpi/PWRF etc/dropbear home lib lib/x86_64-linux-gnu lib64 mnt mnt/seed modules proc "
    "root run srv srv/readings srv/www sys tmp usr usr/bin usr/lib usr/sbin var var/log"
)
# Without self-tests, mitigations, timer calibration and probing for missing hardware, an emulated guest boots in about
# three seconds. (Its kernel gets mitigations=off: `quick_to_start` relies on it.)
COMMAND_LINE = (
    "console=ttyS0 quiet loglevel=3 cryptomgr.notests=1 mitigations=off tsc=reliable no_timer_check nolapic_timer "
    "nokaslr noreplace-smp lsm=capability i8042.nokbd i8042.noaux 8250.nr_uarts=1 panic=-1 init=/init rdinit=/init"
)


class GuestImage(NamedTuple):
    """The files that a demo guest boots from."""

    kernel: Path
    initrd: Path
    command_line: str = COMMAND_LINE


def _own(name: str) -> bytes:
    return files("dacha.demo").joinpath(name).read_bytes()


def _folder() -> Path:
    """The folder of this version of the guest, in the cache folder, by a digest of its parts."""
    source = b"\0".join([Path(__file__).read_bytes(), *(_own(n) for n in OWN)])
    return folders.make_private(folders.cache() / "demo-guest" / sha256(source).hexdigest()[:16])


def guest_image(progress: Callable[[str], None] = lambda text: None) -> GuestImage:
    """The demo guest, created on first use and kept in the cache folder. Raises HostError if that fails."""
    folder = _folder()
    image = GuestImage(folder / "vmlinux", folder / "initrd.cpio")
    with locked(folder / "lock", "dacha demo", 600.0):
        if not (image.kernel.is_file() and image.initrd.is_file()):
            _build(unpacked(progress), image, progress)
    return image


def unpacked(progress: Callable[[str], None] = lambda text: None) -> Path:
    """The guest's packages, downloaded and unpacked on first use and kept in the cache folder without unneeded files:
    like a root file system. Raises HostError if that fails."""
    folder = _folder()
    root = folder / "root"
    with locked(folder / "unpack.lock", "dacha demo", 600.0):
        if not root.is_dir():
            with tempfile.TemporaryDirectory(prefix="unpack-", dir=folder) as temporary:
                made = _unpack(Path(temporary), progress)
                _lighten(made)
                made.rename(root)
    return root


def _unpack(work: Path, progress: Callable[[str], None]) -> Path:
    kernel_package = _kernel_package()
    progress("downloading Debian packages")
    _run(["apt-get", "download", *PACKAGES, kernel_package], work)
    root = work / "root"
    for package in sorted(work.glob("*.deb")):
        progress(f"unpacking {package.name.partition('_')[0]}")
        _run(["dpkg-deb", "-x", str(package), str(root)], work)
    return root


def _lighten(root: Path) -> None:
    modules = _modules_in(root)
    loaded = {module for order in _orders(modules).values() for module in order}
    for name, path in modules.items():
        if name not in loaded:
            path.unlink()
    for needless in ("usr/share", *(str(p.relative_to(root)) for p in root.glob("**/gconv"))):
        shutil.rmtree(root / needless, ignore_errors=True)


def _modules_in(root: Path) -> dict[str, Path]:
    """Every kernel module below `root` by its name."""
    return {p.name.removesuffix(".ko").replace("-", "_"): p for p in root.glob("lib/modules/*/kernel/**/*.ko")}


def _build(root: Path, image: GuestImage, progress: Callable[[str], None]) -> None:
    progress("building the guest")
    packed = next((root / "boot").glob("vmlinuz-*")).read_bytes()
    replace_file(image.initrd, cpio.archive(entries(root, signed=False)))
    try:
        kernel = quick_to_start(uncompressed_kernel(packed))
    except ValueError:
        kernel = packed  # QEMU starts it as well, but later
    # The kernel comes last: with it, the image is complete.
    replace_file(image.kernel, kernel)


def _kernel_package() -> str:
    """The package that the cloud kernel's meta-package depends on today."""
    for line in _run(["apt-cache", "depends", KERNEL_META], Path("/")).splitlines():
        word, _, name = line.strip().partition(": ")
        if word == "Depends" and name.startswith("linux-image-"):
            return name
    raise HostError(f"apt knows no package {KERNEL_META}", remedy="run as root: apt-get update")


def _run(command: list[str], folder: Path) -> str:
    if shutil.which(command[0]) is None:
        raise HostError(
            f"{command[0]} is not installed",
            why="the demo's guest is built from Debian packages",
            remedy="run the demo on a Debian system",
        )
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=False)
    if done.returncode:
        words = [line for line in done.stderr.splitlines() if line.startswith("E:")] or done.stderr.splitlines()
        raise HostError(
            f"{' '.join(command[:2])} failed",
            why="\n".join(words[:3]),
            remedy="update the package lists as root: apt-get update",
        )
    return done.stdout


def _orders(modules: dict[str, Path]) -> dict[str, list[str]]:
    """The modules to load, in order: for every guest, and by device."""
    contents = {name: path.read_bytes() for name, path in modules.items()}
    wanted = {"order": MODULES, **MODULES_FOR_DEVICE}
    return {name: load_order(list(modules_of), contents) for name, modules_of in wanted.items()}


def entries(root: Path, *, signed: bool = True) -> list[cpio.Entry]:
    """The members of the guest's initial file system, from its `unpacked` packages. Without `signed`, its modules load
    faster, but not under Secure Boot."""

    def find(name: str) -> Path:
        found = next((p for p in sorted(root.rglob(name)) if p.is_file()), None)
        if found is None:
            raise HostError(
                f"the packages do not contain {name}", remedy="please report it, with the release of Debian in use"
            )
        return found

    modules = _modules_in(root)
    orders = _orders(modules)
    made = [cpio.folder(f) for f in FOLDERS.split()]
    made += [
        cpio.Entry("dev/console", cpio.CHARACTER | 0o600, device=(5, 1)),
        cpio.file("init", _own("init.sh"), 0o755),
        # ping for all users: busybox is setuid root, and drops root for all programs but a few.
        cpio.file("bin/busybox", find("busybox").read_bytes(), 0o4755),
        cpio.file("etc/lease", _own("lease.sh"), 0o755),
        cpio.file("etc/acpi/PWRF/00000080", _own("power.sh"), 0o755),
        cpio.file("etc/passwd", b"root:*:0:0:root:/root:/bin/sh\n"),
        cpio.file("etc/group", b"root:x:0:\n"),
        cpio.file("usr/sbin/dropbear", (root / "usr/sbin/dropbear").read_bytes(), 0o755),
        cpio.file("usr/bin/dropbearconvert", find("dropbearconvert").read_bytes(), 0o755),
        # The SSH server's path for it.
        cpio.file("usr/lib/sftp-server", (root / "usr/lib/openssh/sftp-server").read_bytes(), 0o755),
        *(cpio.file(f"modules/{name}", "\n".join(order).encode() + b"\n") for name, order in orders.items()),
        cpio.file("srv/www/index.html", _own("index.html")),
        cpio.file("srv/www/tides.csv", _own("tides.csv")),
    ]
    loaded = {module for order in orders.values() for module in order}
    for module in sorted(loaded):
        content = modules[module].read_bytes()
        made.append(cpio.file(f"modules/{module}.ko", content if signed else quick_to_load(content)))
    for name in LIBRARIES:
        folder = "lib64" if name.startswith("ld-") else "lib/x86_64-linux-gnu"
        made.append(cpio.file(f"{folder}/{name}", find(name).read_bytes(), 0o755))
    return made
