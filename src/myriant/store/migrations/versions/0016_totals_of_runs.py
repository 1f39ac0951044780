"""the totals of a run's jobs as a column, so that series over thousands of runs read no measures"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None

# the order is that of store.trends.TOTALS
_FUNCTION = """
CREATE FUNCTION totals_of_jobs(measures jsonb) RETURNS int[] LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
  SELECT ARRAY[
    coalesce(sum((job.value ->> 'tests.new')::int), 0)::int, coalesce(sum((job.value ->> 'tests.known')::int), 0)::int,
    coalesce(sum((job.value ->> 'tests.fixed')::int), 0)::int,
    coalesce(sum((job.value ->> 'tests.passed')::int), 0)::int,
    coalesce(sum((job.value ->> 'tests.skipped')::int), 0)::int,
    coalesce(sum((job.value ->> 'tests.flaky')::int), 0)::int, coalesce(sum((job.value ->> 'tests.total')::int), 0)::int
  ] FROM jsonb_each(coalesce(measures -> 'jobs', '{}')) AS job
$$
"""


def upgrade() -> None:
    op.execute(_FUNCTION)
    op.add_column(
        "run", sa.Column("totals", ARRAY(sa.Integer()), sa.Computed("totals_of_jobs(measures)", persisted=True))
    )
    op.create_table(
        "size_of_day",
        sa.Column("day", sa.Date(), primary_key=True),
        sa.Column("what", sa.Text(), primary_key=True),
        sa.Column("bytes", sa.BigInteger(), nullable=False),
    )
