"""The end of an installation: a script that configures the new system as the lab file says, run inside it by its
installer.

POSIX sh and each family's own account tools. A failed step does not prevent the others: it is reported on the console
and in a log, and in the script's exit status.
"""

from __future__ import annotations

import base64
import shlex
from ipaddress import ip_interface

from dacha.core.apply.answers import Answers
from dacha.core.apply.first_boot import FirstBootAdapter, FirstBootShare, SetupFile, SetupUser
from dacha.core.inside.shell.clock import FIND
from dacha.core.lab.families import family_of, whole_setups
from dacha.core.named import NamedTuple
from dacha.formats.remote_desktop import remote_desktop
from dacha.formats.seed.sources import source_files
from dacha.formats.shares import smb_mounts

LOG = "/var/log/dacha-first-boot.log"
DONE, FAILED = "first boot: done", "first boot: failed at"


class Tools(NamedTuple):
    """How a family does the script's steps; {name}, {shell} and others are substituted, already quoted."""

    add_user: str
    add_group: str
    into_group: str
    password: str
    service: str
    home: str = "/home"
    shell: str = "/bin/bash"
    administrator: str = "/etc/sudoers.d/90-{file}"
    rule: str = "{name} ALL=(ALL:ALL) NOPASSWD: ALL"
    # Empty if the installer itself installs packages.
    packages: str = ""
    always: tuple[str, ...] = ()


_GNU = Tools(
    add_user="useradd --create-home --shell {shell} {name}",
    add_group="getent group {group} > /dev/null || groupadd {group}",
    into_group="usermod --append --groups {group} {name}",
    password="printf '%s\\n' {entry} | chpasswd --encrypted",
    service="systemctl enable {service}",
)
TOOLS = {
    "debian": _GNU,
    "ubuntu": _GNU,
    "fedora": _GNU,
    "alpine": Tools(
        add_user="adduser -D -s {shell} {name}",
        add_group="grep -q ^{group}: /etc/group || addgroup {group}",
        into_group="addgroup {name} {group}",
        password="printf '%s\\n' {entry} | chpasswd -e",
        service="rc-update add {service} default",
        shell="/bin/ash",
        administrator="/etc/doas.d/{file}.conf",
        rule="permit nopass {name}",
        packages="apk add {packages}",
        always=("doas",),
    ),
    "bsd": Tools(
        add_user="pw useradd {name} -m -s {shell}",
        add_group="pw groupshow {group} > /dev/null 2>&1 || pw groupadd {group}",
        into_group="pw groupmod {group} -m {name}",
        password="printf '%s\\n' {hash} | pw usermod {name} -H 0",
        service="sysrc {service}_enable=YES",
        shell="/bin/sh",
        administrator="/usr/local/etc/sudoers.d/90-{file}",
        packages="env ASSUME_ALWAYS_YES=yes pkg install {packages}",
        always=("sudo",),
    ),
}
# How packages are installed at the end of an installation, by the package manager.
_INSTALL = {
    "apt": "apt-get -q update && DEBIAN_FRONTEND=noninteractive apt-get -q -y install {}",
    "dnf": "dnf --assumeyes install {}",
}
_SSHD = "PasswordAuthentication no\nKbdInteractiveAuthentication no\nPermitRootLogin no\n"
_END = "END-OF-FILE"
_NETWORKD = "/etc/systemd/network"


