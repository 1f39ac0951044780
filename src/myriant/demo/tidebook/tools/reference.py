"""Heights of a day at every gauge by plain summation in exact arithmetic, to test predictions against; slow.

Nothing of tidebook.predict is used. What stands in build/reference is taken as it is.
"""

import os
import sys
from decimal import Decimal, getcontext
from fractions import Fraction

sys.path.insert(0, os.getcwd())

from tidebook.constituents import speed
from tidebook.stations import STATIONS

FOLDER = os.path.join("build", "reference")
PI = Decimal("3.14159265358979323846264338327950288419716939937510")


def cosine(degrees):
    """By its series, to 40 digits."""
    x = degrees * PI / 180 % (2 * PI)
    total, term, n = Decimal(0), Decimal(1), 0
    while abs(term) > Decimal("1e-40"):
        total += term
        n += 2
        term *= -x * x / (n * (n - 1))
    return total


def main():
    getcontext().prec = 50
    os.makedirs(FOLDER, exist_ok=True)
    made = 0
    for name, station in sorted(STATIONS.items()):
        path = os.path.join(FOLDER, name.replace(" ", "-") + ".txt")
        if os.path.exists(path):
            continue
        made += 1
        with open(path, "w") as out:
            for step in range(24 * 60):
                hours = Fraction(step, 60)
                level = Decimal(repr(station.mean_level))
                for c in station.constituents:
                    angle = Decimal(repr(speed(c.name))) * step / 60 - Decimal(repr(c.phase))
                    level += Decimal(repr(c.amplitude)) * cosine(angle)
                out.write("%d/%d %.12f\n" % (hours.numerator, hours.denominator, level))
    print("%d references computed, %d were there" % (made, len(STATIONS) - made))


main()
