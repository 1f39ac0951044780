"""The constituents of a tide: their speeds, and the amplitude and phase they have at a station."""

import math
from collections import namedtuple

# degrees of phase an hour of mean solar time
SPEEDS = {"M2": 28.9841042, "S2": 30.0, "N2": 28.4397295, "K1": 15.0410686, "O1": 13.9430356, "M4": 57.9682084}

Constituent = namedtuple("Constituent", "name amplitude phase")


def speed(name):
    """Degrees an hour; raises KeyError for a constituent that is not known."""
    return SPEEDS[name]


def period(name):
    """Hours of one cycle."""
    return 360.0 / speed(name)


def normalised(phase):
    """The same phase between 0 and 360 degrees."""
    return phase % 360.0


def combined(one, other):
    """Two waves of one speed as a single one."""
    if one.name != other.name:
        raise ValueError("waves of %s and %s have different speeds" % (one.name, other.name))
    x = one.amplitude * math.cos(math.radians(one.phase)) + other.amplitude * math.cos(math.radians(other.phase))
    y = one.amplitude * math.sin(math.radians(one.phase)) + other.amplitude * math.sin(math.radians(other.phase))
    return Constituent(one.name, math.hypot(x, y), normalised(math.degrees(math.atan2(y, x))))
