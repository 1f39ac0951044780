"""The driver's own connection of a session: for COPY, for reading many rows, and where every statement counts."""

from __future__ import annotations

from psycopg import Connection
from sqlalchemy.orm import Session


def raw(session: Session) -> Connection:
    connection = session.connection().connection.driver_connection
    assert isinstance(connection, Connection)
    return connection
