"""The stand-in host's pages for people."""

from __future__ import annotations

from html import escape

from myriant.standins.host import Change, Host, Repository

_STYLE = """
body { font: 15px/1.5 ui-sans-serif, sans-serif; max-width: 62rem; margin: 2rem auto; padding: 0 1rem;
       color: #22302b; background: #f4f1ea }
a { color: #35507a }
h1 { font-size: 1.3rem }
li { margin: .35rem 0 }
code { font-size: .9em }
.no { color: #9a3a1f }
.yes { color: #1d6b57 }
pre { background: #fff; border: 1px solid #d8d2c4; padding: .8rem; white-space: pre-wrap }
button { font: inherit; padding: .25rem .9rem }
"""


def whole(title: str, *parts: str) -> str:
    head = f'<meta charset="utf-8"><title>{escape(title)}</title><style>{_STYLE}</style>'
    body = f"<h1>{escape(title)}</h1>{''.join(parts)}"
    return f'<!doctype html><html lang="en"><head>{head}</head><body><main>{body}</main></body></html>'


def front(host: Host) -> str:
    rows = "".join(
        f'<li><a href="/{r.name}">{r.name}</a>{f", a fork of {r.fork_of}" if r.fork_of else ""}: '
        f"{sum(c.state == 'open' for c in r.changes.values())} open</li>"
        for r in host.repositories.values()
    )
    return whole("The harbour", "<p>A made-up host of code, for trying things out.</p>", f"<ul>{rows}</ul>")


def repository(host: Host, row: Repository) -> str:
    rows = "".join(
        f'<li><a href="/{row.name}/changes/{c.number}">{c.number} {escape(c.title)}</a>, {escape(c.author)}: {c.state}'
        f"{'' if c.state != 'open' else '<br>' + _may(host.in_the_way(row.name, c.number))}</li>"
        for c in sorted(row.changes.values(), key=lambda c: -c.number)
    )
    clone = f"<p><code>git clone {escape(host.address)}/{row.name}.git</code></p>"
    return whole(row.name, clone, f"<ul>{rows or '<li>no pull request</li>'}</ul>")


def _may(reasons: list[str]) -> str:
    if not reasons:
        return '<span class="yes">it may be merged</span>'
    return "<br>".join(f'<span class="no">{escape(r)}</span>' for r in reasons)


def pull_request(host: Host, row: Repository, change: Change, refused: str = "") -> str:
    said = row.outcomes.get(change.head, {})
    outcomes = "".join(
        f"<li>{escape(o.context)}: <b>{escape(o.state)}</b> {escape(o.sentence)} "
        f'<a href="{escape(o.address, quote=True)}">what it says</a></li>'
        for o in said.values()
    )
    of = f" of {change.origin}" if change.origin != row.name else ""
    asks = (
        f'<p><a href="/{row.name}">{row.name}</a>: {escape(change.author)} asks for '
        f"<code>{escape(change.source)}</code>{of} to be merged into <code>{escape(change.target)}</code>, "
        f"at <code>{change.head[:12]}</code></p>"
    )
    return whole(
        f"{change.number} {change.title}",
        asks,
        f'<p role="alert" class="no">Not merged: {escape(refused)}</p>' if refused else "",
        f"<ul>{outcomes or '<li>nobody has said anything yet</li>'}</ul>",
        f"<p>{_may(host.in_the_way(row.name, change.number))}</p>" if change.state == "open" else "",
        _button(host, row, change),
        f"<pre>{escape(change.text)}</pre>" if change.text else "",
    )


def _button(host: Host, row: Repository, change: Change) -> str:
    if change.state != "open":
        return f"<p>It is {change.state}{f' as <code>{change.merged_as[:12]}</code>' if change.merged_as else ''}.</p>"
    given = f'<input type="hidden" name="token" value="{escape(host.token, quote=True)}">'
    button = f'<button type="submit">Merge into {escape(change.target)}</button>'
    return f'<form method="post" action="/{row.name}/changes/{change.number}/merge">{given}{button}</form>'