def script(answers: Answers, family: str, *, network: bool = False) -> str:
    """The script for a family; with `network` it also configures the adapters' addresses, for installers that do
    not."""
    how = TOOLS[family]
    steps = [("host key", _host_key(answers)), ("login", _login(family))]
    sources = source_files(answers.setup, whole_setups().get(family, ""))
    steps += [(f["path"], _file(f)) for f in sources]
    later = _INSTALL.get(family_of(family).manager)
    if answers.packages_later and later and answers.packages:
        steps.append(("packages", [later.format(" ".join(map(shlex.quote, answers.packages)))]))
    if family == "debian" and answers.setup["locale"]:
        steps.append(("locale", _locale(answers.setup["locale"])))
    if how.packages:
        wanted = " ".join(map(shlex.quote, [*how.always, *answers.packages]))
        steps.append(("packages", [how.packages.format(packages=wanted)]))
    steps += [(f"user {u['name']}", _user(answers, how, u)) for u in answers.users]
    if network:
        steps.append(("addresses", networkd(answers.facts["adapters"])))
    if answers.setup.get("remote_desktop") and family in whole_setups():
        made = remote_desktop(whole_setups()[family], [u["name"] for u in answers.users])
        files = [c for path, text, mode in made.files for c in _put(path, text.encode(), mode)]
        # No service runs during the installation: they start at the first boot.
        steps.append(("remote desktop", [*files, *(c for c in made.commands if " restart " not in c)]))
    if family != "bsd":
        # Mounted from the new system's first boot on.
        shares = answers.facts.get("shares", [])
        if any("server" in s for s in shares):
            secret = smb_mounts.credentials(answers.share_password)
            steps.append(("password of shares", _put(smb_mounts.CREDENTIALS, secret.encode(), "0600")))
        steps += [(f"share {s['name']}", _share(s, family)) for s in shares]
    steps += [(f["path"], _file(f)) for f in answers.setup["files"]]
    if servers := answers.setup.get("time_servers"):
        steps.append(("time servers", _clock(servers, family)))
    steps += [(f"service {s}", [how.service.format(service=shlex.quote(s))]) for s in answers.setup["services"]]
    steps += [(f"run {n}", [_sh(c)]) for n, c in enumerate(answers.setup["run"], 1)]
    lines = [
        "#!/bin/sh",
        f"# What {answers.facts['full_name']} should be, as the lab says it; its installer runs this once.",
        f"exec >> {LOG} 2>&1",
        "failed=",
        "",
    ]
    for name, commands in steps:
        quoted = shlex.quote(name)
        # The status is checked separately: within a list of commands, set -e has no effect.
        lines += [f"echo {quoted}", "(", "set -e", *commands, ")", f'[ $? = 0 ] || failed="$failed, "{quoted}', ""]
    lines += [
        'if [ "$failed" ]; then',
        f'  echo "{FAILED} ${{failed#, }}" | tee /dev/console',
        "else",
        f'  echo "{DONE}" | tee /dev/console',
        "fi",
        "",
    ]
    return "\n".join(lines)


def _put(path: str, text: bytes, mode: str) -> list[str]:
    """Commands that create a file with arbitrary contents."""
    folder, target = shlex.quote(path.rpartition("/")[0] or "/"), shlex.quote(path)
    try:
        written = text.decode()
        plain = written.endswith("\n") and _END not in written and _plain(written)
    except UnicodeDecodeError:
        plain = False
    if plain:
        put = f"cat > {target} << '{_END}'\n{written}{_END}"
    else:
        # Some small systems have no base64; they have openssl.
        encoded = base64.b64encode(text).decode()
        put = f"printf '%s' {encoded} | (base64 -d 2> /dev/null || openssl base64 -d -A) > {target}"
    # Set the mode before writing the contents.
    return [f"mkdir -p {folder}", f": > {target}", f"chmod {mode} {target}", put]


def _sh(command: str) -> str:
    """A shell command with arbitrary contents."""
    if _plain(command):
        return f"sh -c {shlex.quote(command)}"
    encoded = base64.b64encode(command.encode()).decode()
    return f"sh -c \"$(printf '%s' {encoded} | (base64 -d 2> /dev/null || openssl base64 -d -A))\""


def _plain(text: str) -> bool:
    """True for text that a here-document keeps unchanged, and that no installer mistakes for the start of a section:
    FreeBSD's begin with "#!" (bsdinstall(8)), Fedora's with "%" (kickstart: %end, %include)."""
    apart = any(line.lstrip().startswith(("#!", "%")) for line in text.split("\n"))
    return not apart and all(c in "\n\t" or c.isprintable() for c in text)


def _host_key(answers: Answers) -> list[str]:
    if not answers.host_key_private:
        return []
    return [
        "rm -f /etc/ssh/ssh_host_*",
        *_put("/etc/ssh/ssh_host_ed25519_key", answers.host_key_private.encode(), "0600"),
        *_put("/etc/ssh/ssh_host_ed25519_key.pub", answers.facts["host_key"].encode().rstrip() + b"\n", "0644"),
    ]


def _login(family: str) -> list[str]:
    """SSH with keys only."""
    if family == "bsd":
        return [
            *_put("/tmp/sshd", _SSHD.encode(), "0644"),
            "cat /etc/ssh/sshd_config >> /tmp/sshd",
            "cp /tmp/sshd /etc/ssh/sshd_config",
            "sysrc sshd_enable=YES",
        ]
    included = "grep -qi '^Include.*sshd_config.d' /etc/ssh/sshd_config"
    file = "/etc/ssh/sshd_config.d/10-dacha.conf"
    enable = TOOLS[family].service.format(service=family_of(family).ssh_service)
    prepend = f"(cat {file} /etc/ssh/sshd_config > /tmp/sshd && cp /tmp/sshd /etc/ssh/sshd_config)"
    return [*_put(file, _SSHD.encode(), "0644"), f"({included} || {prepend})", enable]


