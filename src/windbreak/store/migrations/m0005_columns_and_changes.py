"""Columns for what is asked, numbers that are never used twice, committed changes, kept views.

What was carried in JSON only, and is asked for, gets a column with an index; the rows that are
there are filled from their JSON. Views (rows of sites, standings) are made anew by the projector.
"""

_NUMBERED = ("plan", "booking", "rollout", "run", "journal", "ledger", "event", "delivery")

STEPS = (
    "CREATE TABLE number (name TEXT PRIMARY KEY, last INTEGER NOT NULL) WITHOUT ROWID",
    *(f"INSERT INTO number SELECT '{t}', coalesce(max(id), 0) FROM {t}" for t in _NUMBERED),
    # Every transaction that changes what views hang on has a number, and names its subjects.
    "CREATE TABLE change (generation INTEGER NOT NULL, kind TEXT NOT NULL, subject TEXT NOT NULL)",
    "CREATE INDEX change_generation ON change(generation)",
    "CREATE INDEX change_subject ON change(kind, subject, generation)",
    "CREATE TABLE newest_change (kind TEXT PRIMARY KEY, generation INTEGER NOT NULL) WITHOUT ROWID",
    "INSERT INTO newest_change VALUES ('', 1)",
    "CREATE TABLE projection (id INTEGER PRIMARY KEY CHECK (id = 1), generation INTEGER NOT NULL, "
    "as_of TEXT, claimed_by TEXT, claimed_until TEXT)",
    "INSERT INTO projection VALUES (1, 0, NULL, NULL, NULL)",
    "INSERT INTO change VALUES (1, 'everything', '')",
    "ALTER TABLE site ADD COLUMN client TEXT",
    "ALTER TABLE site ADD COLUMN host TEXT",
    "ALTER TABLE site ADD COLUMN address TEXT",
    "ALTER TABLE site ADD COLUMN label TEXT",
    "ALTER TABLE site ADD COLUMN retired INTEGER NOT NULL DEFAULT 0",
    "UPDATE site SET client = json_extract(body, '$.client'), host = json_extract(body, '$.host'), "
    "address = json_extract(body, '$.address'), label = json_extract(body, '$.label'), "
    "retired = json_extract(body, '$.retired_at') IS NOT NULL",
    "DROP INDEX IF EXISTS site_address",
    "CREATE INDEX site_address ON site(address)",
    "CREATE INDEX site_client ON site(client)",
    "CREATE INDEX site_host ON site(host)",
    "ALTER TABLE inventory ADD COLUMN of_note INTEGER NOT NULL DEFAULT 0",
    "ALTER TABLE inventory ADD COLUMN signature TEXT",
    "UPDATE inventory SET of_note = json_array_length(body, '$.registrations') > 0 OR EXISTS "
    "(SELECT 1 FROM json_each(body, '$.components') c "
    "WHERE json_extract(c.value, '$.maker') IS NOT NULL)",
    "CREATE INDEX inventory_of_note ON inventory(of_note) WHERE of_note",
    "ALTER TABLE plan ADD COLUMN state TEXT",
    "UPDATE plan SET state = json_extract(body, '$.state')",
    "CREATE INDEX plan_state ON plan(state, site)",
    "ALTER TABLE booking ADD COLUMN plan INTEGER",
    "ALTER TABLE booking ADD COLUMN rollout INTEGER",
    "UPDATE booking SET plan = json_extract(body, '$.plan'), "
    "rollout = json_extract(body, '$.rollout')",
    "CREATE INDEX booking_site ON booking(site, state)",
    "CREATE INDEX booking_rollout ON booking(rollout) WHERE rollout IS NOT NULL",
    "ALTER TABLE rollout ADD COLUMN site TEXT",
    "UPDATE rollout SET site = json_extract(body, '$.site')",
    "CREATE INDEX rollout_state ON rollout(state, site)",
    "ALTER TABLE run ADD COLUMN plan INTEGER",
    "UPDATE run SET plan = json_extract(body, '$.plan')",
    "CREATE INDEX run_state ON run(state)",
    "ALTER TABLE advisory ADD COLUMN withdrawn INTEGER NOT NULL DEFAULT 0",
    "UPDATE advisory SET withdrawn = coalesce(json_extract(body, '$.withdrawn'), 0)",
    "CREATE INDEX advisory_product ON advisory(product)",
    "CREATE INDEX delivery_state ON delivery(state)",
    "CREATE INDEX delivery_hook ON delivery(hook)",
    "ALTER TABLE package ADD COLUMN version TEXT",
    "UPDATE package SET version = json_extract(body, '$.version')",
    "ALTER TABLE shelf_right ADD COLUMN version TEXT",
    "UPDATE shelf_right SET version = json_extract(body, '$.version')",
    "CREATE INDEX shelf_right_product ON shelf_right(product)",
    # A finding is a view too: which cause saw it, looking at which subject.
    "ALTER TABLE finding ADD COLUMN cause TEXT NOT NULL DEFAULT ''",
    "ALTER TABLE finding ADD COLUMN about TEXT NOT NULL DEFAULT ''",
    "CREATE INDEX finding_cause ON finding(cause, about)",
    # Sites in one situation share what is said of their components.
    "DROP TABLE standing",
    "CREATE TABLE standing (situation TEXT NOT NULL, product TEXT NOT NULL, state TEXT NOT NULL, "
    "version TEXT, target TEXT, body TEXT NOT NULL, PRIMARY KEY (situation, product)) "
    "WITHOUT ROWID",
    "CREATE INDEX standing_product ON standing(product)",
    "DROP TABLE row",
    "CREATE TABLE row (site TEXT PRIMARY KEY REFERENCES site(id), situation TEXT, "
    "state TEXT NOT NULL, client TEXT NOT NULL, host TEXT, link TEXT NOT NULL, "
    "words TEXT NOT NULL, "
    "lead_rank INTEGER NOT NULL, lead_label TEXT NOT NULL, lead TEXT NOT NULL, "
    "follows INTEGER NOT NULL, body TEXT NOT NULL)",
    "CREATE INDEX row_order ON row(lead_rank, lead_label, lead, follows, site)",
    "CREATE INDEX row_situation ON row(situation)",
    "CREATE TABLE product_row (product TEXT PRIMARY KEY, place INTEGER NOT NULL, "
    "body TEXT NOT NULL) WITHOUT ROWID",
)
