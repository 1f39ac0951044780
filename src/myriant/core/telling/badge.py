"""Badges: a small plate with the verdict's mark and a few words, readable at 20 px, by eye and by ear."""

from __future__ import annotations

from dataclasses import dataclass
from html import escape

HEIGHT = 20
_PAPER = {"light": "#faf7f2", "dark": "#14191b"}
_INK = {"light": "#1e2a2f", "dark": "#e9e4da"}
_SOFT = {"light": "#59656a", "dark": "#a3adab"}
_RULE = {"light": "#d9d2c5", "dark": "#2e383b"}
_INKS = {
    "clear": {"light": "#1f6f6b", "dark": "#4fb0a8"},
    "held": {"light": "#bf3f26", "dark": "#ee6c4d"},
    "exempt": {"light": "#1f6f6b", "dark": "#4fb0a8"},
    "undecided": {"light": "#828a87", "dark": "#76807f"},
}
_NARROW, _WIDE = set("iljtfrI.,:;'|!()[] "), set("mwMW%@")
MOST = 60  # characters of a text


@dataclass(frozen=True, slots=True)
class Badge:
    """`name` is what it is about, `text` what is said of it, `mark` a verdict, or none."""

    name: str
    text: str
    mark: str = "undecided"


def svg(badge: Badge, theme: str = "light") -> str:
    """The badge as SVG; `theme` is light, dark, or auto, which follows the reader's own."""
    name, text = badge.name[:MOST], badge.text[:MOST]
    first = _width(name)
    width = round(26 + first + (7 if name else 0) + _width(text) + 8)
    shown = "light" if theme not in ("light", "dark") else theme
    style = ""
    if theme == "auto":
        dark = "".join(f".{c}{{fill:{v['dark']}}}" for c, v in (("i", _INK), ("s", _SOFT)))
        style = (
            f"<style>@media (prefers-color-scheme:dark){{.p{{fill:{_PAPER['dark']};stroke:{_RULE['dark']}}}{dark}}}"
            "</style>"
        )
    said = escape(f"{name}: {text}" if name else text, quote=True)
    mark = _MARKS.get(badge.mark, _MARKS["undecided"]).replace("INK", _INKS.get(badge.mark, _INKS["undecided"])[shown])
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width}" height="{HEIGHT}" viewBox="0 0 {width} {HEIGHT}" '
        f'role="img" aria-label="{said}"><title>{said}</title>{style}'
        f'<rect class="p" x=".5" y=".5" width="{width - 1}" height="{HEIGHT - 1}" rx="3" fill="{_PAPER[shown]}" '
        f'stroke="{_RULE[shown]}"/><g transform="translate(7 4)">{mark}</g>'
        f'<g font-family="Verdana,DejaVu Sans,sans-serif" font-size="11">'
        f"{_text('s', 26, first, _SOFT[shown], name) if name else ''}"
        f'<text class="i" x="{26 + first + (7 if name else 0):.0f}" y="14" fill="{_INK[shown]}" font-weight="bold" '
        f'textLength="{_width(text):.0f}">{escape(text)}</text></g></svg>'
    )


def _text(kind: str, x: float, width: float, ink: str, text: str) -> str:
    return f'<text class="{kind}" x="{x:.0f}" y="14" fill="{ink}" textLength="{width:.0f}">{escape(text)}</text>'


_MARKS = {
    "clear": '<path d="M1 4.5h11v3H1z" fill="INK"/>',
    "held": '<path d="M0 0h2.6v9.4h8.8V0H14v12H0z" transform="scale(.93)" fill="INK"/>',
    "exempt": '<path d="M1.5 4.5h10v3h-10z" fill="none" stroke="INK"/>',
    "undecided": '<path d="M0 6h13" stroke="INK" stroke-width="2" stroke-dasharray="2 2"/>',
}


def _width(text: str) -> float:
    """Pixels that a text takes at 11 px, near enough: its length is set to it."""
    return sum(3.9 if c in _NARROW else 10.0 if c in _WIDE else 7.0 for c in text)
