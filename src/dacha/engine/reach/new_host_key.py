"""Install a new SSH host key in a running guest, and trust it in place of the old one."""

from __future__ import annotations

import time

from dacha.core.errors import AnswerNo, DachaError, UsageError
from dacha.engine.guest import prepare
from dacha.engine.inside.run import run_inside
from dacha.engine.lab.named import guest_named
from dacha.engine.reach.host_key import Keys, keys_of, shown_key
from dacha.engine.workspace import Workspace
from dacha.formats.openssh import fingerprint
from dacha.host.files import replace_file
from dacha.host.network.addresses import lan_address

# How long its SSH server may take to present the new key after its restart.
SHOWN_S = 60.0
_DONE = "renewed"
# Replaces the key of OpenSSH's server or of dropbear, and restarts the server; sessions are not affected.
_SCRIPT = """\
umask 077
new=$(mktemp) || exit 1
cat > "$new" <<'END-OF-KEY'
{private}END-OF-KEY
f=/etc/ssh/ssh_host_ed25519_key
done=
if [ -w "$f" ]; then
  cat "$new" > "$f.new" && mv "$f.new" "$f" && echo '{public}' > "$f.pub" && chmod 644 "$f.pub" && done=1
fi
for d in /etc/dropbear/dropbear_ed25519_host_key /etc/dropbear/host_key; do
  [ -w "$d" ] && dropbearconvert openssh dropbear "$new" "$d.new" 2>/dev/null && mv "$d.new" "$d" && done=1
done
rm -f "$new"
[ "$done" ] || exit 1
for s in ssh sshd dropbear; do
  systemctl restart $s || service $s restart || rc-service $s restart
done > /dev/null 2>&1
echo {word}
"""


def renew(ws: Workspace, name: str) -> tuple[str, Keys]:
    """Create a new host key, install it in the guest, and trust it once the guest presents it; returns how that
    was done, and the keys. Raises AnswerNo if the guest cannot be reached or does not accept it: then nothing has
    changed."""
    guest = guest_named(ws, name)
    if not guest.first_boot:
        raise UsageError(
            f"{name} does not get its host key from Dacha", where=ws.path.name, remedy="set first-boot = true"
        )
    with ws.home.lock("guest host-key", ws.path):
        before = keys_of(ws, name)
        if not before.same:
            what = (
                f"{name} presents another host key than the trusted one"
                if before.shown
                else f"{name} presents no host key"
            )
            raise AnswerNo(what, remedy=f"dacha trace {name} shows the cause")
        old = [(ws.home.guest(name) / file).read_text() for file in ("host_key", "host_key.pub")]
        private, public = prepare.host_key_pair(ws.lab.name, name)
        how, said = run_inside(ws, name, _SCRIPT.format(private=private, public=public.strip(), word=_DONE))
        if _DONE not in said.splitlines():
            why = (
                f"tried {how}; it still presents its old one. Root privileges are required there, and the host key of "
                "OpenSSH or dropbear in its usual place"
            )
            raise AnswerNo(f"{name} did not accept a new host key", why=why)
        if not _shows(ws, name, public):
            run_inside(ws, name, _SCRIPT.format(private=old[0], public=old[1].strip(), word=_DONE))
            raise AnswerNo(f"{name} accepted a new host key, but does not present it", why="the old one was restored")
        replace_file(ws.home.guest(name) / "host_key", private, mode=0o600)
        replace_file(ws.home.guest(name) / "host_key.pub", public)
        record = ws.home.read(name)
        record.accepted_key = None
        ws.home.write(name, record)
        lan = lan_address()
        prepare.write_known_hosts(ws, ws.plan, [lan] if lan else [])
    return how, Keys(fingerprint(public), fingerprint(public), False)


def _shows(ws: Workspace, name: str, public: str) -> bool:
    deadline = time.monotonic() + SHOWN_S
    while time.monotonic() < deadline:
        try:
            if fingerprint(shown_key(ws, name) or "") == fingerprint(public):
                return True
        except (DachaError, OSError):
            pass
        time.sleep(0.5)
    return False


def to_tell(ws: Workspace, name: str) -> list[str]:
    """People whose handouts contain the old key."""
    return [p.name for p in ws.lab.people.values() if p.may_enter(ws.lab.guests[name])]
