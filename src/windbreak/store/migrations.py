"""The database's shape, in numbered steps; each runs once, in order, in one transaction.

A step is never changed after it was released: a new shape is a new step. Values are kept as
the JSON of core's own types beside the columns that are asked for, so a new field of a value
with a default needs no step.
"""

from __future__ import annotations

import peewee

from windbreak.store.errors import NewerDatabase


def _documents(name: str, key: str, *columns: str) -> str:
    more = "".join(f", {column}" for column in columns)
    return f"CREATE TABLE {name} (id {key} PRIMARY KEY{more}, body TEXT NOT NULL)"


_TEXT, _COUNT = "TEXT", "INTEGER"

MIGRATIONS: tuple[tuple[str, tuple[str, ...]], ...] = (
    (
        "first tables",
        (
            "CREATE TABLE secret (name TEXT PRIMARY KEY, sealed BLOB NOT NULL)",
            _documents("account", _TEXT, "password_hash TEXT"),
            _documents(
                "token",
                _TEXT,
                "account TEXT NOT NULL REFERENCES account(id)",
                "kind TEXT NOT NULL",
                "hash TEXT NOT NULL UNIQUE",
                "expires_at TEXT",
            ),
            _documents("host", _TEXT),
            _documents("site", _TEXT, "twin_of TEXT REFERENCES site(id)"),
            "CREATE UNIQUE INDEX site_twin ON site(twin_of) WHERE twin_of IS NOT NULL",
            "CREATE TABLE link_code (site TEXT PRIMARY KEY REFERENCES site(id), "
            "code TEXT NOT NULL, good_until TEXT NOT NULL)",
            "CREATE TABLE agent_key (site TEXT PRIMARY KEY REFERENCES site(id), "
            "agent_id TEXT NOT NULL UNIQUE, public_key TEXT NOT NULL)",
            _documents("inventory", _TEXT),
            _documents("product", _TEXT),
            _documents("feed", _TEXT),
            _documents("release", _TEXT, "product TEXT NOT NULL", "feed TEXT NOT NULL"),
            "CREATE INDEX release_product ON release(product)",
            _documents("package", _TEXT, "product TEXT NOT NULL"),
            "CREATE INDEX package_product ON package(product)",
            _documents("licence", _TEXT, "site TEXT NOT NULL REFERENCES site(id)"),
            _documents("hold", _TEXT),
            _documents("plan", _COUNT, "site TEXT NOT NULL REFERENCES site(id)"),
            "CREATE INDEX plan_site ON plan(site)",
            _documents(
                "booking",
                _COUNT,
                "site TEXT NOT NULL REFERENCES site(id)",
                "state TEXT NOT NULL",
            ),
            "CREATE INDEX booking_state ON booking(state)",
            _documents("rollout", _COUNT, "state TEXT NOT NULL"),
            _documents(
                "run", _COUNT, "site TEXT NOT NULL REFERENCES site(id)", "state TEXT NOT NULL"
            ),
            "CREATE INDEX run_site ON run(site)",
            # One writer to a site: no two runs of one site can be under way.
            "CREATE UNIQUE INDEX run_one_writer ON run(site) WHERE state = 'running'",
            _documents("journal", _COUNT, "run INTEGER NOT NULL REFERENCES run(id)"),
            "CREATE INDEX journal_run ON journal(run)",
            _documents("finding", _TEXT, "kind TEXT NOT NULL"),
            _documents("ledger", _COUNT, "subject TEXT NOT NULL"),
            "CREATE INDEX ledger_subject ON ledger(subject)",
            _documents("event", _COUNT),
        ),
    ),
    (
        "licences with seats, rows of sites, what goes out",
        (
            "CREATE TABLE fact (name TEXT PRIMARY KEY, value TEXT NOT NULL)",
            "ALTER TABLE licence RENAME TO licence_of_site",
            _documents("licence", _TEXT),
            _documents(
                "seat",
                _TEXT,
                "licence TEXT NOT NULL REFERENCES licence(id)",
                "site TEXT NOT NULL REFERENCES site(id)",
            ),
            "CREATE INDEX seat_licence ON seat(licence)",
            "CREATE INDEX seat_site ON seat(site)",
            # What one site's right was before is a licence of one seat now.
            "INSERT INTO licence SELECT 'licence-' || id, json_object("
            "'id', 'licence-' || id, 'label', json_extract(body, '$.product'), 'form', 'seats', "
            "'products', json_array(json_extract(body, '$.product')), 'seats', 1, "
            "'covers_until', json_extract(body, '$.covers_until'), "
            "'expires', json_extract(body, '$.expires'), "
            "'made_at', strftime('%Y-%m-%dT%H:%M:%SZ', 'now')) FROM licence_of_site",
            "INSERT INTO seat SELECT 'licence-' || id || ' ' || site, 'licence-' || id, site, "
            "json_object('licence', 'licence-' || id, 'site', site, "
            "'since', strftime('%Y-%m-%dT%H:%M:%SZ', 'now')) FROM licence_of_site",
            "DROP TABLE licence_of_site",
            _documents("advisory", _TEXT, "product TEXT NOT NULL", "feed TEXT NOT NULL"),
            _documents("shelf_right", _TEXT, "site TEXT NOT NULL", "product TEXT NOT NULL"),
            "CREATE INDEX shelf_right_site ON shelf_right(site)",
            _documents("hook", _TEXT),
            _documents("delivery", _COUNT, "hook TEXT NOT NULL", "state TEXT NOT NULL"),
            "CREATE TABLE component (site TEXT NOT NULL, product TEXT NOT NULL, "
            "version TEXT NOT NULL, active INTEGER NOT NULL, PRIMARY KEY (site, product)) "
            "WITHOUT ROWID",
            "CREATE INDEX component_product ON component(product)",
            "INSERT OR IGNORE INTO component SELECT i.id, json_extract(c.value, '$.product'), "
            "json_extract(c.value, '$.version'), json_extract(c.value, '$.active') "
            "FROM inventory i, json_each(i.body, '$.components') c",
            "CREATE TABLE row (site TEXT PRIMARY KEY REFERENCES site(id), stale INTEGER NOT NULL, "
            "lead_rank INTEGER NOT NULL, lead_label TEXT NOT NULL, lead TEXT NOT NULL, "
            "follows INTEGER NOT NULL, made INTEGER NOT NULL, body TEXT)",
            "CREATE INDEX row_order ON row(lead_rank, lead_label, lead, follows, site) WHERE made",
            "CREATE INDEX row_stale ON row(stale) WHERE stale",
            "INSERT INTO row SELECT id, 1, 99, '', coalesce(twin_of, id), "
            "twin_of IS NOT NULL, 0, NULL FROM site",
            "CREATE TABLE standing (site TEXT NOT NULL, product TEXT NOT NULL, "
            "body TEXT NOT NULL, PRIMARY KEY (site, product)) WITHOUT ROWID",
            "CREATE INDEX standing_product ON standing(product)",
            "CREATE INDEX release_feed ON release(feed, product)",
            "CREATE INDEX site_address ON site(json_extract(body, '$.address'))",
        ),
    ),
    ("rules of the house", (_documents("rule", _TEXT),)),
    ("ties", (_documents("lockstep", _TEXT), _documents("clash", _TEXT))),
)


def migrate(database: peewee.SqliteDatabase) -> int:
    """Bring a database to the newest shape; the number of steps that ran. Writes.

    Raises NewerDatabase when the file is ahead of this program.
    """
    done = int(database.execute_sql("PRAGMA user_version").fetchone()[0])
    if done > len(MIGRATIONS):
        raise NewerDatabase(done, len(MIGRATIONS))
    for number, (_, statements) in enumerate(MIGRATIONS[done:], start=done + 1):
        with database.atomic("EXCLUSIVE"):
            for statement in statements:
                database.execute_sql(statement)
            database.execute_sql(f"PRAGMA user_version = {number}")
    return len(MIGRATIONS) - done
