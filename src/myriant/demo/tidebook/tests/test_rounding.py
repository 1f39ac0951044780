"""Both roundings of the office."""

import pytest

from tidebook.rounding import decimetres, mode, printed


@pytest.mark.parametrize(
    "metres, nearest, bankers",
    [
        ("2.44", 24, 24),
        ("2.45", 25, 24),
        ("2.55", 26, 26),
        ("2.65", 27, 26),
        ("-0.25", -3, -2),
        ("0.05", 1, 0),
        ("0", 0, 0),
    ],
)
def test_halves_go_up_or_to_the_even_neighbour(metres, nearest, bankers):
    assert decimetres(metres, "nearest") == nearest
    assert decimetres(metres, "bankers") == bankers


def test_the_cell_chooses_the_rounding():
    assert mode() in ("nearest", "bankers")
    assert printed("2.45") == {"nearest": "2.5 m", "bankers": "2.4 m"}[mode()]


@pytest.mark.parametrize("metres, said", [("3.1", "3.1 m"), ("-0.3", "-0.3 m"), ("-0.01", "0.0 m"), ("12", "12.0 m")])
def test_heights_are_printed_with_their_unit(metres, said):
    assert printed(metres) == said
