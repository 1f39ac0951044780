"""Globs with the rules of .gitignore: `*` within a folder, `**` across folders; without a slash, at any depth.

A glob is a stranger's text, and is matched in time linear in the path's: all places where it may stand are followed at
once, as the bits of a number (Thompson's construction; Baeza-Yates and Gonnet 1992), with nothing to go back to.
"""

from __future__ import annotations

TYPE_CHECKING = False  # as in typing: the porter imports this at each start, and little else
if TYPE_CHECKING:
    from collections.abc import Callable

    _Takes = Callable[[str], bool]

_MOST_KNOWN = 1024


class Glob:
    """A glob for whole relative paths with forward slashes."""

    def __init__(self, glob: str) -> None:
        body = glob.removeprefix("./").removeprefix("/")
        anchored = "/" in body.rstrip("/") or body != glob
        if body.endswith("/"):
            body += "**"
        self._by_name = not anchored and "/" not in body and "**" not in body
        self._takes: list[_Takes] = []  # by place: which character leads on
        self._stays: list[bool | None] = []  # by place: whether any character, or (False) any but a slash, stays here
        self._skips: dict[int, int] = {}  # places that may be left for another without a character
        if not anchored and not self._by_name:
            self._folders()
        self._read(body)
        self._end = 1 << len(self._takes)
        literal = len(body) - len(body.lstrip("".join(set(body) - set("*?["))))
        self._head = body[:literal] if anchored else ""
        last = max(body.rfind(c) for c in "*?[]") + 1
        self._tail = body[last:].removeprefix("/") if body[:last].endswith("**") else body[last:]
        self._rest = anchored and body == self._head + "**"
        self._led: dict[str, int] = {}
        self._kept: dict[str, int] = {}

    def matches(self, path: str) -> bool:
        if not path.startswith(self._head) or not path.endswith(self._tail):
            return False
        if self._rest:
            return True
        return bool(self._after(path.rpartition("/")[2] if self._by_name else path) & self._end)

    def may_match_below(self, folder: str) -> bool:
        """Whether a path that begins with a folder, given with its slash, could match."""
        return self._by_name or bool(self._after(folder))

    def _after(self, path: str) -> int:
        """The places where the glob may stand once a path is read."""
        here = self._spread(1)
        for char in path:
            led = self._led.get(char)
            if led is None:
                led, kept = self._masks(char)
            else:
                kept = self._kept[char]
            here = self._spread(((here & led) << 1) | (here & kept))
            if not here:
                return 0
        return here

    def _read(self, body: str) -> None:
        i = 0
        while i < len(body):
            if body.startswith("**/", i):
                self._folders()
                i += 3
            elif body.startswith("**", i):
                self._star(any_one=True)
                i += 2
            elif body[i] == "*":
                self._star(any_one=False)
                i += 1
            elif body[i] == "?":
                self._one(lambda char: char != "/")
                i += 1
            elif body[i] == "[" and (end := body.find("]", i + 2)) > 0:
                self._one(_class(body[i + 1 : end]))
                i = end + 1
            else:
                self._one(body[i].__eq__)
                i += 1

    def _one(self, takes: _Takes) -> None:
        self._takes.append(takes)
        self._stays.append(None)

    def _star(self, *, any_one: bool) -> None:
        self._skips[len(self._takes)] = len(self._takes) + 1
        self._takes.append(lambda char: False)
        self._stays.append(any_one)

    def _folders(self) -> None:
        """Any folders, or none: what may be entered, stays over any character, and is left by a slash."""
        here = len(self._takes)
        self._skips[here] = here + 3  # none
        self._skips[here + 1] = here + 2
        for stays, takes in ((None, lambda char: True), (True, lambda char: False), (None, "/".__eq__)):
            self._takes.append(takes)
            self._stays.append(stays)

    def _masks(self, char: str) -> tuple[int, int]:
        led = sum(1 << i for i, takes in enumerate(self._takes) if takes(char))
        kept = sum(1 << i for i, stays in enumerate(self._stays) if stays or (stays is False and char != "/"))
        if len(self._led) < 256:
            self._led[char], self._kept[char] = led, kept
        return led, kept

    def _spread(self, here: int) -> int:
        """With the places that need no character to be reached."""
        for place, to in self._skips.items():  # in order, and only onward
            if here >> place & 1:
                here |= 1 << to
        return here


def _class(inner: str) -> _Takes:
    """What `[abc]`, `[a-z]` or `[!a]` takes: never a slash."""
    negated, inner = inner[:1] in ("!", "^"), inner[1:] if inner[:1] in ("!", "^") else inner
    ranges, i = [], 0
    while i < len(inner):
        if i + 2 < len(inner) and inner[i + 1] == "-":
            ranges.append((inner[i], inner[i + 2]))
            i += 3
        else:
            ranges.append((inner[i], inner[i]))
            i += 1
    return lambda char: char != "/" and any(a <= char <= b for a, b in ranges) is not negated


_known: dict[str, Glob] = {}


def matches(glob: str, path: str) -> bool:
    return _glob(glob).matches(path)


def may_match_below(glob: str, folder: str) -> bool:
    """Whether a glob could match something below a folder, given with its slash."""
    return _glob(glob).may_match_below(folder)


def _glob(glob: str) -> Glob:
    known = _known.get(glob)
    if known is None:
        if len(_known) >= _MOST_KNOWN:
            _known.clear()
        known = _known[glob] = Glob(glob)
    return known
