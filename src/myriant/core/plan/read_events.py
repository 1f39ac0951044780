"""Events, schedules, and who is told."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from myriant.core.plan import model
from myriant.core.plan.read_rules import RulesReader
from myriant.core.plan.reporting import quoted
from myriant.core.plan.schedule import ScheduleError, from_cron, in_words
from myriant.core.plan.table import Found
from myriant.core.telling.mail import is_address

_COMMITTERS = "committers"

_OWNERS = "owners"


def _branches(row: Found | None, key: str) -> model.BranchEvent | None:
    if row is None:
        return None
    return model.BranchEvent(row.get(key, ()), row.get("touching", ()), row.get("unless-only", ()))


class EventsReader(RulesReader):
    """Reads what starts a run, and whom its outcome is for."""

    def check_scheduled(self, events: Found | None, jobs: Mapping[str, Found]) -> None:
        for row in (events.get("schedule") if events is not None else None) or ():
            for i, job in enumerate(row.get("jobs", ())):
                if job not in jobs:
                    message = f'there is no job "{job[:80]}"'
                    self.unknown_value((*row.at("jobs"), i), job, jobs, message, known_as="jobs of this plan")

    def owners(self, found: Found | None) -> Iterator[model.Owner]:
        for row in (found.get("owner") if found is not None else None) or ():
            for i, who in enumerate(row.get("who", ())):
                if not is_address(who):
                    mend = 'write an address like "ada@tidewater.example"'
                    self.problem((*row.at("who"), i), f"{who[:80]!r} is no address for mail", mend, value=True)
            if "of" in row and "who" in row:
                yield model.Owner(tuple(row["of"]), tuple(w for w in row["who"] if is_address(w)))

    def notify(self, found: Found | None) -> Iterator[model.Notify]:
        mail = found.get("mail") if found is not None else None
        if mail is not None and "to" in mail and "at" in mail:
            for i, to in enumerate(mail["to"]):
                if to not in (_COMMITTERS, _OWNERS) and not is_address(to):
                    mend = 'write "committers", "owners", or an address like "ada@tidewater.example"'
                    self.problem((*mail.at("to"), i), f"{to[:80]!r} is no address for mail", mend, value=True)
            named = tuple(t for t in mail["to"] if t not in (_COMMITTERS, _OWNERS) and is_address(t))
            yield model.Notify(mail["at"], named, _COMMITTERS in mail["to"], _OWNERS in mail["to"])
        for row in (found.get("webhook") if found is not None else None) or ():
            if "url-secret" in row and "at" in row:
                if re.fullmatch(r"[A-Z][A-Z0-9_]*", row["url-secret"]):
                    yield model.Notify(row["at"], url_secret=row["url-secret"])
                else:
                    mend = "write a secret's name in capital letters: CHAT_HOOK"
                    self.problem(row.at("url-secret"), f"{row['url-secret'][:80]!r} names no secret", mend, value=True)

    def events(self, found: Found | None) -> model.Events:
        if found is None:
            return model.Events()
        push, pull, tag = found.get("push"), found.get("pull-request"), found.get("tag")
        for row, key in ((push, "branches"), (pull, "into"), (tag, "names")):
            for i, pattern in enumerate(row.get(key, ()) if row is not None else ()):
                assert row is not None
                if re.match(r"refs/(heads|tags)/", pattern):
                    plain = re.sub(r"^refs/(heads|tags)/", "", pattern)
                    at = (*row.path, key, i)
                    self.problem(
                        at,
                        f'"{pattern[:80]}" never fits: names stand without refs/',
                        f'write "{plain[:80]}"',
                        value=True,
                        edits=self.replace_value(at, quoted(plain)),
                    )
        schedules = []
        names: set[str] = set()
        for row in found.get("schedule") or ():
            if row.get("name") in names:
                self.problem(row.at("name"), f'two schedules are named "{row["name"]}"', "rename one", value=True)
            names.add(row.get("name", ""))
            schedule = self.schedule(row)
            if schedule is not None:
                schedules.append(schedule)
        return model.Events(
            push=_branches(push, "branches"),
            pull_request=_branches(pull, "into"),
            tags=None if tag is None else tag.get("names", ()),
            schedules=tuple(schedules),
        )

    def schedule(self, row: Found) -> model.Schedule | None:
        if "cron" in row and ("every" in row or "at" in row):
            self.problem(row.path, "this schedule has cron beside every or at", "keep one of the two")
            return None
        if "cron" not in row and "every" not in row:
            self.problem(row.path, "this schedule says no time", 'write every = "day" and at = "02:20"', missing=True)
            return None
        zone = row.get("zone", "UTC")
        try:
            times = from_cron(row["cron"], zone) if "cron" in row else in_words(row["every"], row.get("at"), zone)
        except ScheduleError as error:
            at = row.at("cron" if "cron" in row else "at")
            new = re.fullmatch(r'write ("[0-9:]+")', error.mend)
            edits = self.replace_value(at, new[1]) if new else ()
            self.problem(at, str(error), error.mend, value=True, edits=edits)
            return None
        return model.Schedule(row["name"], times, row.get("branch"), row.get("jobs", ())) if "name" in row else None
