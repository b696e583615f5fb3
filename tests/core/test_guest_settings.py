"""A guest's settings, read from whatever it says, against what is right."""

import subprocess

from hypothesis import given
from hypothesis import strategies as st

from dacha.core.guest_settings import QUESTIONS, RIGHT, UNKNOWN, WRONG, Answers, Setting, judge, read_answers

GOOD = """\
sshd passwordauthentication no
sshd permitrootlogin without-password
family apt
apt APT::Periodic::Unattended-Upgrade "1";
clock 1000000
zone Europe/London
disk 41%
xrdp security_layer=tls
xrdp group=1
xrdp AllowRootLogin=false
listen 0.0.0.0:22
listen [::]:5355
listen 127.0.0.1:631
end
"""


def verdicts(text: str, *, zone: str | None = "Europe/London", updates: bool | None = None) -> dict[str, Setting]:
    told = read_answers(text)
    assert told is not None
    return {s.name: s for s in judge(told, now=1000010.0, zone=zone, updates=updates, ports=frozenset({22}))}


def test_what_is_right_is_called_right() -> None:
    found = verdicts(GOOD)
    assert {s.verdict for s in found.values()} == {RIGHT} and not any(s.remedy for s in found.values())
    assert found["other open ports"].now == "5355"


def test_each_wrong_one_is_named_with_its_remedy() -> None:
    for old, new, name, words in (
        ("passwordauthentication no", "passwordauthentication yes", "SSH with password", "passwordauthentication no"),
        ("without-password", "yes", "SSH as root", "permitrootlogin no"),
        ('"1"', '"0"', "updates by itself", "unattended-upgrades"),
        ("clock 1000000", "clock 996410", "clock", "set-ntp"),
        ("Europe/London", "Etc/UTC", "time zone", "set-timezone Europe/London"),
        ("41%", "99%", "its disk", "df"),
        ("layer=tls", "layer=negotiate", "remote desktop", "security_layer=tls"),
        ("group=1", "group=0", "its certificate", "adduser xrdp ssl-cert"),
        ("Login=false", "Login=true", "remote desktop as root", "AllowRootLogin=false"),
        ("\nend", "\nempty guest\nend", "empty passwords", "passwd --lock guest"),
        ("\nend", "\nrestart\nend", "restart after updates", "reboot"),
    ):
        found = verdicts(GOOD.replace(old, new))
        assert found[name].verdict == WRONG and words in found[name].remedy, name
        assert [s.name for s in found.values() if s.verdict == WRONG] == [name]
    assert verdicts(GOOD.replace('"1"', '"0"'), updates=False)["updates by itself"].verdict == RIGHT
    assert verdicts("end\n")["SSH server"].verdict == UNKNOWN
    for figure in ("inf", "nan", "9" * 400, "²"):
        assert verdicts(GOOD.replace("clock 1000000", f"clock {figure}"))["clock"].verdict == UNKNOWN
    assert "60 min behind" in verdicts(GOOD.replace("clock 1000000", "clock 996410"))["clock"].now


@given(st.text(), st.lists(st.sampled_from(GOOD.splitlines())))
def test_nothing_that_a_guest_says_is_an_error(noise: str, lines: list[str]) -> None:
    told = read_answers("\n".join([noise, *lines, "clock x", "disk ?", "listen", "xrdp", "end"]))
    assert isinstance(told, Answers)
    judge(told, now=0.0, zone=None, updates=None, ports=frozenset())
    assert read_answers(noise.replace("end", "")) is None


def test_the_questions_are_a_shells_and_end() -> None:
    done = subprocess.run(["sh"], input=QUESTIONS, capture_output=True, text=True, check=False)
    told = read_answers(done.stdout)
    assert told is not None and told.one("clock").isdigit() and told.one("family") == "apt", done
