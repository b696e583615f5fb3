"""The verdict of a login: what its client proves, what the guest reports, and the causes that remain."""

from __future__ import annotations

from typing import Any

import pytest

from dacha.core.trace.hop import BROKEN, FINE, UNTESTED, Hop
from dacha.core.trace.judge import broken, judge
from dacha.core.trace.login import login
from dacha.core.trace.seen.client import IN_WORD, read_client
from dacha.core.trace.seen.inside import Inside
from dacha.core.trace.seen.results import IN, OPEN, PUT_OUT, ConnectResult, LoginSeen
from tests.core.evidence import but
from tests.core.test_inside import told
from tests.core.test_trace import KERNEL

KEYED = "debug1: Server host key: ssh-ed25519 SHA256:x"
OFFERED = f"{KEYED}\ndebug1: Authentications that can continue: publickey"
ACCEPTED = f"{OFFERED}\ndebug1: Server accepts key: id ED25519 SHA256:y explicit"
CUT = f"{KEYED}\nConnection closed by 192.0.2.1 port 22"
ENTERED = f'{ACCEPTED}\nAuthenticated to 192.0.2.1 ([192.0.2.1]:22) using "publickey".'


def tried(code: int, said: str, inside: Inside | None = None, user: str = "ops") -> Hop:
    seen = read_client(user, ("id",), code, said)
    seen = seen._replace(tails=("5qIWlstb/hYGxMpIl9ik6G06",), types=("ssh-ed25519",))
    found = login(but(KERNEL, login=seen, inside=inside, now=1795728659.0))
    assert found is not None
    return found


@pytest.mark.parametrize(
    ("code", "said", "inside", "verdict", "words"),
    [
        (0, "", None, FINE, "ops can log in, with id"),
        (255, "ops@192.0.2.1: Permission denied (publickey).", None, BROKEN, "one of: the key is not in the key file"),
        (255, f"{OFFERED}\nops@192.0.2.1: Permission denied (publickey).", None, BROKEN, "there is no user ops"),
        (255, "ops@192.0.2.1: Permission denied ().", None, BROKEN, "accepts no keys, nor any other method"),
        (255, f"{ACCEPTED}\nConnection closed by 192.0.2.1 port 22", None, BROKEN, "one of: only root can log in"),
        (255, f"{ACCEPTED}\nConnection closed by 192.0.2.1 port 22", {"closed": "tide"}, BROKEN, "at the moment: tide"),
        (
            255,
            f"{ACCEPTED}\nidentity_sign: private key id contents do not match public\nPermission denied (publickey).",
            {"closed": "tide"},
            BROKEN,
            "does not match the public key beside it",
        ),
        (255, f"{ENTERED}\nConnection closed by 192.0.2.1 port 22", None, BROKEN, "one of: the shell of ops ends"),
        (
            255,
            f"{ENTERED}\nConnection closed by 192.0.2.1 port 22",
            {"disk": "100%"},
            BROKEN,
            "one of: its disk is full (100 %); the shell",
        ),
        (255, CUT, None, BROKEN, "before authentication"),
        (
            255,
            "debug1: Authentications that can continue: password\nPermission denied (password).",
            None,
            BROKEN,
            "accepts no keys, only password",
        ),
        (255, "Permission denied", {"key-lines": "-"}, BROKEN, "no key file"),
        (255, "Permission denied", {"mode": "666 ops /h/.ssh/authorized_keys"}, BROKEN, "other users can write"),
        (255, "Permission denied", {"mode": "600 mara /h/.ssh/authorized_keys"}, BROKEN, "belongs to mara"),
        (255, "Permission denied", {"shell": "-"}, BROKEN, "there is no ops"),
        (255, "Permission denied", {"disk": "100%"}, BROKEN, "one of: the key is not in the key file"),
        (255, "Permission denied", {"mode": "777 ops /home/ops"}, BROKEN, "/home/ops does not belong to ops alone"),
        (255, "Permission denied", {"key-lines": "-", "notfile": "/h/.ssh/authorized_keys"}, BROKEN, "is not a file"),
        (255, "Permission denied", {"mode": "000 ops /home/ops/.ssh"}, BROKEN, "/home/ops/.ssh cannot be read by ops"),
        (255, "Permission denied", {"mode": "700 root /home/ops/.ssh"}, BROKEN, "/home/ops/.ssh cannot be read"),
        (255, "Permission denied", {"mode": "710 root /home/ops/.ssh"}, BROKEN, "one of: "),
        (255, "Permission denied", {"tail": "another"}, BROKEN, "has 1 key, but not this one"),
        (255, "Permission denied", {"set": "allowusers kim"}, BROKEN, "allows only kim"),
        (255, "Permission denied", {"set": "denyusers ops"}, BROKEN, "DenyUsers"),
        (255, "Permission denied", {"set": "pubkeyauthentication no"}, BROKEN, "does not accept keys"),
        (
            255,
            "Permission denied",
            {"set": "authorizedkeysfile /etc/keys/%u"},
            BROKEN,
            "from another file: /etc/keys/%u",
        ),
        (
            255,
            CUT,
            {"log": "Access denied by PAM"},
            BROKEN,
            "Access denied by PAM",
        ),
        (255, "Password change required but no TTY", {"must": ""}, BROKEN, "must be changed"),
        (
            255,
            CUT,
            {"shadow": "*x 22000", "clock": "2000000000"},
            BROKEN,
            "ahead",
        ),
        (255, CUT, {"shadow": "*x 20000"}, BROKEN, "has expired"),
        (
            255,
            CUT,
            {"closed": "high tide"},
            BROKEN,
            "at the moment: high tide",
        ),
        (255, "Received disconnect: Too many authentication failures", None, BROKEN, "offered more keys"),
        (1, "This account is currently not available.", None, BROKEN, "refuses every login"),
        (1, "", None, BROKEN, "the shell of ops ends at once"),
        (255, "Connection timed out during banner exchange", None, UNTESTED, "timed out"),
    ],
)
def test_the_login_is_judged(code: int, said: str, inside: Any, verdict: str, words: str) -> None:
    hop = tried(code, said, told(**inside) if inside else None)
    assert hop.verdict == verdict and words in f"{hop.seen} {hop.means}"
    assert (verdict != BROKEN) or hop.remedy


