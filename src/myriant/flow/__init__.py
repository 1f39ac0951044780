"""The application, in the order a push goes through it.

intake → planning → dispatch → (runner) → delivery → ingest → conclude → announce

No arrow imports another: they meet in `state`, `compare`, `diagnose` below them and in deferred tasks. Beside them
stand `actions`, `admin`, `upkeep`, `drill` and `history`, which may ask each of them, and `views`, which changes
nothing. The ENTRANCES of a room are its modules that other rooms may import.
"""
