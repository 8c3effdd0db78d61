"""Work for a person, and work of the service that outlives a request; debts named in words."""

STEPS = (
    "CREATE TABLE errand (id INTEGER PRIMARY KEY, site TEXT NOT NULL, "
    "open INTEGER NOT NULL DEFAULT 1, body TEXT NOT NULL)",
    "CREATE INDEX errand_open ON errand(open, site)",
    "CREATE TABLE task (id INTEGER PRIMARY KEY, state TEXT NOT NULL, body TEXT NOT NULL)",
    "CREATE INDEX task_state ON task(state)",
    "INSERT INTO number VALUES ('errand', 0)",
    "INSERT INTO number VALUES ('task', 0)",
    "UPDATE debt SET body = json_set(body, '$.label', CASE json_extract(body, '$.kind') "
    "WHEN 'updates' THEN 'automatic updates' WHEN 'page' THEN 'the maintenance page' "
    "WHEN 'cache' THEN 'the cache of ' || json_extract(body, '$.name') "
    "ELSE json_extract(body, '$.name') END)",
)
