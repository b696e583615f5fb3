"""A guest whose agent lies: each command that listens to it ends in words, with nothing that a terminal obeys."""

from __future__ import annotations

import json
import os
import random
import re
import tarfile
import textwrap
from base64 import b64encode
from io import BytesIO

from tests.attacks.field import MOST_MIB, Field, memory_of
from tests.attacks.report import Report

# bench/hostile.py takes more.
LIES = int(os.environ.get("DACHA_LIES", "1"))
# Answers each command with the next of the lies, and each synchronisation as an agent does.
LIAR = textwrap.dedent("""\
    exec 3<>$(ls /dev/vport*p1); n=0; touch /tmp/lying
    # While nobody is connected on the other side there is nothing to read, and an end.
    while :; do while read -r line <&3; do
      case $line in
        *sync-delimited*) id=${line##*: }; printf '\\377{"return": %s}\\n' ${id%%\\}*} >&3; continue ;;
        *exec-status*) what=status ;;
        *guest-exec*) what=exec ;;
        *) what=ping ;;
      esac
      [ -e /home/ops/lies/$what ] || { n=$(( n % $(ls /home/ops/lies | wc -l) + 1 )); what=$n; }
      cat /home/ops/lies/$what >&3
    done; usleep 50000; done
""")
ESCAPES = "\x1b[2J\x9b31m\x07\r\n\u202e\ud800\0"


def link(address: object, prefix: object = 24, name: object = "eth0", hardware: object = "52:54:00:00:00:01") -> object:
    row = {"ip-address": address, "prefix": prefix, "ip-address-type": "ipv4"}
    return [{"name": name, "hardware-address": hardware, "ip-addresses": [row]}]


def ended(out: bytes, code: object = 0, err: bytes = b"") -> dict[str, object]:
    return {"exited": True, "exitcode": code, "out-data": b64encode(out).decode(), "err-data": b64encode(err).decode()}


def lies() -> list[bytes]:
    """What an agent never says: wrong shapes, numbers without end, deep trees, signs for a terminal."""
    told: list[object] = [
        link(ESCAPES), link("10.77.4.1"), link("127.0.0.1", 8), link("10.77.4.20", -1), link("10.77.4.66", 10**9),
        link({"a": []}), link("fe80::1%eth0", 64), link("10.77.4.66", name=[ESCAPES], hardware=ESCAPES),
        link("10.77.4.66" * 5000), [link("10.77.4.66")] * 50, {"pid": 1}, {"pid": True}, {"pid": 10**40}, {"pid": -1},
        ended(ESCAPES.encode("utf-8", "surrogatepass") * 200, 10**30), ended(b"", -(10**9)), ended(b"", True),
        ended(b"listen LISTEN 0 128 0:22 x\ntold listeners\n\xff\xfe", 0, ESCAPES.encode("utf-8", "surrogatepass")),
        ended(b"account ops done\nkeys \x1b[2J 1\nend of keys\n"), ended(b"strange ops \x1b[2J\nend\n"),
        {"exited": True, "out-data": "%%%", "exitcode": 0}, {"exited": True, "out-data": [1]}, {"exited": "yes"},
        None, True, "", [], {}, 0, 1e308, ESCAPES, ["x" * 100000],
    ]  # fmt: skip
    found = [json.dumps({"return": lie}).encode() for lie in told]
    found += [
        b'{"return": ' + b"[" * 20000 + b"]" * 20000 + b"}", b'{"return": ' + b"9" * 6000 + b"}", b'{"return": NaN}',
        b'{"error": {"class": "\x1b[2J", "desc": "\x9b"}}', b"\xff\xff\xff", b"", b"{" * 100, b"\0" * 5000,
        b'{"return": {"pid": 1}}\n' + b'{"return": {"exited": false}}',
    ]  # fmt: skip
    return [lie + b"\n" for lie in found]


BY_AGENT = ("connect", "squall", "--by", "agent", "--", "id")
# What listens to an agent, and the exit codes that it may answer with (its own command's, for connect).
COMMANDS = (
    (("trace", "squall", "ssh"), (0, 1)), (("trace", "squall", "ssh", "--json"), (0, 1)), (("status",), (0, 1)),
    (("guest", "check", "squall"), (0, 1)), (("guest", "show", "squall"), (0, 1)),
    (("guest", "show", "squall", "--json"), (0, 1)), (BY_AGENT, range(256)),
)  # fmt: skip
OBEYED = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069]")


def answers(field: Field, told: dict[str, bytes]) -> None:
    """From now on the guest's agent says these: to a ping, a command and its status, or one after another."""
    packed = BytesIO()
    with tarfile.open(fileobj=packed, mode="w") as tar:
        for name, lie in told.items():
            entry = tarfile.TarInfo(f"lies/{name}")
            entry.size = len(lie)
            tar.addfile(entry, BytesIO(lie))
    field.put("squall", "lies.tar", packed.getvalue())
    stop = "[ ! -e /tmp/liar ] || kill $(cat /tmp/liar); rm -f /tmp/lying"
    # It has the channel open before anybody asks.
    wait = "until [ -e /tmp/lying ]; do usleep 20000; done"
    start = f"(sh /home/ops/liar > /dev/null 2>&1 & echo $! > /tmp/liar); {wait}"
    field.on_console("squall", f"{stop}; cd /home/ops; rm -rf lies; tar xf lies.tar; {start}")


def test_an_agent_that_lies_confuses_no_command(field: Field) -> None:
    report, dice, said = Report(), random.Random("agent"), ""
    field.put("squall", "liar", LIAR.encode())
    true = {"ping": {}, "exec": {"pid": 1}, "status": ended(b"as asked\n", 7)}
    answers(field, {name: json.dumps({"return": told}).encode() + b"\n" for name, told in true.items()})
    done = field.lab(*BY_AGENT, code=7)
    report.open("an agent that tells the truth is heard", done.out == "as asked\n")
    for turn in range(LIES):
        order = lies()
        dice.shuffle(order)
        answers(field, {str(n): lie for n, lie in enumerate(order, 1)})
        for words, codes in COMMANDS if LIES > 1 else COMMANDS[::3]:
            done = field.lab(*words, code=None, timeout=180)
            assert "internal error" not in done.err and done.code in codes, (turn, words, done.code, done.err)
            if words[0] != "connect":  # its output is the command's own, as it is
                said += done.out + done.err
    field.on_console("squall", "kill $(cat /tmp/liar)")
    report.shut("an agent that lies: signs that a terminal obeys", OBEYED.findall(said))
    most = max(memory_of().values())
    report.shut("memory of a process", f"{most:.0f} MiB" if most > MOST_MIB else "")
    report.judge()