def test_root_may_be_refused_and_without_a_private_key_nothing_is_tried() -> None:
    assert "PermitRootLogin" in tried(255, "Permission denied", user="root").means
    refused = tried(255, "Permission denied", told(set="permitrootlogin no", closed="tide"), user="root")
    assert refused.means == "its server does not let root log in (PermitRootLogin no)"
    hop = login(but(KERNEL, login=LoginSeen("ops")))
    assert hop and hop.verdict == UNTESTED and "private key" in hop.seen


def test_a_kernel_that_gave_up_after_its_greeting_is_named() -> None:
    gone = but(KERNEL, panic="Kernel panic - not syncing", login=LoginSeen("ops", ("id",), "no answer"))
    stop = broken(judge(gone))
    assert stop and stop.name == "boot" and broken(judge(but(gone, login=LoginSeen("ops", ("id",), "in")))) is None


@pytest.mark.parametrize(
    ("code", "said", "words"),
    [
        (255, '{A}\nAuthenticated using "publickey" with partial success.', "requires another method"),
        (255, "Unable to negotiate with 192.0.2.1 port 22: no matching cipher found.", "no algorithm in common"),
        (255, "{E}\nThere were too many logins for 'ops'.", "limit of logins"),
        (255, "{E}\nchannel 0: open failed: administratively prohibited: open failed", "allows no sessions"),
        (0, "{E}\nonly tides", "another command"),
    ],
)  # fmt: skip
def test_what_the_client_proves_is_said_whatever_the_log_has(code: int, said: str, words: str) -> None:
    text = said.replace("{A}", ACCEPTED).replace("{E}", ENTERED)
    seen = read_client("ops", ("id",), code, text, word=True)
    found = login(but(KERNEL, login=seen, inside=told(log="Invalid user admin from 192.0.2.9"), now=1795728659.0))
    assert found and found.verdict == BROKEN and words in found.means and "admin" not in found.means


def test_a_command_that_ran_proves_the_login() -> None:
    assert read_client("ops", ("id",), 0, f"{ENTERED}\n{IN_WORD}\nssh-ed25519 AAAA", word=True).result == IN
    assert read_client("ops", ("id",), 0, ENTERED).result == IN
    # Behind a text of the startup files that has no line end; and the client's own debug output is no proof.
    assert read_client("ops", ("id",), 0, f"{ENTERED}\nlow tide{IN_WORD}", word=True).result == IN
    sent = f"debug1: Sending command: echo {IN_WORD}; cat .ssh/authorized_keys; exit 0"
    assert read_client("ops", ("id",), 0, f"{ENTERED}\n{sent}", word=True).result == PUT_OUT


