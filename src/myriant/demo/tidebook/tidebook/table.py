"""The printed tide table of a day."""

from tidebook.predict import turning_points
from tidebook.rounding import printed


def clock(hours):
    """Hours after midnight as 07:42, rounded to the minute."""
    minutes = int(hours * 60 + 0.5)
    return "%02d:%02d" % (minutes // 60 % 24, minutes % 60)


def rows(station, day):
    """One row a turn of the tide on a day after the station's epoch: time, kind, height."""
    start = day * 24.0
    return [(clock(t - start), kind, printed(h)) for t, h, kind in turning_points(station, start, start + 24.0)]


def page(station, day):
    """A day's table as text."""
    lines = ["%s, day %d" % (station.name, day)]
    lines += ["%s  %-4s  %s" % row for row in rows(station, day)]
    return "\n".join(lines)
