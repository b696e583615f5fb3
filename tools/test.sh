#!/bin/sh
# Runs the style's checks and all tests, in five lots at once, of about the same work: those with hosts of their own in
# network namespaces, the fault rig (its usual faults; make faults tries all) and the attacks, both with some of the first
# kind, and two that share this host's ports, the second of them in a network namespace, so that they do not meet. What
# the others say is shown when all have ended.
set -u
pytest="$1/pytest -p no:cacheprovider"
said=$(mktemp -d)
trap 'rm -rf "$said"' EXIT
networks=tests/networks
# Of the first kind, but in other lots.
with_attacks="$networks/test_outside.py $networks/test_at_boot.py $networks/test_host_firewalls.py"
with_rig="$networks/test_reach.py $networks/test_network_boot.py $networks/test_network_install.py"
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
    $pytest "$installer" tests/faults $with_rig > "$said/rig" 2>&1 &
    rig=$!
    elsewhere=""
    for path in $with_rig $with_attacks; do elsewhere="$elsewhere --ignore $path"; done
    $pytest $networks $elsewhere > "$said/networks" 2>&1 &
    namespaces=$!
    $pytest $with_attacks tests/attacks tests/caretaker tests/formats > "$said/attacks" 2>&1 &
    attacks=$!
    {
        "$1/python" -c 'from dacha.demo.guest_image import guest_image; guest_image()' &&
            unshare -n sh -c 'ip link set lo up && exec "$@"' sh $pytest $inner $alone
    } > "$said/guests" 2>&1 &
    guests=$!
    ignored="--ignore $installer"
    for path in $inner; do ignored="$ignored --ignore $path"; done
    $pytest tests/cli tests/host tests/guests $ignored
    failed=$?
}
for lot in "$lint" "$namespaces" "$rig" "$attacks" "$guests"; do wait "$lot" || failed=1; done
cat "$said/networks" "$said/rig" "$said/attacks" "$said/guests" "$said/lint"
exit "$failed"
