"""Answer file for Debian's installer: a preseed file (Debian installation guide, appendix B), in its initrd."""

from __future__ import annotations

from dacha.core.apply.answers import Answers
from dacha.formats.answers.finish import first_static, script
from dacha.formats.remote_desktop import remote_desktop

# Paths of kernel and initrd on media: full and small installers, network installers, and the demo's own.
KERNELS = (
    ("/install.amd/vmlinuz", "/install.amd/initrd.gz"),
    ("/linux", "/initrd.gz"),
    ("/boot/vmlinuz", "/boot/initrd"),
)
COMMAND_LINE = (
    "auto=true priority=critical DEBIAN_FRONTEND=text console=ttyS0,115200 --- console=tty0 console=ttyS0,115200"
)
FINISH = "dacha-finish.sh"


def documents(answers: Answers) -> dict[str, str]:
    """The files to add to the initrd, by name."""
    return {"preseed.cfg": preseed(answers), FINISH: script(answers, "debian", network=_planned(answers))}


def _planned(answers: Answers) -> bool:
    adapters = answers.facts["adapters"]
    return bool(adapters and (adapters[0]["address"] or adapters[0]["address6"]))


def preseed(answers: Answers) -> str:
    """The preseed file: one answer a line, `owner question type value`."""
    setup = answers.setup
    lines = [
        f"# The answers of {answers.facts['full_name']} to Debian's installer.",
        *_d_i("debian-installer/locale", "string", setup["locale"] or "en_US.UTF-8"),
        # With little memory, the installer first shows a warning and waits; then it continues in English.
        *_d_i("lowmem/low", "note", ""),
        *_d_i("lowmem/insufficient", "note", ""),
        *_d_i("keyboard-configuration/xkb-keymap", "select", setup["keyboard"] or "us"),
        *_network(answers),
        *_mirror(answers.mirror, answers.proxy),
        "",
        "# Nobody has root's password; accounts are made at the end, with their keys.",
        *_d_i("passwd/make-user", "boolean", "false"),
        *_d_i("passwd/root-login", "boolean", "true"),
        # A hash that no password has. (A single character is asked about again, from Debian 13 on.)
        *_d_i("passwd/root-password-crypted", "password", "!!"),
        *_d_i("clock-setup/utc", "boolean", "true"),
        *_d_i("clock-setup/ntp", "boolean", "false"),
        *_d_i("time/zone", "string", setup["time_zone"] or "Etc/UTC"),
        *_disk(answers),
        *_packages(answers),
        "",
        "# It ends by powering off: Dacha takes the medium away, and starts it from its disk.",
        *_d_i("finish-install/keep-consoles", "boolean", "true"),
        *_d_i("finish-install/reboot_in_progress", "note", ""),
        *_d_i("cdrom-detect/eject", "boolean", "false"),
        *_d_i("debian-installer/exit/poweroff", "boolean", "true"),
        *_d_i("preseed/late_command", "string",
              f"cp /{FINISH} /target/root/{FINISH}; in-target sh /root/{FINISH} || true; rm -f /target/root/{FINISH}"),
    ]  # fmt: skip
    return "\n".join([*lines, ""])


def _d_i(question: str, kind: str, value: str, owner: str = "d-i") -> list[str]:
    return [f"{owner} {question} {kind} {value}".rstrip()]


def _network(answers: Answers) -> list[str]:
    facts = answers.facts
    lines = [
        "",
        *_d_i("netcfg/choose_interface", "select", "auto"),
        *_d_i("netcfg/hostname", "string", facts["host_name"]),
        *_d_i("netcfg/get_hostname", "string", facts["host_name"]),
        *_d_i("netcfg/get_domain", "string", answers.domain),
        *_d_i("netcfg/wireless_wep", "string", ""),
        *_d_i("hw-detect/load_firmware", "boolean", "false"),
    ]
    static = first_static(facts["adapters"])
    if static:
        address, mask, gateway, servers = static
        lines += [
            *_d_i("netcfg/disable_autoconfig", "boolean", "true"),
            *_d_i("netcfg/get_ipaddress", "string", address),
            *_d_i("netcfg/get_netmask", "string", mask),
            *_d_i("netcfg/get_gateway", "string", gateway or "none"),
            *_d_i("netcfg/get_nameservers", "string", servers),
            *_d_i("netcfg/confirm_static", "boolean", "true"),
        ]
    return lines


def _mirror(mirror: str | None, proxy: str | None) -> list[str]:
    if not mirror:
        return ["", *_d_i("mirror/http/proxy", "string", proxy or "")]
    scheme, _, place = mirror.partition("://")
    host, _, path = place.partition("/")
    return [
        "",
        *_d_i("mirror/protocol", "string", scheme),
        *_d_i("mirror/country", "string", "manual"),
        *_d_i(f"mirror/{scheme}/hostname", "string", host),
        *_d_i(f"mirror/{scheme}/directory", "string", f"/{path}"),
        *_d_i(f"mirror/{scheme}/proxy", "string", proxy or ""),
        *_d_i("apt-setup/services-select", "multiselect", ""),
    ]


def _disk(answers: Answers) -> list[str]:
    return [
        "",
        "# The whole first disk, in one file system with a swap partition.",
        *_d_i("partman-auto/disk", "string", answers.disk),
        *_d_i("partman-auto/method", "string", "regular"),
        *_d_i("partman-auto/choose_recipe", "select", "atomic"),
        *_d_i("partman-partitioning/confirm_write_new_label", "boolean", "true"),
        *_d_i("partman/choose_partition", "select", "finish"),
        *_d_i("partman/confirm", "boolean", "true"),
        *_d_i("partman/confirm_nooverwrite", "boolean", "true"),
        *_d_i("partman-efi/non_efi_system", "boolean", "true"),
        *_d_i("grub-installer/only_debian", "boolean", "true"),
        *_d_i("grub-installer/with_other_os", "boolean", "true"),
        *_d_i("grub-installer/bootdev", "string", answers.disk),
        *_d_i("grub-installer/force-efi-extra-removable", "boolean", "true"),
    ]


def _packages(answers: Answers) -> list[str]:
    setup = answers.setup
    locales = ["locales"] if setup["locale"] else []
    wanted = ["openssh-server", "sudo", "qemu-guest-agent", *locales]
    wanted += [] if answers.packages_later else answers.packages
    if setup.get("remote_desktop"):
        wanted += remote_desktop("apt", ()).packages
    policy = "unattended-upgrades" if setup["automatic_updates"] else "none"
    return [
        "",
        *_d_i("apt-setup/cdrom/set-first", "boolean", "false"),
        *_d_i("tasksel/first", "multiselect", "", "tasksel"),
        *_d_i("pkgsel/run_tasksel", "boolean", "false"),
        *_d_i("pkgsel/include", "string", " ".join(dict.fromkeys(wanted))),
        *_d_i("pkgsel/upgrade", "select", "full-upgrade" if setup["update"] else "none"),
        *_d_i("pkgsel/update-policy", "select", policy),
        *_d_i("popularity-contest/participate", "boolean", "false", "popularity-contest"),
    ]
