"""What a guest's own reports explain: why its port is closed, why it does not answer on its network, why a login is
refused.

A guest may lie: this names causes of problems seen from outside, and never makes a hop fine or broken.
"""

from __future__ import annotations

import shlex
from datetime import UTC, datetime
from fnmatch import fnmatchcase as fnmatch

from dacha.core.named import NamedTuple
from dacha.core.trace.advice import BUSY, SERVER_LOG, Advice
from dacha.core.trace.seen.evidence import Evidence, LoginSeen
from dacha.core.trace.seen.inside import SERVERS, Inside, Unit, others_write
from dacha.core.trace.seen.questions import ACCOUNT, LISTENERS, SERVICES, UNITS
from dacha.core.units import show_duration

# A disk that is this full (percent) prevents logins; a clock that deviates this much (seconds) explains expired
# accounts.
FULL, CLOCK_S = 98, 86400
# The signatures of a type of key that has others than its own name (RFC 8332).
_ALGORITHMS = {"ssh-rsa": ("ssh-rsa", "rsa-sha2-256", "rsa-sha2-512")}


class Cause(NamedTuple):
    """What the guest reports; what that means; what to do, None if that is unknown. One that is not `proved` is a
    possibility."""

    seen: str
    means: str
    advice: Advice | None = None
    proved: bool = True


def why_shut(inside: Inside | None, service: str, port: int) -> Cause | None:
    """Why a port of the guest does not respond; None if the reports do not explain it."""
    if inside is None:
        return None
    here = [x for x in inside.listeners if x.port == port]
    if not here:
        return _not_serving(inside, service) if inside.knows(LISTENERS) or inside.units else None
    who = here[0].program or "its server"
    if all(x.on_loopback for x in here):
        words = "configure it to listen on every address (ListenAddress 0.0.0.0), and restart it"
        return Cause(
            f"{who} listens only on {here[0].address}", "only the guest itself can connect to it", Advice(words=words)
        )
    if all(x.on_loopback or x.by_ipv6_alone for x in here):
        words = "configure it to listen on IPv4, too (AddressFamily any, ListenAddress 0.0.0.0), and restart it"
        return Cause(f"{who} listens only on IPv6", "IPv4 clients cannot connect", Advice(words=words))
    if inside.drops:
        # The likeliest: a rule with this port, else a policy, else whatever drops.
        first = min(inside.drops, key=lambda d: (f"dport {port} " not in d.text + " ", "policy" not in d.text))
        # Inserted before all others of that chain; it also takes precedence over a policy.
        command = f"nft insert rule {first.table} {first.chain} tcp dport {port} accept"
        return Cause(
            f"{who} listens there", f"the guest's firewall blocks it: {first.text} ({first.table})", Advice(command)
        )
    return None


def _not_serving(inside: Inside, service: str) -> Cause | None:
    """Why no program has the port, by the reports of the service manager."""
    unit = next((u for u in inside.units if u.state == "failed"), next(iter(inside.units), None))
    if unit is None:
        # Another service manager was not queried.
        sure = service in UNITS and inside.managed and inside.knows(SERVICES) and inside.knows(LISTENERS)
        return Cause("no server for it is installed", "") if sure else None
    if unit.state == "failed":
        said = f": {unit.said}" if unit.said else ""
        return Cause(f"its service {unit.name} failed{said}", "its server does not start", _to_start(unit, service))
    if unit.state == "activating" and unit.said:
        seen = f"its service {unit.name} keeps failing and restarting: {unit.said}"
        return Cause(seen, "its server does not start", _to_start(unit, service))
    if unit.state == "activating":
        return Cause(f"its service {unit.name} is starting", "its server is not ready yet",
                     Advice(words=f"to see its progress: systemctl status {unit.name}"))  # fmt: skip
    if unit.state == "masked":
        command = f"systemctl unmask {unit.name} && systemctl enable --now {unit.name}"
        return Cause(f"its service {unit.name} is masked", "its server cannot be started", Advice(command))
    if unit.state == "active":
        return None
    command = f"systemctl enable --now {unit.name}"
    return Cause(f"its service {unit.name} is {unit.state}", "its server is stopped", Advice(command))


def _to_start(unit: Unit, service: str) -> Advice:
    if service == "ssh":
        return Advice(words=f"sshd -t names the error; once fixed: systemctl restart {unit.name}")
    return Advice(words=f"systemctl status {unit.name} shows why; once fixed: systemctl restart {unit.name}")


