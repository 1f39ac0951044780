"""A mail about an outcome: plain text and HTML of our own, threaded by context (RFC 5322, 2919, 8058)."""

from __future__ import annotations

import hashlib
import html
import re
from collections.abc import Sequence
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import formataddr

_ADDRESS = re.compile(r"[^\s@<>,;:\"()\[\]\\]{1,64}@[A-Za-z0-9](?:[A-Za-z0-9.-]{0,250}[A-Za-z0-9])?")


def is_address(text: str) -> bool:
    """Whether mail can be sent there: one plain address without a name."""
    return bool(_ADDRESS.fullmatch(text)) and text.isascii()


def one_line(text: str, most: int = 300) -> str:
    """A header's text: no line breaks, no other control characters."""
    return " ".join("".join(" " if ord(c) < 32 or ord(c) == 127 else c for c in text).split())[:most]


def message(
    *,
    sender: str,
    to: Sequence[str],
    project: str,
    context: str,
    subject: str,
    text: str,
    address: str,
    settings: str,
    event: str,
    host: str,
    files: Sequence[tuple[str, str, bytes]] = (),
) -> EmailMessage:
    """The mail of one event; the same event has the same Message-ID, so that a repetition can be recognised.

    `files` go with it: name, media type, bytes.
    """
    mail = EmailMessage(policy=SMTP)
    thread = hashlib.sha256(f"{project}\n{context}".encode()).hexdigest()[:24]
    mail["From"] = formataddr((f"Myriant, {one_line(project, 60)}", sender))
    mail["To"] = ", ".join(to)
    mail["Subject"] = one_line(subject, 180)
    mail["Message-ID"] = f"<{hashlib.sha256(event.encode()).hexdigest()[:32]}@{host}>"
    mail["In-Reply-To"] = mail["References"] = f"<{thread}@{host}>"
    mail["List-Id"] = f"{one_line(project, 60)} <{re.sub('[^a-z0-9-]', '-', project.lower())}.{host}>"
    mail["List-Unsubscribe"] = f"<{settings}>"
    mail["Auto-Submitted"] = "auto-generated"
    mail.set_content(
        f"{text.strip()}\n\n{address}\n\n-- \nYou get this because of the settings of {one_line(project, 60)}: {settings}\n"  # noqa: E501
    )
    mail.add_alternative(as_html(text, address, settings, project), subtype="html")
    for name, kind, data in files:
        main, _, sub = kind.partition("/")
        mail.add_attachment(data, maintype=main, subtype=sub, filename=name)
    return mail


def as_html(text: str, address: str, settings: str, project: str) -> str:
    """The text as HTML that needs no picture and no style sheet from elsewhere."""
    first, _, rest = text.strip().partition("\n")
    parts = [f'<p style="font-size:17px;margin:0 0 12px">{html.escape(first.lstrip("# "))}</p>']
    rows: list[str] = []
    for line in rest.split("\n"):
        if line.startswith("- "):
            rows.append(f"<li>{html.escape(line[2:])}</li>")
            continue
        if rows:
            parts.append(f'<ul style="margin:0 0 12px;padding-left:20px">{"".join(rows)}</ul>')
            rows = []
        if line.strip():
            parts.append(f'<p style="margin:0 0 8px">{html.escape(line.lstrip("# "))}</p>')
    if rows:
        parts.append(f'<ul style="margin:0 0 12px;padding-left:20px">{"".join(rows)}</ul>')
    body = "".join(parts)
    return (
        '<!doctype html><html><body style="margin:0;background:#faf7f2;color:#1e2a2f;font-family:sans-serif">'
        f'<div style="max-width:640px;padding:20px">{body}'
        f'<p><a href="{html.escape(address, quote=True)}" style="color:#3f4fa3">Open it in Myriant</a></p>'
        f'<p style="color:#59656a;font-size:12px">You get this because of the '
        f'<a href="{html.escape(settings, quote=True)}" style="color:#59656a">settings of '
        f"{html.escape(project)}</a>.</p>"
        "</div></body></html>"
    )
