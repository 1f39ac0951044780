"""A report as a text for mail and as a page of its own: no script, nothing fetched, made to be printed."""

from __future__ import annotations

from collections.abc import Sequence
from html import escape

from myriant.core.telling.outcome import as_one_line
from myriant.flow.views.report.days import BranchReport, ReportLine, Side

_WIDE, _HIGH = 640, 90
_NOTHING = (  # is fetched or run, whatever stands in the text
    """<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'">"""
)
_STYLE = """
@page { size: A4; margin: 16mm }
body { font: 14px/1.45 "DejaVu Sans", sans-serif; color: #1e2a2f; max-width: 720px; margin: 24px auto; padding: 0 16px }
h1 { font-size: 19px; line-height: 1.35; font-weight: 600; margin: 4px 0 18px }
h2 { font-size: 14px; margin: 22px 0 6px }
p.soft, th.soft, td.soft, figcaption { color: #59656a }
table { border-collapse: collapse; width: 100% }
th, td { text-align: left; padding: 5px 12px 5px 0; border-bottom: 1px solid #d9d4ca; font-weight: 400 }
thead th { color: #59656a }
figure { margin: 0 0 12px; break-inside: avoid }
figcaption { font-size: 12px }
svg { width: 100%; height: auto; display: block }
"""


def report_text(report: BranchReport) -> str:
    """All of it as Markdown that reads well as plain text."""
    parts = [report.said]
    if report.rows:
        rows = [f"- {r.title}: {r.now}, was {r.before}{f' ({r.said})' if r.said else ''}" for r in report.rows]
        parts.append("\n".join([f"{_titled(report.now)} beside {_titled(report.before)}:", *rows]))
    if report.changes:
        parts.append(
            "\n".join(["Changes of level:", *(f"- {c.said}: {as_one_line(c.title, 90)}" for c in report.changes)])
        )
    if report.cut:
        parts.append("There are more runs than are looked at: the oldest are left out.")
    return "\n\n".join(parts) + "\n"


def report_html(project: str, report: BranchReport, lines: Sequence[ReportLine], address: str) -> str:
    """A page for paper. All that came from outside is escaped."""
    rows = "".join(
        f"<tr><th scope=row>{escape(r.title)}</th><td>{escape(r.now)}</td><td>{escape(r.before)}</td>"
        f"<td{' class=soft' if r.better is None else ''}>{escape(_difference(r.better, r.said))}</td></tr>"
        for r in report.rows
    )
    table = (
        f"<table><thead><tr><th></th><th scope=col>{escape(_titled(report.now))}</th>"
        f"<th scope=col>{escape(_titled(report.before))}</th><th scope=col>the difference is</th></tr></thead>"
        f"<tbody>{rows}</tbody></table>"
        if rows
        else ""
    )
    charts = "".join(_chart(line) for line in lines)
    changes = "".join(f"<li>{escape(c.said)}: {escape(as_one_line(c.title, 90))}</li>" for c in report.changes)
    levels = f"<h2>Changes of level</h2><ul>{changes}</ul>" if changes else ""
    link = f'<p class=soft><a href="{escape(address, quote=True)}">{escape(address)}</a></p>'
    cut = "<p class=soft>There are more runs than are looked at: the oldest are left out.</p>" if report.cut else ""
    return (
        f'<!doctype html><html lang="en"><head><meta charset="utf-8">{_NOTHING}<title>{escape(project)}: report</title>'
        f"<style>{_STYLE}</style></head><body><p class=soft>{escape(project)} · {escape(_titled(report.now))}, "
        f"{report.now.since:%Y-%m-%d} to {report.now.until:%Y-%m-%d}</p><h1>{escape(report.said)}</h1>{cut}{table}"
        f"{'<h2>Run by run</h2>' if charts else ''}{charts}{levels}{link}</body></html>"
    )


def _titled(side: Side) -> str:
    return side.title or side.branch


def _difference(better: bool | None, said: str) -> str:
    return said if better is None else f"{'better' if better else 'worse'}, {said}"


def _chart(line: ReportLine) -> str:
    """One measure over the runs, from nothing up: a line, broken where nothing was measured."""
    known = [v for v in line.values if v is not None]
    if len(known) < 2:
        return ""
    top = max(known) or 1.0
    step = _WIDE / max(1, len(line.values) - 1)
    paths, pen = [], "M"
    for i, value in enumerate(line.values):
        if value is None:
            pen = "M"
            continue
        paths.append(f"{pen}{i * step:.1f} {_HIGH - value / top * (_HIGH - 6):.1f}")
        pen = "L"
    said = (
        f"{line.title}: {line.written(min(known))} to {line.written(max(known))}, {line.written(known[-1])} at the end"
    )
    return (
        f'<figure><svg viewBox="0 -2 {_WIDE} {_HIGH + 4}" role="img" aria-label="{escape(said, quote=True)}">'
        f'<path d="M0 {_HIGH}H{_WIDE}" stroke="#d9d4ca"/>'
        f'<path d="{"".join(paths)}" fill="none" stroke="#3f4fa3" stroke-width="1.5"/></svg>'
        f"<figcaption>{escape(said)}</figcaption></figure>"
    )