def why_mute(inside: Inside | None, service: str, port: int) -> Cause | None:
    """Why a port that accepts connections does not speak its protocol."""
    here = next((x for x in inside.listeners if x.port == port and x.program), None) if inside else None
    if inside is None or here is None:
        return None
    if here.program not in SERVERS.get(service, (here.program,)):
        words = f"end {here.program}, or move it to another port; then start the server for {service}"
        return Cause(f"{here.program} has the port", f"it is not a server for {service}", Advice(words=words))
    if here.state == "T":
        command = f"kill -CONT {here.pid}"
        return Cause(
            f"{here.program} has the port, but its process {here.pid} is stopped",
            "it received a stop signal",
            Advice(command),
        )
    means = "it hangs, or the guest is too busy"
    return Cause(f"{here.program} has the port", means, BUSY, proved=False)


def why_closing(inside: Inside | None, service: str, port: int) -> Cause | None:
    """Why a port closes each connection at once; None if the guest does not report that a program has it."""
    if inside is None or not serves(inside, port):
        return None
    who = next(x.program for x in inside.listeners if x.port == port) or "its server"
    if who not in SERVERS.get(service, (who,)):
        return why_mute(inside, service, port)
    if inside.log:
        return Cause(f"{who} has the port", f"its server's log: {inside.log}", SERVER_LOG)
    means = (
        "one of: its server refuses this host (/etc/hosts.deny, or its own rules); it has too many clients, or restarts"
    )
    return Cause(f"{who} has the port", means, SERVER_LOG, proved=False)


def serves(inside: Inside, port: int) -> bool:
    """True if the guest reports a program that has this port for IPv4 clients."""
    return any(x.port == port and not x.on_loopback and not x.by_ipv6_alone for x in inside.listeners)


def why_silent(e: Evidence) -> Cause | None:
    """Why no machine answers for the guest's address on its network."""
    link = e.inside.link_of(e.hardware) if e.inside and e.hardware else None
    address = e.address or e.planned
    if e.inside is None or link is None or not address:
        return None
    planned = f"{address}/{e.prefix}"
    onward = f" && ip route replace default via {e.gateway}" if e.gateway else ""
    if not link.up:
        command = f"ip link set {link.name} up && ip address replace {planned} dev {link.name}{onward}"
        return Cause(f"its link {link.name} is down", "it was not configured, or it was taken down", Advice(command))
    if planned not in link.addresses:
        has = f"has {', '.join(link.addresses)}" if link.addresses else "has no address"
        command = f"ip address replace {planned} dev {link.name}{onward}"
        return Cause(f"its link {link.name} {has}", f"{address} is planned for it", Advice(command))
    return Cause(f"its link {link.name} is up and has {address}", "its own settings prevent it from answering ARP")


def why_not_beyond(e: Evidence) -> Cause | None:
    """Why the guest answers its own network only."""
    if not e.gateway:
        return None
    seen = ""
    if e.inside and e.inside.gateway is not None:
        seen = f"its default gateway is {e.inside.gateway}" if e.inside.gateway else "it has no default route"
        if e.inside.gateway == e.gateway:
            return Cause(seen, "something other than its route blocks its replies")
    return Cause(seen, f"its gateway should be {e.gateway}", Advice(f"ip route replace default via {e.gateway}"))


def why_refused(inside: Inside | None, seen: LoginSeen, now: float) -> Cause | None:
    """Why a login is refused, or ends at once. If the server accepted a key, it knows user and key; if the user
    entered, the account is open, too."""
    if inside is None:
        return None
    barred = why_barred(inside, seen.user, now)
    if barred and not (seen.entered and inside.closed is not None):
        return barred
    if not seen.accepted:
        found = _of_server(inside, seen.user, seen.types) or _of_key_file(inside, seen.user, seen.tails)
        return found or _of_rest(inside)
    return _of_rest(inside)


def why_barred(inside: Inside | None, user: str, now: float) -> Cause | None:
    """What prevents any login of a user: no such user, logins closed, the shell, the account."""
    if inside is None or not inside.knows(ACCOUNT):
        return None
    if inside.shell is None:
        return Cause("", f"there is no {user} in the guest")
    if inside.closed is not None:
        means = f"only root can log in to the guest at the moment: {inside.closed}"
        return Cause("", means, Advice("rm /etc/nologin"))
    shell = Advice(f"usermod --shell /bin/sh {user}")
    if not inside.shell_there:
        return Cause("", f"the shell of {user}, {inside.shell}, does not exist", shell)
    if inside.shell.rpartition("/")[2] in ("nologin", "false"):
        return Cause("", f"the shell of {user}, {inside.shell}, refuses every login", shell)
    return _of_account(inside, user, now)


def _of_account(inside: Inside, user: str, now: float) -> Cause | None:
    if inside.expires is not None and inside.expires <= inside.today:
        if now and abs(inside.clock - now) > CLOCK_S and inside.expires > now // 86400:
            way = "ahead" if inside.clock > now else "behind"
            means = f"its clock is {show_duration(abs(inside.clock - now))} {way}, so it considers the account expired"
            right = datetime.fromtimestamp(now, UTC).strftime("%Y-%m-%d %H:%M:%S")
            return Cause("", means, Advice(f"date -u -s '{right}'"))
        return Cause("", f"the account of {user} has expired", Advice(f"chage --expiredate -1 {user}"))
    if inside.must:
        means = f"the password for {user} must be changed first"
        return Cause("", means, Advice(f"chage --lastday {inside.today} {user}"))
    return None


