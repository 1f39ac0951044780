"""Feeds: what programs read can be read, whatever a title or a schedule's name says."""

from __future__ import annotations

from datetime import UTC, datetime
from xml.etree import ElementTree

from hypothesis import given
from hypothesis import strategies as st

from myriant.core.telling.feeds import TYPE, Coming, Told, atom, calendar, cloud_event

AT = datetime(2026, 11, 27, 8, 30, tzinfo=UTC)
TOLD = Told(
    7, "lockstep", 81, "push to main", "b" * 40, "held", "held", "Held: 1 test newly fails.", AT, "http://h/p/1"
)
ATOM = "{http://www.w3.org/2005/Atom}"


def test_an_outcome_is_a_cloud_event_with_an_id_of_its_own() -> None:
    event = cloud_event(TOLD, "http://h/p/lockstep")
    assert {k: event[k] for k in ("specversion", "id", "type", "subject", "time")} == {
        "specversion": "1.0",
        "id": "7",
        "type": TYPE,
        "subject": "b" * 40,
        "time": "2026-11-27T08:30:00Z",
    }
    assert event["data"]["verdict"] == "held" and event["data"]["sentence"] == TOLD.sentence


@given(st.text(max_size=80), st.text(max_size=40))
def test_whatever_is_said_a_feed_is_xml(said: str, context: str) -> None:
    told = Told(7, "x", 1, context, "c", "held", "", said, AT, "http://h/p/x?a=1&b='2'")
    root = ElementTree.fromstring(atom(said, "http://h/<p>", [told, TOLD], AT).encode("utf-8", "surrogatepass"))
    entries = root.findall(f"{ATOM}entry")
    assert len(entries) == 2 and entries[1].findtext(f"{ATOM}title") == "push to main: Held: 1 test newly fails."
    ids = [e.findtext(f"{ATOM}id") for e in entries]
    assert len(set(ids)) == 2 and root.findtext(f"{ATOM}updated") == "2026-11-27T08:30:00Z"


@given(st.text(max_size=120), st.text(max_size=200))
def test_whatever_a_schedule_is_called_a_calendar_has_short_lines_and_nothing_breaks_out(name: str, words: str) -> None:
    text = calendar("lockstep", "http://h/p/lockstep", [Coming(name, words, AT), Coming("n", "w", AT)], AT)
    lines = text.split("\r\n")
    assert lines[-1] == "" and all(len(line.encode()) <= 75 for line in lines)
    whole = text.replace("\r\n ", "").split("\r\n")
    assert [line for line in whole if line.startswith(("BEGIN:", "END:"))] == [
        "BEGIN:VCALENDAR",
        "BEGIN:VEVENT",
        "END:VEVENT",
        "BEGIN:VEVENT",
        "END:VEVENT",
        "END:VCALENDAR",
    ]
    assert all(line.split(":")[0].split(";")[0].replace("-", "").isalpha() for line in whole if line)
    assert whole.count("DTSTART:20261127T083000Z") == 2
