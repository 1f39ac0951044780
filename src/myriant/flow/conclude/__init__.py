"""Compared, judged, control runs called for."""

ENTRANCES = ("controls", "judging", "lessening")
