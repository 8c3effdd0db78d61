"""Lockstep groups and clashes."""

STEPS = (
    "CREATE TABLE lockstep (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
    "CREATE TABLE clash (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
)
