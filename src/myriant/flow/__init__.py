"""The application, in the order a push goes through it.

intake → planning → dispatch → (runner) → ingest → conclude → announce
"""
