"""A whole year at every gauge; slow, so a job of its own."""

import pytest

from tidebook.predict import turning_points
from tidebook.stations import STATIONS

pytestmark = pytest.mark.slow


@pytest.mark.parametrize("name", sorted(STATIONS))
def test_a_year_has_its_705_tides(name):
    found = turning_points(STATIONS[name], 0, 365 * 24, 0.1)
    assert 1405 <= len(found) <= 1416