@pytest.mark.parametrize(
    ("changed", "words", "proved"),
    [
        ({"set": "allowgroups tide pier*", "groups": "ops sudo"}, "allows only the groups tide, pier*", True),
        ({"set": "allowgroups tide pier*", "groups": "ops pier-crew"}, "", True),
        ({"set": "denygroups sudo", "groups": "ops sudo"}, "denies the group sudo", True),
        ({"set": "authenticationmethods password", "groups": "ops"}, "requires more than a key: password", True),
        ({"set": "authenticationmethods any", "groups": "ops"}, "", True),
        ({"algorithm": "rsa-sha2-512"}, "no keys of the type ssh-ed25519", True),
        ({"algorithm": "ssh-ed25519"}, "", True),
        ({"limits": '5qIWlstb/hYGxMpIl9ik6G06 from="192.0.2.99"'}, "limits this key: from=", False),
        ({"limits": '5qIWlstb/hYGxMpIl9ik6G06 no-pty,permitopen="x:1"'}, "", True),
    ],
)
def test_groups_methods_and_options_of_a_key(changed: dict[str, str], words: str, proved: bool) -> None:
    hop = tried(255, "ops@192.0.2.1: Permission denied (publickey).", told(**changed))
    assert words in hop.means
    assert ("one of:" in hop.means) == (not words or not proved), hop


@pytest.mark.parametrize(
    ("first_boot", "remedy"), [(True, "first-boot gauge --again"), (False, "dacha guest adopt gauge")]
)
def test_a_key_that_was_not_added_yet_is_added_by_apply(first_boot: bool, remedy: str) -> None:
    seen = read_client("ops", ("id",), 255, f"{OFFERED}\nops@192.0.2.1: Permission denied (publickey).")
    e = but(KERNEL, login=seen._replace(not_added=True))
    hop = login(e._replace(lab=e.lab._replace(first_boot=first_boot)))
    assert hop and "was not added to gauge yet" in hop.means
    assert hop.remedy.startswith("dacha apply\n") and remedy in hop.remedy
    # What the guest itself reports is more certain.
    hop = login(e._replace(inside=told(shell="-")))
    assert hop and "there is no ops" in hop.means


RDP = but(KERNEL, service="rdp", port=3389, door="rdp", direct=ConnectResult(OPEN, True, "RDP, TLS"))


@pytest.mark.parametrize(
    ("seen", "inside", "verdict", "words", "remedy"),
    [
        (LoginSeen("kim", (), "in"), None, FINE, "kim can log in with this password", ""),
        (LoginSeen("kim", (), "refused"), None, BROKEN, "password is wrong", "dacha guest password gauge kim"),
        (LoginSeen("kim", (), "refused", "c000006d"), None, BROKEN, "error C000006D", "dacha guest password gauge kim"),
        (LoginSeen("kim", (), "refused", "c0000072"), None, BROKEN, "disabled", "net user kim /active:yes"),
        (LoginSeen("kim", (), "refused", "c0000001"), None, BROKEN, "error C0000001", "dacha guest password gauge kim"),
        (LoginSeen("kim", (), "refused"), {"shell": "-"}, BROKEN, "there is no kim", "name kim in the setup"),
        (LoginSeen("kim", (), "not asked", "", "it asks later"), None, UNTESTED, "it asks later", ""),
        (LoginSeen("kim", (), "no answer", "", "timed out"), None, UNTESTED, "timed out", ""),
        (LoginSeen("kim", (), "in"), {"shadow": "*x 20000"}, BROKEN, "has expired", "chage --expiredate"),
        (LoginSeen("kim", (), "in"), {"screen": "kim"}, "warning", "on the guest's local screen", "dacha screen gauge"),
        (LoginSeen("kim", (), "in"), {"screen": "mara"}, FINE, "kim can log in", ""),
    ],
)
def test_a_password_is_judged(seen: LoginSeen, inside: Any, verdict: str, words: str, remedy: str) -> None:
    hop = login(but(RDP, login=seen, inside=told(**inside) if inside else None, now=1795728659.0))
    assert hop and hop.verdict == verdict and words in f"{hop.seen} {hop.means}" and remedy in hop.remedy
