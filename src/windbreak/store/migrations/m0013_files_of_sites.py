"""What stands in the folders of a site beside or otherwise than its packages hold it."""

STEPS = ("CREATE TABLE integrity (id TEXT PRIMARY KEY, body TEXT NOT NULL)",)
