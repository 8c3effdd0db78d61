"""What runs owe to their sites, and matters that wait for a person.

A run that ended badly before there were matters is one now, if it was its site's last.
"""

STEPS = (
    "CREATE TABLE debt (id INTEGER PRIMARY KEY, site TEXT NOT NULL, run INTEGER NOT NULL, "
    "paid INTEGER NOT NULL DEFAULT 0, body TEXT NOT NULL)",
    "CREATE INDEX debt_site ON debt(site, paid)",
    "CREATE TABLE matter (id INTEGER PRIMARY KEY, site TEXT NOT NULL, "
    "open INTEGER NOT NULL DEFAULT 1, body TEXT NOT NULL)",
    "CREATE INDEX matter_open ON matter(open, site)",
    "INSERT INTO number VALUES ('debt', 0)",
    "INSERT INTO matter SELECT id, site, 1, json_object('id', id, 'site', site, "
    "'text', json_extract(body, '$.text'), 'opened_at', json_extract(body, '$.ended_at')) "
    "FROM run WHERE id IN (SELECT max(id) FROM run GROUP BY site) "
    "AND state IN ('put back', 'restored', 'alarm')",
)
