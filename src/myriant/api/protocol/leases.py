"""A lease as it travels to a runner."""

from __future__ import annotations

from dataclasses import asdict

from myriant.core.plan.model import Command, Job, Step
from myriant.flow.dispatch.claims import Lease as Given
from myriant.settings import settings
from myriant.wire.lease import (
    ArtifactWish,
    CacheWish,
    CollectWish,
    CompanionWish,
    Handed,
    Lease,
    LimitsWish,
    Origin,
    ReadyWish,
    RetestWish,
    SettingsWish,
    SourceWish,
    StepWish,
)


def _limits(job: Job) -> LimitsWish:
    """What the plan asks for, and of memory no more than this server gives to anybody."""
    limits = LimitsWish(**asdict(job.limits))
    most = settings().most_memory
    if most > 0:
        limits.memory = min(limits.memory or most, most)
    return limits


def given(lease: Given) -> Lease:
    job = lease.job
    return Lease(
        attempt=lease.attempt_id,
        token=lease.token,
        project=lease.project,
        run=lease.run,
        number=lease.number,
        commit=lease.commit,
        before=lease.before,
        job=job.id,
        values=dict(lease.values),
        wants=lease.wants,
        env=job.env,
        timeout=job.timeout,
        steps=[_step(job, s, skipped) for s, skipped in zip(job.steps, lease.skipped, strict=True)],
        source=SourceWish(full=job.source.history == "full", tags=job.source.tags, submodules=job.source.submodules),
        settings=SettingsWish(**{k: v or "" for k, v in asdict(job.settings).items()}) if job.settings else None,
        artifacts=[ArtifactWish(files=list(a.files), keep=a.keep) for a in job.artifacts],
        hand_over=job.hand_over,
        handed=[Handed(report=h.report, job=h.job, key=h.key, path=h.path) for h in lease.handed],
        address=lease.address,
        limits=_limits(job),
        describe=list(job.describe),
        caches=[CacheWish(name=c.name, keep=list(c.keep), renew_on=list(c.renew_on)) for c in job.cache],
        companions=[
            CompanionWish(
                name=c.name,
                command=_words(c.command),
                folder=c.folder or "",
                env=c.env,
                port=c.port,
                ready=ReadyWish(
                    within=c.ready.within,
                    tcp=c.ready.tcp,
                    http=c.ready.http,
                    line=c.ready.line,
                    command=_words(c.ready.command) if c.ready.command is not None else None,
                ),
            )
            for c in job.companions
        ],
        secrets=dict(lease.secrets),
        job_secrets=list(job.secrets),
        retries=job.retry.tests,
        origins={n: [Origin(**asdict(o)) for o in places] for n, places in lease.origins.items()},
        told=dict(lease.told),
        aside=lease.aside,
        statuses={k: list(v) for k, v in lease.statuses.items()},
    )


def _step(job: Job, s: Step, skipped: str) -> StepWish:
    return StepWish(
        name=s.name,
        command=_words(s.command),
        collect=[CollectWish.model_validate(asdict(c)) for c in s.collect],
        folder=s.folder or job.folder or "",
        shell=s.shell or job.shell or "sh",
        env=s.env,
        timeout=s.timeout,
        always=s.always,
        may_fail=s.may_fail,
        network=job.network if s.network is None else s.network,
        skipped=skipped,
        secrets=list(s.secrets),
        retest=RetestWish(command=_words(s.retest.command), each=s.retest.each) if s.retest else None,
    )


def _words(command: Command) -> str | list[str]:
    return command if isinstance(command, str) else list(command)
