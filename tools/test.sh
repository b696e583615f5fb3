#!/bin/sh
# Runs all tests, in four lots at once: those with hosts of their own in network namespaces, the fault rig, the attacks (with
# some of the first kind and those that need nothing, so that all end together), and those that share this host's ports. Much of their time is waiting;
# what the first three say is shown when all have ended.
set -u
pytest=$1/pytest
said=$(mktemp -d)
trap 'rm -rf "$said"' EXIT
outside=tests/networks/test_outside.py
at_boot=tests/networks/test_at_boot.py
rig=tests/networks/test_trace.py
# Mostly waiting for a slow guest: beside the shortest lot.
installer=tests/guests/test_debian_installer.py
"$pytest" -p no:cacheprovider tests/networks --ignore "$outside" --ignore "$at_boot" --ignore "$rig" "$installer" > "$said/networks" 2>&1 &
networks=$!
"$pytest" -p no:cacheprovider "$rig" > "$said/rig" 2>&1 &
faults=$!
# Those that need nothing of this host go with whom there is room.
alone="tests/core tests/wire tests/formats tests/engine tests/hypervisor tests/test_repository.py"
# shellcheck disable=SC2086  # a word each
"$pytest" -p no:cacheprovider tests/attacks tests/caretaker "$outside" "$at_boot" $alone > "$said/attacks" 2>&1 &
attacks=$!
"$pytest" tests/cli tests/host tests/guests --ignore "$installer"
failed=$?
wait "$networks" || failed=1
wait "$faults" || failed=1
wait "$attacks" || failed=1
cat "$said/networks" "$said/rig" "$said/attacks"
exit "$failed"
