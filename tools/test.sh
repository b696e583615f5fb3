#!/bin/sh
# Runs the style's checks and all tests, in six lots at once, of about the same work. Four have hosts of their own in
# network namespaces: networks; the fault rig (its usual faults; make faults tries all) and odd hosts; what starts from
# a network, the caretaker, and what serves beside a guest; the attacks, with all that needs nothing of this host. Behind
# two of them come guests with ports of their own. Two lots share this host's ports, the second of them in a network
# namespace, so that they do not meet. What the others say is shown when all have ended.
set -u
pytest="$1/pytest -p no:cacheprovider"
said=$(mktemp -d)
trap 'rm -rf "$said"' EXIT
# named PREFIX NAME...: the paths PREFIX_NAME.py
named() {
    prefix=$1
    shift
    for name in "$@"; do echo "${prefix}_$name.py"; done
}
# beside PATH...: these tests with ports of their own, in a network namespace
beside() {
    # shellcheck disable=SC2086
    unshare -n sh -c 'ip link set lo up && exec "$@"' sh $pytest "$@"
}
rig="tests/faults tests/hosts $(named tests/networks/test reach outside at_boot)"
boots="$(named tests/networks/test network_boot network_install host_firewalls) tests/guests/test_debian_installer.py \
    tests/caretaker tests/attacks/test_beside.py"
attacks="tests/attacks $(named tests/networks/test guide) tests/formats"
alone="tests/inside tests/core tests/wire tests/engine tests/hypervisor tests/test_repository.py tests/test_words.py"
# Guests that need no package from elsewhere, once the demo's is there; some of them behind other lots.
moved="$(named tests/states/test moving schedule compacting)"
secret="$(named tests/states/test encryption appliance archive) \
    $(named tests/guests/test disks handout shares full_storage upgrade machine_type returning)"
inner="tests/states $(named tests/guests/test life kept labs people faults)"
behind=$(for path in $moved $secret; do echo "--ignore $path"; done)
elsewhere=$(for path in $rig $boots $attacks $inner $moved $secret tests/walk tests/log; do echo "--ignore $path"; done)
# shellcheck disable=SC2086  # a word each, here and below
{
    make --no-print-directory lint > "$said/lint" 2>&1 &
    lots=$!
    $pytest tests/networks $elsewhere > "$said/networks" 2>&1 &
    lots="$lots $!"
    {
        $pytest $rig
        rigged=$?
        beside tests/walk $moved && exit "$rigged"
    } > "$said/rig" 2>&1 &
    lots="$lots $!"
    {
        $pytest $boots
        booted=$?
        beside tests/log $secret && exit "$booted"
    } > "$said/boots" 2>&1 &
    lots="$lots $!"
    $pytest $attacks $alone --ignore tests/attacks/test_beside.py > "$said/attacks" 2>&1 &
    lots="$lots $!"
    {
        "$1/python" -c 'from dacha.demo.guest_image import guest_image; guest_image()' && beside $inner $behind
    } > "$said/guests" 2>&1 &
    lots="$lots $!"
    $pytest tests/cli tests/host tests/guests tests/journeys $elsewhere
    failed=$?
}
for lot in $lots; do wait "$lot" || failed=1; done
cat "$said/networks" "$said/rig" "$said/boots" "$said/attacks" "$said/guests" "$said/lint"
exit "$failed"
