"""When an outcome is news, and the words in which it leaves: text, mail and badge."""

from __future__ import annotations

import xml.etree.ElementTree as ET

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.states import Verdict
from myriant.core.telling.badge import HEIGHT, Badge, svg
from myriant.core.telling.mail import is_address, message
from myriant.core.telling.news import Outcome, news
from myriant.core.telling.outcome import Told, as_one_line, outcome_text

H, C, U, X = Verdict.HELD, Verdict.CLEAR, Verdict.UNDECIDED, Verdict.EXEMPT


def outcome(verdict: Verdict, *failing: str) -> Outcome:
    return Outcome(verdict, frozenset(failing))


@pytest.mark.parametrize(
    ("before", "now", "said"),
    [
        (None, outcome(C), ""),
        (None, outcome(H, "a"), "held"),
        (outcome(C), outcome(H, "a"), "held"),
        (outcome(H, "a"), outcome(H, "a"), ""),
        (outcome(H, "a", "b"), outcome(H, "a"), ""),
        (outcome(H, "a"), outcome(H, "b"), "held by more"),
        (outcome(H, "a"), outcome(C), "cleared"),
        (outcome(C), outcome(C), ""),
        (outcome(H, "a"), outcome(U), ""),
        (outcome(H, "a"), outcome(X), ""),
        (outcome(H), outcome(H), ""),
    ],
)
def test_only_a_change_of_state_is_news(before: Outcome | None, now: Outcome, said: str) -> None:
    assert news(before, now) == said


def test_the_text_names_causes_cells_and_uncovered_lines_and_is_short() -> None:
    findings = [Told(f"gauge › t{i}", "unit, 3 cells", "expected *1*\nmore") for i in range(11)]
    text = outcome_text(
        "Held: 11 tests newly fail.", findings=findings, more=2, uncovered=["a.lua:3-4"], lines=["Tests: 9"]
    )
    lines = text.split("\n")
    assert lines[0] == "Held: 11 tests newly fail." and lines[2] == r"- gauge › t0 (unit, 3 cells): expected \*1\* more"
    assert (
        "- and 5 more causes" in lines and "Changed lines that nothing ran: a.lua:3-4" in lines and "Tests: 9" in lines
    )
    assert len(lines) < 20


@pytest.mark.parametrize(
    ("text", "is_one"),
    [
        ("ada@tidewater.example", True),
        ("ada@localhost", True),
        ("ada", False),
        ("Ada <ada@x.example>", False),
        ("a@b\nBcc: c@d", False),
        ("a@b,c@d", False),
        ("", False),
        ("a@" + "b" * 300, False),
        ("ä@x.example", False),
    ],
)
def test_mail_goes_to_plain_addresses_only(text: str, is_one: bool) -> None:
    assert is_address(text) is is_one


@given(st.text(st.characters(exclude_categories=["Cs"])), st.text(st.characters(exclude_categories=["Cs"])))
def test_no_name_adds_a_header_or_markup_to_a_mail(title: str, said: str) -> None:
    mail = message(
        sender="myriant@here.example",
        to=["ada@x.example"],
        project="lock",
        context=said or "main",
        subject=title,
        text=f"{said}\n\n- {title}",
        address="http://h/p/lock/runs/1",
        settings="http://h/p/lock/settings",
        event="1",
        host="here.example",
    )
    assert [k for k in mail if k.lower() in ("bcc", "cc")] == [] and len(mail.get_all("To", [])) == 1
    assert mail["List-Unsubscribe"] and mail["Message-ID"] != mail["In-Reply-To"]
    html = mail.get_body(("html",))
    assert html is not None and "<script" not in html.get_content().lower()
    mail.as_bytes()


@given(st.text(max_size=200), st.text(max_size=200), st.sampled_from(["clear", "held", "exempt", "undecided", "?"]))
def test_a_badge_is_whole_svg_whatever_it_says(name: str, text: str, mark: str) -> None:
    keep = {c for c in name + text if ord(c) >= 32 and not 0xD800 <= ord(c) < 0xE000 and ord(c) not in (0xFFFE, 0xFFFF)}
    name, text = ("".join(c for c in t if c in keep) for t in (name, text))
    for theme in ("light", "dark", "auto"):
        root = ET.fromstring(svg(Badge(name, text, mark), theme))
        assert (
            root.attrib["height"] == str(HEIGHT) and root.attrib["role"] == "img" and float(root.attrib["width"]) < 1400
        )
        assert len(svg(Badge("lockstep", "held", "held"), theme)) < 1500


@pytest.mark.parametrize(
    ("text", "line"),
    [
        ("gauge_test of a_b", "gauge_test of a_b"),
        ("_gate_ is __shut__", "\\_gate\\_ is \\_\\_shut\\_\\_"),
        ("a *b* [c](d) <e> #1 | `f`", "a \\*b\\* \\[c\\](d) \\<e\\> \\#1 \\| \\`f\\`"),
        ("two\nlines", "two lines"),
    ],
)
def test_nothing_speaks_in_one_line(text: str, line: str) -> None:
    assert as_one_line(text, 200) == line