def _locale(name: str) -> list[str]:
    """Debian's locale, if its installer continued in its own, as it does with little memory."""
    made = f"sed -i 's/^# *\\({name} \\)/\\1/' /etc/locale.gen && locale-gen && update-locale LANG={name}"
    return [f"""(grep -qs '^LANG="*{name}"*$' /etc/default/locale || ({made}))"""]


def _user(answers: Answers, how: Tools, user: SetupUser) -> list[str]:
    name, home = shlex.quote(user["name"]), f"{how.home}/{user['name']}"
    hashed = answers.passwords.get(user["name"], "*")
    filled = {"name": name, "shell": shlex.quote(user["shell"] or how.shell), "hash": shlex.quote(hashed),
              "entry": shlex.quote(f"{user['name']}:{hashed}")}  # fmt: skip
    commands = [f"(id {name} > /dev/null 2>&1 || {how.add_user.format(**filled)})", how.password.format(**filled)]
    for group in user["groups"]:
        quoted = shlex.quote(group)
        commands += [f"({how.add_group.format(group=quoted)})", how.into_group.format(group=quoted, **filled)]
    if user["administrator"]:
        file = how.administrator.format(file=user["name"])
        commands += _put(file, how.rule.format(name=user["name"]).encode() + b"\n", "0440")
    if user["keys"]:
        keys = "".join(f"{k}\n" for k in user["keys"]).encode()
        commands += _put(f"{home}/.ssh/authorized_keys", keys, "0600")
        commands += [f"chmod 700 {shlex.quote(home + '/.ssh')}", f"chown -R {name}: {shlex.quote(home + '/.ssh')}"]
    return commands


def _clock(servers: list[str], family: str) -> list[str]:
    """The time servers, for whichever time service was installed."""
    told = shlex.quote(" ".join(servers))
    put = [FIND, "find_clock", 'mkdir -p "${F%/*}"', f'clock_text {told} > /tmp/clock && cat /tmp/clock > "$F"']
    return [*put, TOOLS[family].service.format(service="ntpd")] if family == "bsd" else put


def _share(share: FirstBootShare, family: str) -> list[str]:
    if "server" in share:
        return smb_mounts.linux(share, family)
    line = f"{share['name']} {share['at']} virtiofs {'ro' if share['read_only'] else 'rw'},nofail 0 0"
    return [f"mkdir -p {share['at']}", f"echo '{line}' >> /etc/fstab"]


def _file(file: SetupFile) -> list[str]:
    commands = _put(file["path"], base64.b64decode(file["content"]), file["mode"].zfill(4))
    if file["owner"] != "root":
        commands.append(f"chown {shlex.quote(file['owner'])}: {shlex.quote(file['path'])}")
    return commands


def networkd(adapters: list[FirstBootAdapter]) -> list[str]:
    """Commands that give every adapter its planned addresses with systemd-networkd, matched by hardware address
    (systemd.network(5)); an installer itself configures one address of one adapter."""
    planned = [a for a in adapters if a["address"] or a["address6"]]
    if not planned:
        return []
    commands = []
    for n, a in enumerate(adapters):
        lines = ["[Match]", f"MACAddress={a['hardware_address']}", "", "[Network]"]
        lines += [f"Address={x}" for x in (a["address"], a["address6"]) if x]
        lines += [f"Gateway={x}" for x in (a["gateway"], a["gateway6"]) if x]
        lines += [f"DNS={x}" for x in a["name_servers"] if a["address"] or a["address6"]]
        lines += [] if a["address"] else ["DHCP=ipv4"]
        commands += _put(f"{_NETWORKD}/10-adapter{n}.network", "\n".join([*lines, ""]).encode(), "0644")
    commands += _put("/etc/network/interfaces", b"auto lo\niface lo inet loopback\n", "0644")
    servers = list(dict.fromkeys(s for a in planned for s in a["name_servers"]))
    if servers:
        commands += _put("/etc/resolv.conf", "".join(f"nameserver {s}\n" for s in servers).encode(), "0644")
    return [*commands, "systemctl enable systemd-networkd"]


def first_static(adapters: list[FirstBootAdapter]) -> tuple[str, str, str, str] | None:
    """The address, mask, gateway and name servers of the adapter that packages are downloaded through; None if it uses
    DHCP. The gateway is empty if there is none."""
    outward = next((a for a in adapters if a["gateway"]), adapters[0] if adapters else None)
    if outward is None or not outward["address"]:
        return None
    own = ip_interface(outward["address"])
    return str(own.ip), str(own.netmask), outward["gateway"] or "", " ".join(outward["name_servers"])
