"""The printed page."""

import pytest

from tidebook.stations import STATIONS, nearest_name
from tidebook.table import clock, page, rows


@pytest.mark.parametrize("hours, said", [(0, "00:00"), (7.7, "07:42"), (23.999, "00:00"), (12.5, "12:30")])
def test_times_are_rounded_to_the_minute(hours, said):
    assert clock(hours) == said


@pytest.mark.parametrize("name", ["Heron Reach", "Saltmarsh Point"])
@pytest.mark.parametrize("day", [0, 1, 30])
def test_a_day_has_three_to_four_turns(name, day):
    assert len(rows(STATIONS[name], day)) in (3, 4)


def test_a_page_begins_with_station_and_day():
    assert page(STATIONS["Heron Reach"], 3).split("\n")[0] == "Heron Reach, day 3"


@pytest.mark.parametrize("text, name", [("her", "Heron Reach"), ("SALT", "Saltmarsh Point"), ("x", None), ("", None)])
def test_stations_are_found_by_how_their_names_begin(text, name):
    assert nearest_name(text) == name
