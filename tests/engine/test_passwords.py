"""Passwords are kept as hashes, for the first boot, and stand in no other file."""

from __future__ import annotations

from pathlib import Path

import pytest
import yaml

from dacha.core.errors import UsageError
from dacha.engine.guest import passwords, prepare
from dacha.engine.guest.first_boot import first_boot_facts
from dacha.engine.inside.password import set_now
from dacha.engine.workspace import Workspace, load
from dacha.formats.seed.documents import documents
from dacha.formats.sha512_crypt import sha512_crypt

TEXT = """\
[lab]
name = "lab"
[network.pier]
kind = "nat"
subnet = "10.77.4.0/24"
[guest.charts]
memory = "1 GiB"
adapter = [{ network = "pier", address = "10.77.4.20" }]
login = { user = "ops", keys = [] }
setup = { user = [{ name = "mara" }] }
door.rdp = { from = "host", port = 3390 }
"""


@pytest.fixture
def ws(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Workspace:
    for name in ("STATE", "RUN", "SHARED"):
        monkeypatch.setenv(f"DACHA_{name}", str(tmp_path / name.lower()))
    tmp_path.chmod(0o700)
    file = tmp_path / "lab.toml"
    file.write_text(TEXT)
    return load(str(file))


def test_a_password_is_kept_as_a_hash_and_told_at_the_first_boot(ws: Workspace, tmp_path: Path) -> None:
    guest = ws.lab.guests["charts"]
    assert passwords.user_of(guest, None) == "ops" and passwords.user_of(guest, "mara") == "mara"
    hashed = passwords.keep(ws, "charts", "mara", "low tide at nine")
    assert hashed == sha512_crypt(b"low tide at nine", hashed.split("$")[2])
    assert passwords.hashes(ws.home, "charts") == {"mara": hashed}
    assert ws.home.passwords("charts").stat().st_mode & 0o777 == 0o600
    facts = first_boot_facts(ws, ws.plan, guest)
    told = documents(facts, instance="i", host_key_private="p", passwords=passwords.hashes(ws.home, "charts"))
    users = {u["name"]: u for u in yaml.safe_load(told["user-data"])["users"]}
    assert users["mara"]["passwd"] == hashed and users["mara"]["lock_passwd"] is False
    assert users["ops"]["lock_passwd"] is True and "passwd" not in users["ops"]
    # Another password is no other first boot: a guest that is installed takes nothing up again because of it.
    record = ws.home.read("charts")
    assert prepare.instance_of(facts, record) == prepare.instance_of(first_boot_facts(ws, ws.plan, guest), record)
    for file in tmp_path.rglob("*"):
        assert not file.is_file() or b"low tide" not in file.read_bytes()
    assert set_now(ws, "charts", "mara", hashed) is None, "it is off"


def test_what_is_no_password_is_refused_and_one_that_is_made_is_typed_easily(ws: Workspace) -> None:
    for wrong in ("", "two\nlines", "nul\0"):
        with pytest.raises(UsageError, match="one line, and not empty"):
            passwords.keep(ws, "charts", "mara", wrong)
    with pytest.raises(UsageError):
        passwords.keep(ws, "chart", "mara", "x")
    with pytest.raises(UsageError, match="user name"):
        passwords.user_of(ws.lab.guests["charts"], "Mara B")
    one = passwords.made()
    assert len(one) == passwords.MADE and one != passwords.made() and not set(one) & set("lIO01i")
