"""Speeds, periods and sums of waves."""

import math

import pytest

from tidebook.constituents import SPEEDS, Constituent, combined, normalised, period, speed


@pytest.mark.parametrize("name", sorted(SPEEDS))
def test_a_period_times_its_speed_is_a_circle(name):
    assert math.isclose(period(name) * speed(name), 360.0)


def test_the_moon_tide_has_a_period_of_half_a_lunar_day():
    assert abs(period("M2") - 12.4206) < 1e-4


@pytest.mark.parametrize("phase, same", [(0, 0), (360, 0), (-90, 270), (725, 5)])
def test_phases_are_kept_in_a_circle(phase, same):
    assert normalised(phase) == same


@pytest.mark.parametrize("a, g, b, h", [(1, 0, 1, 0), (2, 30, 1, 210), (1.5, 10, 0.5, 100), (1, 350, 1, 20)])
def test_a_combined_wave_is_the_sum_at_every_hour(a, g, b, h):
    both = combined(Constituent("M2", a, g), Constituent("M2", b, h))
    for hours in range(24):
        turn = math.radians(speed("M2") * hours)
        total = a * math.cos(turn - math.radians(g)) + b * math.cos(turn - math.radians(h))
        assert math.isclose(both.amplitude * math.cos(turn - math.radians(both.phase)), total, abs_tol=1e-9)


def test_waves_of_different_speed_do_not_combine():
    with pytest.raises(ValueError):
        combined(Constituent("M2", 1, 0), Constituent("S2", 1, 0))


def test_an_unknown_constituent_is_refused():
    with pytest.raises(KeyError):
        speed("X9")
