"""Work for a person, and work of the service that outlives a request."""

STEPS = (
    "CREATE TABLE errand (id INTEGER PRIMARY KEY, site TEXT NOT NULL, "
    "open INTEGER NOT NULL DEFAULT 1, body TEXT NOT NULL)",
    "CREATE INDEX errand_open ON errand(open, site)",
    "CREATE TABLE task (id INTEGER PRIMARY KEY, state TEXT NOT NULL, body TEXT NOT NULL)",
    "CREATE INDEX task_state ON task(state)",
    "INSERT INTO number VALUES ('errand', 0)",
    "INSERT INTO number VALUES ('task', 0)",
)
