"""The settings of a running guest against recommended ones: logins, updates, time, remote desktop, disk.

The answers come from the guest: they are parsed with care, shown, and never acted on.
"""

from __future__ import annotations

from collections.abc import Iterator

from dacha.core.harmless import harmless
from dacha.core.named import NamedTuple
from dacha.core.units import show_duration, whole_number

RIGHT, WRONG, UNKNOWN = "right", "wrong", "not known"
# A clock that deviates by more than this (seconds) breaks certificates and one-time passwords.
CLOCK_S = 60.0
FULL = 95
LINES, LONGEST = 300, 400
_DROP_IN = "/etc/ssh/sshd_config.d/00-lab.conf"


class Setting(NamedTuple):
    """One setting: its name, the verdict, its value, the expected value, and the command that sets it."""

    name: str
    verdict: str
    now: str
    should: str
    remedy: str = ""


QUESTIONS = """\
PATH=$PATH:/usr/sbin:/sbin
sshd -T 2>/dev/null | grep -iE '^(password|kbdinteractive)authentication |^permit(rootlogin|emptypasswords) ' \\
  | sed 's/^/sshd /'
apt-config dump APT::Periodic::Unattended-Upgrade 2>/dev/null | sed 's/^/apt /'
command -v apt-get > /dev/null && echo family apt
if command -v dnf > /dev/null; then
  echo family dnf
  echo "dnf $(systemctl is-enabled dnf-automatic-install.timer 2>/dev/null)"
fi
echo "clock $(date +%s)"
echo "zone $(readlink /etc/localtime | sed 's#.*zoneinfo/##')"
df -P / | awk 'NR==2 {print "disk " $5}'
[ -e /run/reboot-required ] && echo restart
awk -F: '$2 == "" {print "empty " $1}' /etc/shadow 2>/dev/null
if [ -e /etc/xrdp/xrdp.ini ]; then
  echo "xrdp security_layer=$(sed -n 's/^security_layer=//p' /etc/xrdp/xrdp.ini | head -1)"
  echo "xrdp group=$(id -nG xrdp 2>/dev/null | grep -cw ssl-cert)"
  echo "xrdp AllowRootLogin=$(sed -n 's/^AllowRootLogin=//p' /etc/xrdp/sesman.ini | head -1)"
fi
ss -Hltn 2>/dev/null | awk '{print "listen " $4}'
echo end
"""


def _set(name: str, fine: bool, now: str, should: str, remedy: str) -> Setting:
    """A setting that is correct or incorrect; a correct one needs no remedy."""
    return Setting(name, RIGHT if fine else WRONG, now, should, "" if fine else remedy)


class Answers(NamedTuple):
    """The answers by their first word; each is a list of the rest of its lines."""

    by_word: dict[str, list[str]]

    def one(self, word: str) -> str:
        return next(iter(self.by_word.get(word, ())), "")

    def pairs(self, word: str, between: str) -> dict[str, str]:
        found = (line.partition(between) for line in self.by_word.get(word, ()))
        return {key.lower(): value for key, _, value in found}


def read_answers(text: str) -> Answers | None:
    """Parse the answers; None if the script did not finish."""
    by_word: dict[str, list[str]] = {}
    for line in text.splitlines()[:LINES]:
        word, _, rest = harmless(line)[:LONGEST].strip().partition(" ")
        by_word.setdefault(word, []).append(rest)
    return Answers(by_word) if "end" in by_word else None


def judge(told: Answers, *, now: float, zone: str | None, updates: bool | None, ports: frozenset[int]) -> list[Setting]:
    """The verdicts. `now` is this host's time (Unix seconds), `zone` and `updates` the values in the lab file, `ports`
    the guest's ports that have doors."""
    return [*_sshd(told), *_updates(told, updates), *_time(told, now, zone), *_xrdp(told), *_rest(told, ports)]


