#!/bin/sh
# Runs all tests, in three lots at once: those with hosts of their own in network namespaces, the attacks, and those that
# share this host's ports. Much of their time is waiting; what the first two say is shown when all have ended.
set -u
pytest=$1/pytest
said=$(mktemp -d)
trap 'rm -rf "$said"' EXIT
"$pytest" -p no:cacheprovider tests/networks > "$said/networks" 2>&1 &
networks=$!
"$pytest" -p no:cacheprovider tests/attacks tests/caretaker > "$said/attacks" 2>&1 &
attacks=$!
"$pytest" --ignore tests/networks --ignore tests/attacks --ignore tests/caretaker
failed=$?
wait "$networks" || failed=1
wait "$attacks" || failed=1
cat "$said/networks" "$said/attacks"
exit "$failed"
