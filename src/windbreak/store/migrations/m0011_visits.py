"""What a visitor sees of each site, apart from what its agent says."""

STEPS = ("CREATE TABLE visit (id TEXT PRIMARY KEY, state TEXT NOT NULL, body TEXT NOT NULL)",)
