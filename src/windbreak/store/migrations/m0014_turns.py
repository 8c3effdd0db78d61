"""The history of what is looked at: a row for each change, none for a look that saw the same."""

STEPS = (
    "CREATE TABLE turn (id INTEGER PRIMARY KEY, site TEXT NOT NULL, of TEXT NOT NULL, "
    "name TEXT NOT NULL, at TEXT NOT NULL, body TEXT NOT NULL)",
    "CREATE INDEX turn_of ON turn (site, of, name, id)",
)
