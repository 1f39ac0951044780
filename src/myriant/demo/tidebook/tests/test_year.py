"""A whole year at every gauge; slow, so a job of its own."""

import os
from fractions import Fraction

import pytest

from tidebook.predict import height, turning_points
from tidebook.stations import STATIONS

pytestmark = pytest.mark.slow


@pytest.mark.parametrize("name", sorted(STATIONS))
def test_a_year_has_its_705_tides(name):
    found = turning_points(STATIONS[name], 0, 365 * 24, 0.1)
    assert 1405 <= len(found) <= 1416


def test_a_day_agrees_with_the_reference():
    for name, station in STATIONS.items():
        with open(os.path.join("build", "reference", name.replace(" ", "-") + ".txt")) as lines:
            for line in lines:
                hours, level = line.split()
                assert abs(height(station, float(Fraction(hours))) - float(level)) < 1e-9
