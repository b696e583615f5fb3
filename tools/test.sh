#!/bin/sh
# Runs the style's checks and all tests, in five lots at once: those with hosts of their own in network namespaces, the fault rig (its
# usual faults; make faults tries all) and the attacks, both with some of the first kind, and two that share this host's ports, the
# second of them in a network namespace, so that they do not meet. What the others say is shown when all have ended.
set -u
pytest="$1/pytest -p no:cacheprovider"
said=$(mktemp -d)
trap 'rm -rf "$said"' EXIT
outside=tests/networks/test_outside.py
at_boot=tests/networks/test_at_boot.py
firewalls=tests/networks/test_host_firewalls.py
guide=tests/networks/test_guide.py
reach=tests/networks/test_reach.py
rig=tests/faults
# A slow guest, with the shortest lot.
installer=tests/guests/test_debian_installer.py
# Those that need nothing of this host.
alone="tests/core tests/wire tests/engine tests/hypervisor tests/test_repository.py"
# Guests that need no package from elsewhere, once the demo's is there.
inner=""
for name in life kept labs people faults disks handout; do inner="$inner tests/guests/test_$name.py"; done
# shellcheck disable=SC2086  # a word each, here and below
{
    make --no-print-directory lint > "$said/lint" 2>&1 &
    lint=$!
    $pytest "$installer" "$rig" > "$said/rig" 2>&1 &
    faults=$!
    elsewhere="--ignore $outside --ignore $at_boot --ignore $firewalls --ignore $guide --ignore $reach"
    $pytest tests/networks $elsewhere > "$said/networks" 2>&1 &
    networks=$!
    $pytest "$firewalls" "$reach" tests/attacks tests/caretaker tests/formats "$outside" "$at_boot" > "$said/attacks" 2>&1 &
    attacks=$!
    {
        "$1/python" -c 'from dacha.demo.guest_image import guest_image; guest_image()' &&
            unshare -n sh -c 'ip link set lo up && exec "$@"' sh $pytest $inner $alone
    } > "$said/guests" 2>&1 &
    guests=$!
    ignored="--ignore $installer"
    for path in $inner; do ignored="$ignored --ignore $path"; done
    $pytest "$guide" tests/cli tests/host tests/guests $ignored
    failed=$?
}
for lot in "$lint" "$networks" "$faults" "$attacks" "$guests"; do wait "$lot" || failed=1; done
cat "$said/networks" "$said/rig" "$said/attacks" "$said/guests" "$said/lint"
exit "$failed"
