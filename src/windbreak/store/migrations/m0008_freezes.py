"""Stretches of time in which sites are left alone."""

STEPS = (
    "CREATE TABLE freeze (id INTEGER PRIMARY KEY, body TEXT NOT NULL)",
    "INSERT INTO number VALUES ('freeze', 0)",
)
