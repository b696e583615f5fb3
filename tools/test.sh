#!/bin/sh
# Runs all tests, in five lots at once: those with hosts of their own in network namespaces, the fault rig (its usual faults; make
# faults tries all) and the attacks, both with some of the first kind, and two that share this host's ports, the second of them in a
# network namespace, so that they do not meet. Much of their time is waiting; what the others say is shown when all have ended.
set -u
pytest="$1/pytest -p no:cacheprovider"
said=$(mktemp -d)
trap 'rm -rf "$said"' EXIT
outside=tests/networks/test_outside.py
at_boot=tests/networks/test_at_boot.py
firewalls=tests/networks/test_host_firewalls.py
guide=tests/networks/test_guide.py
rig=tests/faults
# A slow guest, with the shortest lot.
installer=tests/guests/test_debian_installer.py
# Those that need nothing of this host.
alone="tests/core tests/wire tests/engine tests/hypervisor tests/test_repository.py"
# Guests that need no package from elsewhere, once the demo's is there.
inner=""
for name in life kept labs people faults disks handout; do inner="$inner tests/guests/test_$name.py"; done
"$1/python" -c 'from dacha.demo.guest_image import guest_image; guest_image()' || exit 1
# shellcheck disable=SC2086  # a word each, here and below
{
    $pytest tests/networks --ignore "$outside" --ignore "$at_boot" --ignore "$firewalls" --ignore "$guide" > "$said/networks" 2>&1 &
    networks=$!
    $pytest "$rig" "$firewalls" "$installer" > "$said/rig" 2>&1 &
    faults=$!
    $pytest tests/attacks tests/caretaker tests/formats "$outside" "$at_boot" "$guide" > "$said/attacks" 2>&1 &
    attacks=$!
    unshare -n sh -c 'ip link set lo up && exec "$@"' sh $pytest $inner $alone > "$said/guests" 2>&1 &
    guests=$!
    ignored="--ignore $installer"
    for path in $inner; do ignored="$ignored --ignore $path"; done
    $pytest tests/cli tests/host tests/guests $ignored
    failed=$?
}
for lot in "$networks" "$faults" "$attacks" "$guests"; do wait "$lot" || failed=1; done
cat "$said/networks" "$said/rig" "$said/attacks" "$said/guests"
exit "$failed"
