"""Compared, judged, control runs called for."""
