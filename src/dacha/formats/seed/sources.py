"""Further package sources and a proxy, as files of each package manager: deb822 (sources.list(5)), yum.repos.d
(dnf.conf(5)), apt.conf(5)."""

from __future__ import annotations

import base64
from collections.abc import Iterator

from dacha.core.apply.first_boot import SetupFacts, SetupFile, SetupSource

# Where a shell of each login finds the proxy; addresses of the guest itself are never sent to it.
_PROFILE = "/etc/profile.d/lab-proxy.sh"
_DIRECT = "localhost,127.0.0.1,::1"


def source_files(setup: SetupFacts, family: str) -> list[SetupFile]:
    """The files, which must be there before packages are installed; `family` is "apt", "dnf" or "" for another."""
    found = [file for source in setup.get("sources", []) for file in _source(source, family)]
    return [*found, *_proxy(setup["proxy"], family)] if setup.get("proxy") else found


def _source(source: SetupSource, family: str) -> Iterator[SetupFile]:
    name, armored = source["name"], base64.b64decode(source["key"]).startswith(b"-----BEGIN")
    if family == "apt":
        key = f"/etc/apt/keyrings/{name}.{'asc' if armored else 'gpg'}"
        parts = [] if source["suite"].endswith("/") else [f"Components: {' '.join(source['components'])}"]
        lines = ["Types: deb", f"URIs: {source['address']}", f"Suites: {source['suite']}", *parts, f"Signed-By: {key}"]
        place = f"/etc/apt/sources.list.d/{name}.sources"
    elif family == "dnf":
        key = f"/etc/pki/rpm-gpg/RPM-GPG-KEY-{name}"
        lines = [f"[{name}]", f"name={name}", f"baseurl={source['address']}", "enabled=1", "gpgcheck=1",
                 f"gpgkey=file://{key}"]  # fmt: skip
        place = f"/etc/yum.repos.d/{name}.repo"
    else:
        return
    yield {"path": key, "content": source["key"], "mode": "0644", "owner": "root"}
    yield _text(place, "\n".join([*lines, ""]))


def _proxy(proxy: str, family: str) -> Iterator[SetupFile]:
    if family == "apt":
        lines = [f'Acquire::{scheme}::Proxy "{proxy}";' for scheme in ("http", "https")]
        yield _text("/etc/apt/apt.conf.d/95lab-proxy", "\n".join([*lines, ""]))
    names = ("http_proxy", "https_proxy", "HTTP_PROXY", "HTTPS_PROXY")
    words = [f'{name}="{proxy}"' for name in names] + [f'no_proxy="{_DIRECT}"', f'NO_PROXY="{_DIRECT}"']
    yield _text(_PROFILE, "\n".join([*(f"export {word}" for word in words), ""]))


def _text(path: str, text: str) -> SetupFile:
    return {"path": path, "content": base64.b64encode(text.encode()).decode(), "mode": "0644", "owner": "root"}
