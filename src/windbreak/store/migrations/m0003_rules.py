"""Rules of the house."""

STEPS = ("CREATE TABLE rule (id TEXT PRIMARY KEY, body TEXT NOT NULL)",)
