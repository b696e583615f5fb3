"""The sheet of a handout: one page of HTML that loads nothing, to be read on a screen, on a phone, or printed."""

from __future__ import annotations

from collections.abc import Iterable
from html import escape

from dacha.core.plan.doors import place
from dacha.formats.handout.way_in import Shut, WayIn

_STYLE = """\
body { font: 16px/1.5 system-ui, sans-serif; max-width: 46em; margin: 0 auto; padding: 1.5em 1em; color: #1c2733;
  background: #fff; }
h1 { font-size: 1.6em; margin: 0; } h2 { font-size: 1.2em; margin: 0 0 .4em; } p { margin: .4em 0; }
.lead { color: #44525f; margin-bottom: 1.5em; }
section { border: 1px solid #b9c4ce; border-radius: 6px; padding: 1em; margin: 1em 0; break-inside: avoid; }
code { font: 14px/1.5 ui-monospace, monospace; background: #eef2f5; padding: .1em .3em; border-radius: 3px;
  overflow-wrap: anywhere; }
pre { margin: .4em 0; } pre code { display: block; padding: .5em .7em; white-space: pre-wrap; }
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


def sheet(lab: str, origin: str, ways: Iterable[WayIn], shut: Iterable[Shut]) -> str:
    """The page: for every guest what to type from that place, and what is seen at the first contact."""
    ways, shut = list(ways), list(shut)
    parts = [_HEAD.format(title=escape(f"Getting into the lab {lab}"), style=_STYLE)]
    parts.append(f'<p class="lead">These ways work {escape(_PLACES[origin])}.</p>')
    if any(w.service == "ssh" for w in ways):
        parts.append(
            f"<section><h2>Once, for SSH</h2><p>OpenSSH (Linux, macOS, Windows): copy the folder "
            f"<code>{escape(lab)}</code> of this handout into <code>~/.ssh</code>, and put this first into "
            "<code>~/.ssh/config</code>:</p>"
            f"<pre><code>Include {escape(lab)}/config</code></pre>"
            f"<p>PuTTY: open <code>putty.reg</code> once; the guests are saved sessions then, and trusted.</p>"
            "<p>Your private key stays where it is. It is not in this handout.</p></section>"
        )
    for guest in dict.fromkeys([*(w.guest for w in ways), *(s.guest for s in shut)]):
        parts.append(f"<section><h2>{escape(guest)}</h2><dl>")
        parts += [_way(w) for w in ways if w.guest == guest]
        for s in (s for s in shut if s.guest == guest):
            opens = f" To open it: {escape(s.remedy)}." if s.remedy else ""
            parts.append(f"<dt>{escape(s.door)}</dt><dd>Cannot be entered from there: {escape(s.why)}.{opens}</dd>")
        parts.append("</dl></section>")
    return "\n".join([*parts, "</body></html>", ""])


def _way(w: WayIn) -> str:
    at = place(w.address, w.port)
    if w.service == "ssh":
        user = f"{w.user}@" if w.user else ""
        bare = f"ssh -p {w.port} {user}{w.address}"
        said = f"<pre><code>ssh {escape(w.session)}</code></pre><p>without the folder: <code>{escape(bare)}</code></p>"
        if w.fingerprint:
            said += f"<p>If you are asked whether you trust it, its key is <code>{escape(w.fingerprint)}</code></p>"
        return f"<dt>SSH</dt><dd>{said}</dd>"
    if w.service == "rdp":
        user = f" as <code>{escape(w.user)}</code>" if w.user else ""
        return (
            f"<dt>Remote desktop</dt><dd>Open <code>rdp/{escape(w.guest)}.rdp</code>, or let your client connect to "
            f"<code>{escape(at)}</code>{user}. It has made its certificate itself: your client says so at the first "
            "contact.</dd>"
        )
    scheme = {"vnc": "vnc", "http": "http", "https": "https"}.get(w.service)
    shown = f"{scheme}://{at}" if scheme else at
    link = (
        f'<a href="{escape(shown)}">{escape(shown)}</a>'
        if scheme in ("http", "https")
        else f"<code>{escape(shown)}</code>"
    )
    return f"<dt>{escape(w.door)}</dt><dd>{link}</dd>"