def _sshd(told: Answers) -> Iterator[Setting]:
    said = told.pairs("sshd", " ")
    if not said:
        yield Setting("SSH server", UNKNOWN, "it did not report its settings", "keys only")
        return
    for key, words, fine in (
        ("passwordauthentication", "SSH with password", ("no",)),
        ("kbdinteractiveauthentication", "SSH with keyboard-interactive login", ("no",)),
        ("permitrootlogin", "SSH as root", ("no", "prohibit-password", "without-password", "forced-commands-only")),
        ("permitemptypasswords", "SSH without password", ("no",)),
    ):
        is_now = said.get(key)
        if is_now is None:
            continue
        remedy = f"echo '{key} no' >> {_DROP_IN} && systemctl reload ssh || systemctl reload sshd"
        should = "no, or with a key only" if key == "permitrootlogin" else "no"
        yield _set(words, is_now in fine, is_now, should, remedy)
    empty = told.by_word.get("empty", [])
    yield _set("empty passwords", not empty, ", ".join(empty) or "none", "none", f"passwd --lock {''.join(empty[:1])}")


def _updates(told: Answers, wanted: bool | None) -> Iterator[Setting]:
    family = told.one("family")
    if family not in ("apt", "dnf"):
        return
    on = '"1"' in told.one("apt") if family == "apt" else told.one("dnf") == "enabled"
    fine = on or wanted is False
    remedy = {
        "apt": "apt-get install -y unattended-upgrades && dpkg-reconfigure -f noninteractive unattended-upgrades",
        "dnf": "dnf install -y dnf-automatic && systemctl enable --now dnf-automatic-install.timer",
    }[family]
    should = "off, as the lab file says" if wanted is False else "on"
    yield _set("updates by itself", fine, "on" if on else "off", should, remedy)
    restart = "restart" in told.by_word
    yield _set("restart after updates", not restart, "wanted" if restart else "not needed", "not needed", "reboot")


def _time(told: Answers, now: float, zone: str | None) -> Iterator[Setting]:
    clock = whole_number(told.one("clock"))
    if clock is None:
        yield Setting("clock", UNKNOWN, "it did not report the time", "as this host's")
        return
    apart = clock - now
    way = "behind" if apart < 0 else "ahead"
    fine = abs(apart) <= CLOCK_S
    shown = "as this host's" if fine else f"{show_duration(abs(apart))} {way}"
    yield _set("clock", fine, shown, "as this host's", "timedatectl set-ntp true, or by hand: date --set TIME")
    is_zone = told.one("zone") or "UTC"
    if zone:
        yield _set("time zone", is_zone == zone, is_zone, zone, f"timedatectl set-timezone {zone}")


def _xrdp(told: Answers) -> Iterator[Setting]:
    said = told.pairs("xrdp", "=")
    if not said:
        return
    layer = said.get("security_layer", "") or "negotiate"
    remedy = "sed -i 's/^security_layer=.*/security_layer=tls/' /etc/xrdp/xrdp.ini && systemctl restart xrdp"
    yield _set("remote desktop", layer == "tls", f"security {layer}", "security tls", remedy)
    inside = said.get("group", "0") != "0"
    now = "readable" if inside else "xrdp cannot read the key"
    yield _set("its certificate", inside, now, "readable", "adduser xrdp ssl-cert && systemctl restart xrdp")
    root = said.get("allowrootlogin", "").lower() in ("1", "true", "yes")
    remedy = "sed -i 's/^AllowRootLogin=.*/AllowRootLogin=false/' /etc/xrdp/sesman.ini && systemctl restart xrdp"
    yield _set("remote desktop as root", not root, "allowed" if root else "refused", "refused", remedy)


def _rest(told: Answers, ports: frozenset[int]) -> Iterator[Setting]:
    disk = whole_number(told.one("disk").rstrip("%"))
    if disk is None:
        return
    yield _set("its disk", disk < FULL, f"{disk} % full", f"under {FULL} %", "df -h")
    others = set()
    for line in told.by_word.get("listen", ()):
        address, _, port = line.rpartition(":")
        number = whole_number(port)
        if number is not None and number not in ports and not address.strip("[]").startswith(("127.", "::1")):
            others.add(number)
    shown = ", ".join(map(str, sorted(others)[:8])) or "none"
    # Not reachable from outside, but from other guests of its network: listed, not called wrong.
    yield Setting("other open ports", RIGHT, shown, "only services that its network should reach")
