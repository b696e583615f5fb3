"""Every attack that docs/security.md promises to hold against, really tried: from guests, from the LAN, as other users.

Floods last a minute each, and the packet worker is killed a hundred times in a storm; the tests do the same for less
long. Prints attempt, expected and seen; none may get through. Arguments go on to pytest: -k loopback, say.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

from labs import verdict

HERE = Path(__file__).resolve().parent.parent


def main() -> int:
    env = os.environ | {"DACHA_FLOOD_S": "60", "DACHA_KILLS": "100"}
    command = [sys.executable, "-m", "pytest", "-q", "-s", "-p", "no:cacheprovider", "tests/attacks"]
    done = subprocess.run(
        [*command, "tests/caretaker/test_worker.py", *sys.argv[1:]], cwd=HERE, env=env, text=True, capture_output=True
    )
    sys.stdout.write(done.stdout)
    rows = re.findall(r"^\S.{72,} (?:nothing|works) +(.*)$", done.stdout, re.M)
    shut = [r for r in re.findall(r"^(\S.{72,}) nothing +(.*)$", done.stdout, re.M) if r[1] != "nothing"]
    broken = [r for r in re.findall(r"^(\S.{72,}) works +(.*)$", done.stdout, re.M) if r[1] != "works"]
    floods = re.findall(
        r"^(\w+): door ([\d.]+) s quiet, ([\d.]+) s at the worst; DHCP [\d.]+ s quiet, ([\d.]+) s", done.stdout, re.M
    )
    slow = [
        f"{n}: door {float(w) / float(q):.1f} x its quiet time, DHCP {d} s" for n, q, w, d in floods if float(d) > 1.0
    ]
    for name, quiet, worst, dhcp in floods:
        times = float(worst) / float(quiet)
        print(f"{name:<8} door {times:.1f} x its quiet time at the worst, DHCP {dhcp} s at the worst")
    print(f"{len(rows)} attempts, {len(shut)} got through, {len(broken)} of what must work did not")
    gap = re.search(r"longest without an answer ([\d.]+) s, (\d+) workers killed", done.stdout)
    if gap:
        print(f"{gap[2]} workers killed: {gap[1]} s without an answer at the longest")
        slow += [f"{gap[1]} s"] if float(gap[1]) > 1.0 else []
    held = done.returncode == 0 and not shut and not broken and not slow
    return verdict(f"{len(shut)} of {len(rows)} got through", "limit 0, DHCP within 1 s", held)


if __name__ == "__main__":
    sys.exit(main())