def _of_server(inside: Inside, user: str, types: tuple[str, ...]) -> Cause | None:
    """What the settings of the SSH server say about keys and this user."""
    words = "in /etc/ssh/sshd_config, or a file of /etc/ssh/sshd_config.d; then: systemctl reload ssh"
    for word, value in inside.settings:
        named = value.split()
        if word == "pubkeyauthentication" and value != "yes":
            return Cause("", "its server does not accept keys", Advice(words=f"PubkeyAuthentication yes {words}"))
        if word == "authorizedkeysfile" and ".ssh/authorized_keys" not in value:
            means = f"its server reads keys from another file: {value}"
            return Cause("", means, Advice(words=f"AuthorizedKeysFile .ssh/authorized_keys {words}"))
        if word == "denyusers" and user in named:
            return Cause("", f"its server denies {user} (DenyUsers)", Advice(words=f"remove {user} there, {words}"))
        if word == "allowusers" and not any(user == x.partition("@")[0] or "*" in x for x in _all(inside, word)):
            means = f"its server allows only {', '.join(_all(inside, word))} (AllowUsers)"
            return Cause("", means, Advice(words=f"add {user} there, {words}"))
        if word == "authenticationmethods" and "any" not in named and "publickey" not in named:
            means = f"its server requires more than a key: {value} (AuthenticationMethods)"
            return Cause("", means, Advice(words=f"AuthenticationMethods publickey {words}"))
    ours = [a for kind in types for a in _ALGORITHMS.get(kind, (kind,))]
    if ours and inside.algorithms and not set(ours) & set(inside.algorithms):
        means = f"its server accepts no keys of the type {' or '.join(types)} (PubkeyAcceptedAlgorithms)"
        return Cause("", means, Advice(words=f"add the type there, {words}"))
    if inside.groups is None:
        return None
    allowed = _all(inside, "allowgroups")
    if allowed and not any(fnmatch(g, x) for g in inside.groups for x in allowed):
        means = f"its server allows only the groups {', '.join(allowed)} (AllowGroups), and {user} is in none of them"
        return Cause("", means, Advice(f"usermod --append --groups {shlex.quote(allowed[0])} {user}"))
    if denied := [g for g in inside.groups for x in _all(inside, "denygroups") if fnmatch(g, x)]:
        means = f"its server denies the group {denied[0]} (DenyGroups), and {user} is in it"
        return Cause("", means, Advice(words=f"remove {denied[0]} there, {words}"))
    return None


def _all(inside: Inside, word: str) -> list[str]:
    """All values of a setting that may be on several lines."""
    return [x for name, value in inside.settings if name == word for x in value.split()]


def _of_key_file(inside: Inside, user: str, ours: tuple[str, ...]) -> Cause | None:
    if not inside.knows(ACCOUNT):
        return None
    if inside.keys is None:
        return Cause("", f"{user} has no key file in the guest")
    bits, _, owner = inside.mode.partition(" ")
    if inside.mode and (owner not in (user, "root") or others_write(bits)):
        where = f"~{user}/.ssh/authorized_keys"
        means = f"its key file belongs to {owner} (mode {bits}): the server ignores a file that other users can write"
        return Cause("", means, Advice(f"chown {user}: {where}; chmod 600 {where}"))
    shared = [path for path, bits, whose in inside.folders if others_write(bits) or whose not in (user, "root")]
    if shared:
        means = f"{shared[0]} does not belong to {user} alone: the server ignores key files below it"
        which = " ".join(map(shlex.quote, shared))
        return Cause("", means, Advice(f"chown {user}: {which} && chmod go-w {which}"))
    if ours and not set(ours) & set(inside.tails):
        many = f"{inside.keys} key{'' if inside.keys == 1 else 's'}"
        return Cause("", f"its key file has {many}, but not this one")
    limits = [options for tail, options in inside.limits if tail in ours and not inside.log]
    if limits and any(word in limits[0] for word in ("from=", "expiry-time=")):
        means = f"its key file limits this key: {limits[0]}"
        return Cause("", means, Advice(words=f"change these options in ~{user}/.ssh/authorized_keys"), proved=False)
    return None


def _of_rest(inside: Inside) -> Cause | None:
    """What prevents the login of a known user: a full disk; else the last refusal in the server's log."""
    if inside.disk is not None and inside.disk >= FULL:
        return Cause("", f"its disk is full ({inside.disk} %)", Advice(words="df -h shows what fills it"))
    if inside.log:
        return Cause("", f"its server's log: {inside.log}", SERVER_LOG)
    return None
