"""The screen Plan: what a text means, rehearsal, replay, proposals."""
