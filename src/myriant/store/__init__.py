"""PostgreSQL through SQLAlchemy: tables, and queries named after questions."""
