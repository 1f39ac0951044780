"""Heights, slopes and turns of the tide."""

import math

import pytest

from tidebook.predict import height, heights, slope, turning_points
from tidebook.stations import STATIONS, station

PURE = station("Pure", 2.0, M2=(1.0, 0.0))


def test_at_its_epoch_a_pure_wave_is_high():
    assert height(PURE, 0) == 3.0


@pytest.mark.parametrize("quarter, expected", [(0, 3.0), (1, 2.0), (2, 1.0), (3, 2.0), (4, 3.0)])
def test_a_pure_wave_by_quarters(quarter, expected):
    assert math.isclose(height(PURE, quarter * 360 / 28.9841042 / 4), expected, abs_tol=1e-9)


@pytest.mark.parametrize("name", ["Heron Reach", "Saltmarsh Point"])
@pytest.mark.parametrize("hours", [0.0, 3.3, 17.25, 200.5])
def test_the_slope_is_the_derivative_of_the_height(name, hours):
    s, d = STATIONS[name], 1e-5
    assert math.isclose((height(s, hours + d) - height(s, hours - d)) / (2 * d), slope(s, hours), abs_tol=1e-6)


@pytest.mark.parametrize("name", ["Heron Reach", "Saltmarsh Point"])
def test_high_and_low_water_alternate(name):
    kinds = [k for _, _, k in turning_points(STATIONS[name], 0, 72)]
    assert len(kinds) >= 10
    assert all(a != b for a, b in zip(kinds, kinds[1:]))


@pytest.mark.parametrize("name", ["Heron Reach", "Saltmarsh Point"])
def test_turns_are_higher_or_lower_than_what_is_around_them(name):
    s = STATIONS[name]
    for t, h, kind in turning_points(s, 0, 48):
        around = (
            max(height(s, t - 0.2), height(s, t + 0.2))
            if kind == "high"
            else min(height(s, t - 0.2), height(s, t + 0.2))
        )
        assert h >= around if kind == "high" else h <= around


def test_a_series_has_both_its_ends():
    found = heights(PURE, 0, 6, 0.5)
    assert len(found) == 13
    assert found[-1] == height(PURE, 6)
