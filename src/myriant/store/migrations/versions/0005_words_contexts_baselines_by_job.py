"""states held to their words; contexts; plans once a digest; results and baselines by job; what is less and accepted"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

_STATES = ("waiting", "running", "reading", "passed", "failed", "void", "stopped", "skipped")
_WHY = (
    "",
    "plan",
    "commit",
    "conflict",
    "no-cells",
    "not-asked",
    "excused",
    "superseded",
    "by-person",
    "stopped-early",
    "after",
    "gated",
    "approval",
    "not-selected",
    "expectation",
    "secret",
    "lost",
    "machine",
    "report",
    "step",
    "tests",
    "same-content",
    "brought-along",
    "again",
)
WORDS = (
    ("run", "event", ("push", "pull-request", "tag", "schedule", "manual", "upload")),
    ("run", "state", _STATES),
    ("run", "verdict", ("clear", "held", "undecided", "exempt", "none")),
    ("run", "why", _WHY),
    ("cell", "state", _STATES),
    ("cell", "why", _WHY),
    (
        "cell",
        "mark",
        (
            "passed",
            "new",
            "known",
            "fixed",
            "came-back",
            "flaky",
            "first",
            "void",
            "quarantined",
            "skipped",
            "not-selected",
            "running",
            "waiting",
            "stopped",
        ),
    ),
    ("attempt", "state", _STATES),
    ("step", "state", _STATES),
    ("control", "place", ("here", "baseline", "search")),
    ("control", "state", ("waiting", "running", "done", "given-up")),
    (
        "report",
        "content",
        ("tests", "retest", "coverage", "analysis", "attachment", "companion", "artifact", "hand-over"),
    ),
    ("search", "state", ("running", "found", "stopped", "given-up")),
    ("pull_request", "state", ("open", "merged", "closed")),
    ("approval", "state", ("waiting", "given", "refused", "late")),
)
_CONTEXT = """
    UPDATE run SET context = CASE event
        WHEN 'push' THEN 'push ' || branch WHEN 'pull-request' THEN 'pull-request ' || pull_request
        WHEN 'tag' THEN 'tag ' || tag WHEN 'schedule' THEN purpose ELSE '' END
"""
_JOB_RESULTS = """
    INSERT INTO job_result (run_id, job, project_id, commit_id, context, number, asked, trusted, good, baseline_id)
    SELECT run.id, cell.job, run.project_id, run.commit_id, run.context, run.number, true,
        CASE WHEN run.verdict IN ('clear', 'held') THEN bool_and(cell.state IN ('passed', 'failed')) END,
        CASE WHEN run.verdict IN ('clear', 'held')
            THEN run.verdict = 'clear' AND bool_and(cell.state IN ('passed', 'failed')) END,
        run.baseline_id
    FROM run JOIN cell ON cell.run_id = run.id
    WHERE cell.selected AND NOT cell.gated AND NOT cell.advisory
    GROUP BY run.id, cell.job
