#!/bin/sh
# Runs the whole suite again and again beside a load on every processor, and lists what failed in any run: a test that
# fails only then is a defect, of the test or of the program. Usage: tools/beside_load.sh [RUNS] (10)
set -u
runs=${1:-10}
bin=$(dirname "$0")/../.venv/bin
[ -x "$bin/pytest" ] || { echo "first: make setup" >&2; exit 2; }
kept=$(mktemp -d)
busy=
for _ in $(seq "$(nproc)"); do
    sh -c 'while :; do :; done' &
    busy="$busy $!"
done
# shellcheck disable=SC2086  # one word a process
trap 'kill $busy 2> /dev/null' EXIT
trap 'exit 130' INT TERM
failed=0
for run in $(seq "$runs"); do
    began=$(date +%s)
    if "$(dirname "$0")/test.sh" "$bin" > "$kept/$run" 2>&1; then
        word=passed
    else
        word=FAILED failed=$((failed + 1))
    fi
    echo "run $run: $word in $(($(date +%s) - began)) s"
    grep -h '^FAILED\|^ERROR' "$kept/$run"
done
echo "$failed of $runs runs failed; what each said is in $kept"
grep -h '^FAILED\|^ERROR' "$kept"/* | sort | uniq -c | sort -rn
[ "$failed" -eq 0 ]
