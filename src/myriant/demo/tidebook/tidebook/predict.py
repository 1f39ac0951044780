"""Heights at a time, and the high and low waters between two times."""

import math

from tidebook.constituents import speed


def height(station, hours):
    """Metres above chart datum, some hours after the station's epoch: h = Z0 + sum of H cos(a t - g)."""
    total = station.mean_level
    for c in station.constituents:
        total += c.amplitude * math.cos(math.radians(speed(c.name) * hours - c.phase))
    return total


def heights(station, start, end, step=0.5):
    """Heights from start to end, both included."""
    count = int(round((end - start) / step))
    return [height(station, start + i * step) for i in range(count + 1)]


def slope(station, hours):
    """Metres an hour at which the water rises."""
    total = 0.0
    for c in station.constituents:
        a = math.radians(speed(c.name))
        total -= c.amplitude * a * math.sin(a * hours - math.radians(c.phase))
    return total


def turning_points(station, start, end, step=0.25):
    """(hours, height, "high" or "low") of each turn of the tide, by bisection of the slope."""
    found = []
    t = start
    while t < end:
        low, high = t, t + step
        if slope(station, low) * slope(station, high) < 0:
            while high - low > 1e-7:
                middle = (low + high) / 2
                if slope(station, low) * slope(station, middle) <= 0:
                    high = middle
                else:
                    low = middle
            kind = "high" if slope(station, t) > 0 else "low"
            found.append((low, height(station, low), kind))
        t += step
    return found
