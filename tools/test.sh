#!/bin/sh
# Runs all tests, in two lots at once: those with hosts of their own in network namespaces, beside those that share this
# host's ports. The first lot's words are shown when both have ended.
set -u
pytest=$1/pytest
said=$(mktemp)
trap 'rm -f "$said"' EXIT
"$pytest" -p no:cacheprovider tests/networks tests/caretaker > "$said" 2>&1 &
worlds=$!
"$pytest" --ignore tests/networks --ignore tests/caretaker
here=$?
wait "$worlds"
there=$?
cat "$said"
[ "$here" -eq 0 ] && [ "$there" -eq 0 ]