"""


def upgrade() -> None:
    _new_tables()
    op.add_column("cell", sa.Column("why", sa.Text(), server_default="", nullable=False))
    op.add_column("step", sa.Column("tests", sa.LargeBinary(), nullable=True))
    op.add_column("step", sa.Column("failures", sa.Integer(), nullable=True))
    op.add_column("moved_test", sa.Column("proven", sa.Boolean(), server_default=sa.text("false"), nullable=False))
    op.add_column("run", sa.Column("context", sa.Text(), server_default="", nullable=False))
    op.add_column("run", sa.Column("asked_digest", sa.Text(), nullable=True))
    op.add_column("run", sa.Column("why", sa.Text(), server_default="", nullable=False))
    op.add_column("run", sa.Column("noted", sa.Text(), nullable=True))
    _rows()
    op.alter_column("run", "context", server_default=None)
    op.create_foreign_key("run_asked_digest_fkey", "run", "plan_text", ["asked_digest"], ["digest"])
    op.create_foreign_key("run_plan_digest_fkey", "run", "plan_text", ["plan_digest"], ["digest"])
    for column in ("rules", "plan", "purpose"):
        op.drop_column("run", column)
    _indexes()
    for table, column, words in WORDS:
        told = ", ".join(f"'{word}'" for word in words)
        op.create_check_constraint(f"{table}_{column}_word", table, f"{column} IN ({told})")


def _rows() -> None:
    op.execute(
        "INSERT INTO plan_text (digest, text) SELECT DISTINCT ON (plan_digest) plan_digest, plan FROM run "
        "WHERE plan_digest IS NOT NULL AND plan IS NOT NULL"
    )
    op.execute("UPDATE run SET plan_digest = NULL WHERE plan IS NULL")
    op.execute(
        "INSERT INTO plan_text (digest, text) SELECT DISTINCT encode(sha256(convert_to(rules, 'UTF8')), 'hex'), rules "
        "FROM run WHERE rules IS NOT NULL ON CONFLICT DO NOTHING"
    )
    op.execute("UPDATE run SET asked_digest = encode(sha256(convert_to(rules, 'UTF8')), 'hex') WHERE rules IS NOT NULL")
    op.execute(_CONTEXT)
    op.execute("UPDATE run SET noted = note WHERE noted_at IS NOT NULL")
    op.execute("UPDATE run SET why = 'superseded' WHERE verdict = 'undecided' AND state = 'stopped'")
    op.execute("UPDATE run SET verdict = 'none', why = 'not-asked' WHERE verdict = 'exempt'")
    op.execute("UPDATE cell SET mark = regexp_replace(mark, '^(advisory-)+', '') WHERE mark LIKE 'advisory-%'")
    op.execute("UPDATE cell SET mark = 'new' WHERE mark = 'failed'")
    op.execute("UPDATE cell SET why = 'superseded' WHERE state = 'stopped' AND reason LIKE 'superseded%'")
    op.execute("UPDATE cell SET why = 'same-content' WHERE reused IS NOT NULL")
    op.execute(_JOB_RESULTS)


def _new_tables() -> None:
    op.create_table(
        "plan_text",
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.PrimaryKeyConstraint("digest"),
    )
    op.create_table(
        "acceptance",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("run", sa.Integer(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "audit",
        sa.Column("id", sa.BigInteger(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=True),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "lasting",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("test", sa.Integer(), nullable=False),
        sa.Column("since", sa.Integer(), nullable=False),
        sa.Column("what", sa.Text(), nullable=False),
        sa.Column("commit_id", sa.Text(), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_why", sa.Text(), server_default="", nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "test", "since"),
    )
    op.create_table(
        "job_result",
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.Text(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("commit_id", sa.Text(), nullable=False),
        sa.Column("context", sa.Text(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("asked", sa.Boolean(), nullable=False),
        sa.Column("trusted", sa.Boolean(), nullable=True),
        sa.Column("good", sa.Boolean(), nullable=True),
        sa.Column("baseline_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(["baseline_id"], ["run.id"], ondelete="SET NULL"),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("run_id", "job"),
    )


def _indexes() -> None:
    op.create_index("acceptance_of_project", "acceptance", ["project_id", "kind"])
    op.create_index("audit_of_project", "audit", ["project_id", "id"])
    op.create_index("lasting_open", "lasting", ["project_id"], postgresql_where=sa.text("ended_at IS NULL"))
    op.create_index("ix_job_result_baseline_id", "job_result", ["baseline_id"])
    op.create_index("job_result_of_commit", "job_result", ["project_id", "job", "commit_id"])
    op.drop_index("attempt_of_runner", table_name="attempt")
    op.create_index("attempt_of_runner", "attempt", ["runner_id", "created_at"])
    op.create_index("attempt_running", "attempt", ["runner_id"], postgresql_where=sa.text("state = 'running'"))
    op.create_index("cache_of_attempt", "cache_entry", ["attempt_id"])
    op.create_index("control_of_attempt", "control", ["attempt_id"])
    op.create_index("control_of_cell", "control", ["cell_id"])
    op.create_index("control_of_run", "control", ["run_id"])
    op.create_index("control_of_search", "control", ["search_id"])
    op.create_index("ix_coverage_file_file_id", "coverage_file", ["file_id"])
    op.create_index("coverage_by_run", "coverage_total", ["run_id"])
    op.drop_index("quarantine_open", table_name="quarantine")
    op.create_index("quarantine_of_project", "quarantine", ["project_id", "ended_at"])
    op.drop_index("run_of_commit", table_name="run")
    op.create_index("run_of_commit", "run", ["commit_id", "project_id"])
    op.create_index("run_in_context", "run", ["project_id", "context", "number"])
    op.create_index("run_of_baseline", "run", ["baseline_id"])
    op.create_index("run_of_plan", "run", ["plan_digest"])
    op.create_index("run_of_asked", "run", ["asked_digest"])
    op.create_index("search_of_cell", "search", ["cell_id"])
    op.create_index("search_of_run", "search", ["run_id", "test"])
    op.create_index("segment_of_attempt", "segment", ["attempt_id"])
    op.create_index("ix_sending_project_id", "sending", ["project_id"])
    op.create_index("ix_token_account_id", "token", ["account_id"])
    op.create_index("ix_token_project_id", "token", ["project_id"])
