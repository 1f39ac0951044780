"""Heights as they are printed: to the decimetre, by the rounding that the office asks for."""

import os
from decimal import ROUND_HALF_EVEN, ROUND_HALF_UP, Decimal

MODES = {"nearest": ROUND_HALF_UP, "bankers": ROUND_HALF_EVEN}


def mode():
    """The rounding of this process: MYRIANT_CELL_ROUNDING, nearest when it is not set."""
    return os.environ.get("MYRIANT_CELL_ROUNDING", "nearest")


def decimetres(metres, how=None):
    """Metres as decimetres; a text is taken exactly."""
    return int((Decimal(str(metres)) * 10).quantize(Decimal(1), rounding=MODES[how or mode()]))


def printed(metres, how=None):
    """For example 2.4 m; never -0.0 m."""
    value = decimetres(metres, how)
    return "%s%d.%d m" % ("-" if value < 0 else "", abs(value) // 10, abs(value) % 10)
