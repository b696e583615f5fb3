#!/bin/sh
# What an adapter without an address of its own does with the one that it is given (udhcpc calls it).
# shellcheck disable=SC2154  # what begins in small letters, it has set
[ "$ip" ] || exit 0
ip address replace "$ip/$mask" dev "$interface"
[ "$router" ] && ip route replace default via "${router%% *}" dev "$interface"
{ [ "$domain" ] && echo "search $domain"; for server in $dns; do echo "nameserver $server"; done; } > /etc/resolv.conf
echo "demo guest: has the address $ip" > /dev/console
