"""Questions to a guest about its way to another machine: POSIX shell scripts that change nothing there."""

from __future__ import annotations

from dacha.core.endpoint import Endpoint


def way_script(target: str, *, named: bool) -> str:
    """A POSIX shell script for the guest: its name servers, the addresses of a name, the route. `target` is a checked
    name or address."""
    resolve = f"""\
for a in $(getent ahostsv4 {target} 2>/dev/null | while read -r a x; do echo "$a"; done); do echo "resolved $a"; done
command -v getent > /dev/null || nslookup {target} 2>/dev/null | while read -r k v x; do
  case "$k" in Name:) n=1 ;; Address*) [ "$n" ] && echo "resolved ${{v%%#*}}" ;; esac
done
"""
    return f"""\
PATH=$PATH:/usr/sbin:/sbin
while read -r k v x; do [ "$k" = nameserver ] && echo "resolver $v"; done < /etc/resolv.conf 2>/dev/null
{resolve if named else ""}true
"""


def target_script(address: str, port: int, gateway: str) -> str:
    """The same for one address: its route, a connection with any available program, and the gateway's neighbour
    entry."""
    family = 6 if ":" in address else 4
    at = Endpoint(address, port)
    gate = f'echo "neighbour $(ip -{family} neigh show {gateway} 2>/dev/null)"' if gateway else "true"
    return f"""\
PATH=$PATH:/usr/sbin:/sbin
w=$(ip -{family} route get {address} 2>/dev/null); echo "way "$w
if command -v bash > /dev/null && command -v timeout > /dev/null; then
  m=$(timeout 5 bash -c 'exec 3<>/dev/tcp/{address}/{port}' 2>&1); c=$?
elif command -v nc > /dev/null; then m=$(nc -w 5 {address} {port} < /dev/null 2>&1 > /dev/null); c=$?
elif command -v curl > /dev/null; then
  m=$(curl -sS --connect-timeout 5 -m 6 telnet://{at} < /dev/null 2>&1 > /dev/null); c=$?
else c=none m=
fi
echo "tried $c "$m
{gate}
"""
