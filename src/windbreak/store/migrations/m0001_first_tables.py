"""The first tables: accounts, sites, feeds, releases, plans, runs, findings, the ledger."""

STEPS = (
    "CREATE TABLE secret (name TEXT PRIMARY KEY, sealed BLOB NOT NULL)",
    "CREATE TABLE account (id TEXT PRIMARY KEY, password_hash TEXT, body TEXT NOT NULL)",
    (
        "CREATE TABLE token (id TEXT PRIMARY KEY, account TEXT NOT NULL REFERENCES "
        "account(id), kind TEXT NOT NULL, hash TEXT NOT NULL UNIQUE, expires_at TEXT, "
        "body TEXT NOT NULL)"
    ),
    "CREATE TABLE host (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
    (
        "CREATE TABLE site (id TEXT PRIMARY KEY, twin_of TEXT REFERENCES site(id), body "
        "TEXT NOT NULL)"
    ),
    "CREATE UNIQUE INDEX site_twin ON site(twin_of) WHERE twin_of IS NOT NULL",
    (
        "CREATE TABLE link_code (site TEXT PRIMARY KEY REFERENCES site(id), code TEXT "
        "NOT NULL, good_until TEXT NOT NULL)"
    ),
    (
        "CREATE TABLE agent_key (site TEXT PRIMARY KEY REFERENCES site(id), agent_id "
        "TEXT NOT NULL UNIQUE, public_key TEXT NOT NULL)"
    ),
    "CREATE TABLE inventory (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
    "CREATE TABLE product (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
    "CREATE TABLE feed (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
    (
        "CREATE TABLE release (id TEXT PRIMARY KEY, product TEXT NOT NULL, feed TEXT NOT "
        "NULL, body TEXT NOT NULL)"
    ),
    "CREATE INDEX release_product ON release(product)",
    "CREATE TABLE package (id TEXT PRIMARY KEY, product TEXT NOT NULL, body TEXT NOT NULL)",
    "CREATE INDEX package_product ON package(product)",
    (
        "CREATE TABLE licence (id TEXT PRIMARY KEY, site TEXT NOT NULL REFERENCES "
        "site(id), body TEXT NOT NULL)"
    ),
    "CREATE TABLE hold (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
    (
        "CREATE TABLE plan (id INTEGER PRIMARY KEY, site TEXT NOT NULL REFERENCES "
        "site(id), body TEXT NOT NULL)"
    ),
    "CREATE INDEX plan_site ON plan(site)",
    (
        "CREATE TABLE booking (id INTEGER PRIMARY KEY, site TEXT NOT NULL REFERENCES "
        "site(id), state TEXT NOT NULL, body TEXT NOT NULL)"
    ),
    "CREATE INDEX booking_state ON booking(state)",
    "CREATE TABLE rollout (id INTEGER PRIMARY KEY, state TEXT NOT NULL, body TEXT NOT NULL)",
    (
        "CREATE TABLE run (id INTEGER PRIMARY KEY, site TEXT NOT NULL REFERENCES "
        "site(id), state TEXT NOT NULL, body TEXT NOT NULL)"
    ),
    "CREATE INDEX run_site ON run(site)",
    "CREATE UNIQUE INDEX run_one_writer ON run(site) WHERE state = 'running'",
    (
        "CREATE TABLE journal (id INTEGER PRIMARY KEY, run INTEGER NOT NULL REFERENCES "
        "run(id), body TEXT NOT NULL)"
    ),
    "CREATE INDEX journal_run ON journal(run)",
    "CREATE TABLE finding (id TEXT PRIMARY KEY, kind TEXT NOT NULL, body TEXT NOT NULL)",
    "CREATE TABLE ledger (id INTEGER PRIMARY KEY, subject TEXT NOT NULL, body TEXT NOT NULL)",
    "CREATE INDEX ledger_subject ON ledger(subject)",
    "CREATE TABLE event (id INTEGER PRIMARY KEY, body TEXT NOT NULL)",
)
