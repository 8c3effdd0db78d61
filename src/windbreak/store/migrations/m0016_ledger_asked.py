"""The ledger is asked by time, by who, and by what came of it."""

STEPS = (
    "ALTER TABLE ledger ADD COLUMN at TEXT NOT NULL DEFAULT ''",
    "ALTER TABLE ledger ADD COLUMN who TEXT NOT NULL DEFAULT ''",
    "ALTER TABLE ledger ADD COLUMN came TEXT",
    "UPDATE ledger SET at = strftime('%Y-%m-%dT%H:%M:%S', json_extract(body, '$.at')), "
    "who = json_extract(body, '$.who')",
    "CREATE INDEX ledger_at ON ledger (at)",
    "CREATE INDEX ledger_who ON ledger (who)",
)
