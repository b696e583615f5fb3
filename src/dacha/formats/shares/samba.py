"""The files of a Samba server for one guest, for a process without further rights: its configuration, its one account,
and its users (smb.conf(5), smbpasswd(5), passwd(5)).

SMB3 only, signed; no name service, no printers, no browsing; links are not followed. No oplocks or leases: this host
changes the same files.
"""

from __future__ import annotations

from collections.abc import Iterable

from dacha.core.plan.smb import USER

# The server's own files, and the folders, in its private view of the file system; and its user there, who owns the
# folders.
SETTINGS, OWN, SHARES, NUMBER = "/settings", "/own", "/shares", 1000
_GLOBAL = f"""\
[global]
server role = standalone server
workgroup = LAB
server min protocol = SMB3_00
server signing = mandatory
server multi channel support = no
restrict anonymous = 2
map to guest = never
null passwords = no
ntlm auth = ntlmv2-only
disable netbios = yes
disable spoolss = yes
load printers = no
printcap name = /dev/null
dns proxy = no
host msdfs = no
unix extensions = no
follow symlinks = no
wide links = no
store dos attributes = yes
passdb backend = smbpasswd:{SETTINGS}/smbpasswd
private dir = {OWN}
lock directory = {OWN}
state directory = {OWN}
cache directory = {OWN}
pid directory = {OWN}
ncalrpc dir = {OWN}/rpc
log file = {OWN}/log
max log size = 64
log level = 1
oplocks = no
level2 oplocks = no
smb2 leases = no
"""


def config(shares: Iterable[tuple[str, bool]]) -> str:
    """smb.conf for shares by name, each read-only or not."""
    parts = [_GLOBAL]
    for name, read_only in shares:
        parts.append(
            f"[{name}]\npath = {SHARES}/{name}\nvalid users = {USER}\nread only = {'yes' if read_only else 'no'}\n"
            "create mask = 0644\ndirectory mask = 0755\n"
        )
    return "\n".join(parts)


def account(password_hash: str) -> str:
    """The line of the one account, with its password hash (`wire.md4`); the older hash is omitted."""
    return f"{USER}:{NUMBER}:{'X' * 32}:{password_hash}:[U          ]:LCT-00000001:\n"


def users() -> tuple[str, str]:
    """The users that the server knows: passwd and group."""
    people = (("root", 0), (USER, NUMBER), ("nobody", 65534))
    passwd = "".join(f"{name}:x:{number}:{number}::/:/bin/false\n" for name, number in people)
    return passwd, "".join(f"{name}:x:{number}:\n" for name, number in people)
