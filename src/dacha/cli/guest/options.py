"""Options that dacha guest add and edit share."""

from __future__ import annotations

import argparse

from dacha.cli.arguments import many


def shared(parser: argparse.ArgumentParser) -> None:
    """Options of a new guest and of a changed one."""
    parser.add_argument(
        "--system", metavar="FAMILY", help="operating system family, such as debian or windows; sets defaults"
    )
    parser.add_argument("--cpus", type=int, metavar="N", help="number of virtual CPUs (default: from its profile)")
    parser.add_argument("--memory", metavar="SIZE", help='such as "1 GiB"')
    parser.add_argument(
        "--machine-type", metavar="TYPE", help="QEMU's board: newest, or such as pc-q35-7.2 (default: as first started)"
    )
    parser.add_argument("--firmware", metavar="bios|uefi", help="firmware (default: from its profile)")
    parser.add_argument("--secure-boot", action=argparse.BooleanOptionalAction, help="start signed systems only (UEFI)")
    parser.add_argument("--tpm", action=argparse.BooleanOptionalAction, help="add a TPM 2.0")
    parser.add_argument(
        "--answers",
        action=argparse.BooleanOptionalAction,
        help="answer its installer's questions automatically (default), or not",
    )
    parser.add_argument("--edition", metavar="EDITION", help="Windows edition to install (dacha media show lists them)")
    parser.add_argument(
        "--first-boot",
        action=argparse.BooleanOptionalAction,
        help="provide first-boot data (default), or not: for an image that does not read it",
    )
    parser.add_argument("--resolution", metavar="WxH", help="display resolution, such as 1280x800")
    parser.add_argument("--user", metavar="USER", help="user who may log in")
    many(parser, "--key", "keys", "FILE", "public key of this user")
    many(parser, "--group", "groups", "GROUP", "further group of this user in the guest")
    parser.add_argument(
        "--make-key",
        action="store_true",
        help="create a key pair for this lab, beside its file, and use its public key",
    )
    parser.add_argument("--kernel", metavar="FILE", help="kernel to boot directly")
    parser.add_argument("--initrd", metavar="FILE", help="with --kernel: its initial root file system")
    parser.add_argument("--command-line", metavar="TEXT", help="with --kernel: its command line")
    parser.add_argument(
        "--anyway", action="store_true", help="write it even if one of its files is missing or unusable"
    )
    parser.add_argument("--at-boot", action=argparse.BooleanOptionalAction, help="start it at the boot of this host")
    parser.add_argument(
        "--start-order", type=int, metavar="N", help="start order: lower numbers start first (default: 100)"
    )
    parser.add_argument("--start-delay", metavar="TIME", help="delay before its start")
    parser.add_argument(
        "--ready-within",
        metavar="TIME",
        help="start guests with a higher order when its doors respond, at the latest after TIME (default: 0 s)",
    )
    parser.add_argument(
        "--when-host-stops", choices=("stop", "save"),
        help="when this host shuts down: stop the guest, or save it to disk (default: stop)",
    )  # fmt: skip
    parser.add_argument(
        "--restart", metavar="WHEN", help="start it again when it ends: never (default), on-failure, always"
    )
    _archive(parser)
    parser.add_argument("--stop-after", metavar="TIME", help="time that it may take to shut down (default: 60 s)")


def _archive(parser: argparse.ArgumentParser) -> None:
    """Options about archives that are made by themselves."""
    parser.add_argument("--archive-in", metavar="FOLDER", help="save it to archives in this folder by itself")
    parser.add_argument("--archive-every", metavar="TIME", help='interval of its archives (default: "1 day")')
    parser.add_argument("--archive-at", metavar="HH:MM", help="time of day of its archives (default: any)")
    parser.add_argument("--archive-keep", type=int, metavar="N", help="number of archives that are kept (default: 7)")
    parser.add_argument(
        "--archive-whole-every", type=int, metavar="N",
        help="every Nth archive has the whole disks, the others what changed (default: 7; 1: all are whole)",
    )  # fmt: skip


def adapter_values(parser: argparse.ArgumentParser, which: str) -> None:
    """Options about an adapter: of a new guest's only one, or with a network before the value of one of several."""
    of = " (of the first adapter, or on NETWORK)" if which else ""
    usual = "" if which else " (default: the next free one)"
    parser.add_argument("--address", metavar=f"{which}ADDRESS", help=f"its address{usual or of}")
    parser.add_argument("--address6", metavar=f"{which}ADDRESS", help="its IPv6 address")
    parser.add_argument(
        "--hardware-address", metavar=f"{which}ADDRESS", help="its Ethernet address (default: generated)"
    )
    parser.add_argument("--model", metavar=f"{which}MODEL", help="the adapter's model: virtio, e1000, …")
    parser.add_argument(
        "--routes", metavar=f"{which}yes|no", help="whether it is a router, which may send from any address"
    )
