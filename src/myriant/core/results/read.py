"""Reading a report of test results of any known format, told by its content."""

from __future__ import annotations

import itertools
from collections.abc import Iterable

from myriant.core.results import tap
from myriant.core.results.junit import read_junit
from myriant.core.results.model import Oddity, Results
from myriant.core.results.tap import read_tap

_HEAD = 1 << 16


def format_of(head: bytes) -> str:
    """ "junit", "tap", "sarif" or "unknown", by the first bytes (64 KiB at most are looked at)."""
    text = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    if text.startswith((b"<", b"\xff\xfe", b"\xfe\xff", b"\0\0\xfe\xff", b"\0<")):
        return "junit"
    if text.startswith(b"{"):
        return "sarif"
    begin, xml = tap.BEGIN.search(head), head.find(b"<testsuite")
    declared = head.find(b"<?xml")
    xml = min((at for at in (xml, declared) if at >= 0), default=-1)
    if begin is not None and (xml < 0 or begin.start() < xml):
        return "tap"
    return "junit" if xml >= 0 else "unknown"


def headed(chunks: Iterable[bytes]) -> tuple[bytes, Iterable[bytes]]:
    """The first 64 KiB, or what there is, and the whole."""
    source, head = iter(chunks), b""
    for chunk in source:
        head += chunk
        if len(head) >= _HEAD:
            break
    return head, itertools.chain((head,), source)


def read_results(chunks: Iterable[bytes]) -> tuple[str, Results]:
    """Format and results of one report. Never raises for what the file says: `Results.error` does."""
    head, whole = headed(chunks)
    found = format_of(head)
    if found == "tap":
        return found, read_tap(whole)
    if found == "sarif":
        why = "it is JSON, no test results; SARIF is collected as analysis, not as tests"
        return found, Results(problems=[Oddity("error", why, 1)])
    results = read_junit(whole)
    return ("junit" if found == "junit" and (len(results) or results.error is None) else "unknown"), results
