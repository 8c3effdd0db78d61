"""What came of each release in each run, kept when the journals of runs are long forgotten."""

STEPS = (
    "CREATE TABLE outcome (id INTEGER PRIMARY KEY, product TEXT NOT NULL, run INTEGER NOT NULL, "
    "body TEXT NOT NULL)",
    "CREATE INDEX outcome_product ON outcome (product)",
    "CREATE INDEX outcome_run ON outcome (run)",
)
