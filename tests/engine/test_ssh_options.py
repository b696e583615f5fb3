"""Paths with every odd sign, as ssh's own parser of options reads them."""

from __future__ import annotations

import subprocess

import pytest

from dacha.engine.inside.identities import literal
from dacha.engine.inside.ssh import _quoted

PATHS = ["/a/known", "/a b/known", "/50%/known", "/%h/x", '/say "hi"/x', "/it's/x", "/back\\slash/x"]


@pytest.mark.parametrize("path", PATHS)
def test_a_path_is_the_one_that_ssh_opens(path: str) -> None:
    argv = ["ssh", "-G", "-F", "none", "-o", f"UserKnownHostsFile={_quoted(literal(path))}", "host.example"]
    said = subprocess.run(argv, capture_output=True, text=True, check=True).stdout
    read = next(line for line in said.splitlines() if line.startswith("userknownhostsfile "))
    # It is shown as it was given, before what its tokens stand for is put in.
    assert read.removeprefix("userknownhostsfile ").replace("%%", "%") == path
