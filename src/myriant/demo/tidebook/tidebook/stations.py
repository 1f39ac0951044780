"""Fenmark's gauges."""

from collections import namedtuple

from tidebook.constituents import Constituent

Station = namedtuple("Station", "name mean_level constituents")


def station(name, mean_level, **waves):
    """A station from its waves: M2=(amplitude, phase)."""
    return Station(name, mean_level, tuple(Constituent(n, *w) for n, w in sorted(waves.items())))


STATIONS = {
    s.name: s
    for s in [
        station("Heron Reach", 2.9, M2=(1.84, 143.0), S2=(0.61, 188.0), K1=(0.11, 261.0)),
        station("Saltmarsh Point", 3.1, M2=(2.02, 151.0), S2=(0.70, 196.0), O1=(0.13, 112.0)),
        # more stations stand below
    ]
}


def nearest_name(text):
    """The station whose name begins like the text, None when there is none or more than one."""
    found = [n for n in STATIONS if n.lower().startswith(text.lower())]
    return found[0] if len(found) == 1 else None
