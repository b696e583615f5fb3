"""The sheet of a handout: one self-contained HTML page, for a screen, a phone, or a printer."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from html import escape

from dacha.core.plan.doors import endpoint
from dacha.formats.handout.qr import qr_svg
from dacha.formats.handout.way_in import Shut, WayIn

_STYLE = """\
body { font: 16px/1.5 system-ui, sans-serif; max-width: 46em; margin: 0 auto; padding: 1.5em 1em; color: #1c2733;
  background: #fff; }
h1 { font-size: 1.6em; margin: 0; } h2 { font-size: 1.3em; margin: 1em 0 .4em; }
h3 { font-size: 1.2em; margin: 0 0 .4em; } p { margin: .4em 0; }
.lead { color: #44525f; margin-bottom: 1.5em; }
section { border: 1px solid #b9c4ce; border-radius: 6px; padding: 1em; margin: 1em 0; break-inside: avoid; }
code { font: 14px/1.5 ui-monospace, monospace; background: #eef2f5; padding: .1em .3em; border-radius: 3px;
  overflow-wrap: anywhere; }
pre { margin: .4em 0; } pre code { display: block; padding: .5em .7em; white-space: pre-wrap; }
figure { margin: .6em 0; display: flex; align-items: center; gap: 1em; } figure svg { flex: none; }
figcaption { font-size: .9em; overflow-wrap: anywhere; }
dt { font-weight: 600; margin-top: .6em; } dd { margin: 0; }
"""
_PLACES = {"host": "on the machine that runs the lab", "lan": "from the same local network", "outside": "from outside"}
_HEAD = """\
<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{title}</title>
<style>
{style}</style></head><body>
<h1>{title}</h1>
"""


def sheet(lab: str, origin: str, ways: Iterable[WayIn], shut: Iterable[Shut], key: str = "", person: str = "") -> str:
    """The page: for every guest, what to type from that place, and what appears at the first connection; `key` is the
    name of the enclosed private key, `person` its owner."""
    ways, shut = list(ways), list(shut)
    parts = [_HEAD.format(title=escape(f"Connecting to the lab {lab}"), style=_STYLE)]
    whose = f"For {escape(person)}. " if person else ""
    parts.append(f'<p class="lead">{whose}These connections work {escape(_PLACES[origin])}.</p>')
    if any(w.service == "ssh" for w in ways):
        parts.append(
            f"<section><h3>Set up SSH once</h3><p>OpenSSH (Linux, macOS, Windows): copy the folder "
            f"<code>{escape(lab)}</code> of this handout into <code>~/.ssh</code>, and add this line at the top of "
            "<code>~/.ssh/config</code>:</p>"
            f"<pre><code>Include {escape(lab)}/config</code></pre>"
            f"<p>PuTTY: open <code>putty.reg</code> once: it adds a saved session and the host key of each guest.</p>"
            f"{_key_words(lab, key)}</section>"
        )
    for group, guests in _grouped(ways, shut).items():
        parts += [f"<h2>{escape(group)}</h2>"] if group else []
        for guest in guests:
            parts += [f"<section><h3>{escape(guest)}</h3><dl>", *(_way(w) for w in ways if w.guest == guest)]
            parts += [_closed(s) for s in shut if s.guest == guest]
            parts.append("</dl></section>")
    return "\n".join([*parts, "</body></html>", ""])


def _grouped(ways: Sequence[WayIn], shut: Sequence[Shut]) -> dict[str, list[str]]:
    """Guests by the group that a client shows them in, those without one first."""
    found: dict[str, list[str]] = {"": []}
    for guest in dict.fromkeys([*(w.guest for w in ways), *(s.guest for s in shut)]):
        group = next((w.client.group for w in ways if w.guest == guest and w.client.group), "")
        found.setdefault(group, []).append(guest)
    return found


def _closed(s: Shut) -> str:
    opens = f" To open it: {escape(s.remedy)}." if s.remedy else ""
    return f"<dt>{escape(s.door)}</dt><dd>Not reachable from there: {escape(s.why)}.{opens}</dd>"


def _key_words(lab: str, key: str) -> str:
    if not key:
        return "<p>Your private key is not in this handout: use the one that you have.</p>"
    return (
        f"<p><strong>A new private key for you is in this handout</strong>: <code>{escape(lab)}/{escape(key)}</code> "
        f"(for PuTTY <code>{escape(key)}.ppk</code>). Whoever has it can log in as you: keep it secret, and delete "
        "the message or file that it came in. OpenSSH requires that only you can read it: <code>chmod 600 "
        f"~/.ssh/{escape(lab)}/{escape(key)}</code></p>"
    )


def _phone(w: WayIn, link: str) -> str:
    """A code for a phone's camera, if it can be drawn and a phone can connect from there."""
    drawn = "" if w.address.startswith("127.") or w.address == "::1" else qr_svg(link)
    said = f"On a phone: <code>{escape(link)}</code>"
    return f"<figure>{drawn}<figcaption>{said}</figcaption></figure>" if drawn else ""


def _way(w: WayIn) -> str:
    at = str(endpoint(w.address, w.port))
    if w.service == "ssh":
        user = f"{w.user}@" if w.user else ""
        bare = f"ssh -p {w.port} {user}{w.address}"
        said = f"<pre><code>ssh {escape(w.session)}</code></pre><p>without the folder: <code>{escape(bare)}</code></p>"
        if w.fingerprint:
            said += f"<p>If you are asked to confirm its host key, it is <code>{escape(w.fingerprint)}</code></p>"
        said += _phone(w, f"ssh://{user}{at}")
        return f"<dt>SSH</dt><dd>{said}</dd>"
    if w.service == "rdp":
        user = f" as <code>{escape(w.account)}</code>" if w.user else ""
        file = escape(w.file_name)
        return (
            f"<dt>Remote desktop</dt><dd>Open <code>rdp/{file}.rdp</code> (on Linux import "
            f"<code>linux/{file}-rdp.remmina</code>), or connect your client to <code>{escape(at)}</code>{user}. "
            "Its certificate is self-signed: your client warns at the first connection."
            f"{_phone(w, _rdp_link(w))}</dd>"
        )
    scheme = {"vnc": "vnc", "http": "http", "https": "https"}.get(w.service)
    shown = f"{scheme}://{at}" if scheme else at
    link = (
        f'<a href="{escape(shown)}">{escape(shown)}</a>'
        if scheme in ("http", "https")
        else f"<code>{escape(shown)}</code>"
    )
    return f"<dt>{escape(w.door)}</dt><dd>{link}{_phone(w, shown) if scheme else ''}</dd>"


def _rdp_link(w: WayIn) -> str:
    """The link format of remote desktop clients on phones: settings as in an .rdp file."""
    user = f"&username=s:{w.account.replace(chr(92), '%5C')}" if w.user else ""
    return f"rdp://full%20address=s:{endpoint(w.address, w.port)}{user}"
