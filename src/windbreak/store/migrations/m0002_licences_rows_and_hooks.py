"""Licences with seats, the sites as rows, what goes out."""

STEPS = (
    "CREATE TABLE fact (name TEXT PRIMARY KEY, value TEXT NOT NULL)",
    "ALTER TABLE licence RENAME TO licence_of_site",
    "CREATE TABLE licence (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
    (
        "CREATE TABLE seat (id TEXT PRIMARY KEY, licence TEXT NOT NULL REFERENCES "
        "licence(id), site TEXT NOT NULL REFERENCES site(id), body TEXT NOT NULL)"
    ),
    "CREATE INDEX seat_licence ON seat(licence)",
    "CREATE INDEX seat_site ON seat(site)",
    (
        "INSERT INTO licence SELECT 'licence-' || id, json_object('id', 'licence-' || "
        "id, 'label', json_extract(body, '$.product'), 'form', 'seats', 'products', "
        "json_array(json_extract(body, '$.product')), 'seats', 1, 'covers_until', "
        "json_extract(body, '$.covers_until'), 'expires', json_extract(body, "
        "'$.expires'), 'made_at', strftime('%Y-%m-%dT%H:%M:%SZ', 'now')) FROM "
        "licence_of_site"
    ),
    (
        "INSERT INTO seat SELECT 'licence-' || id || ' ' || site, 'licence-' || id, "
        "site, json_object('licence', 'licence-' || id, 'site', site, 'since', "
        "strftime('%Y-%m-%dT%H:%M:%SZ', 'now')) FROM licence_of_site"
    ),
    "DROP TABLE licence_of_site",
    (
        "CREATE TABLE advisory (id TEXT PRIMARY KEY, product TEXT NOT NULL, feed TEXT "
        "NOT NULL, body TEXT NOT NULL)"
    ),
    (
        "CREATE TABLE shelf_right (id TEXT PRIMARY KEY, site TEXT NOT NULL, product TEXT "
        "NOT NULL, body TEXT NOT NULL)"
    ),
    "CREATE INDEX shelf_right_site ON shelf_right(site)",
    "CREATE TABLE hook (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
    (
        "CREATE TABLE delivery (id INTEGER PRIMARY KEY, hook TEXT NOT NULL, state TEXT "
        "NOT NULL, body TEXT NOT NULL)"
    ),
    (
        "CREATE TABLE component (site TEXT NOT NULL, product TEXT NOT NULL, version TEXT "
        "NOT NULL, active INTEGER NOT NULL, PRIMARY KEY (site, product)) WITHOUT ROWID"
    ),
    "CREATE INDEX component_product ON component(product)",
    (
        "INSERT OR IGNORE INTO component SELECT i.id, json_extract(c.value, "
        "'$.product'), json_extract(c.value, '$.version'), json_extract(c.value, "
        "'$.active') FROM inventory i, json_each(i.body, '$.components') c"
    ),
    (
        "CREATE TABLE row (site TEXT PRIMARY KEY REFERENCES site(id), stale INTEGER NOT "
        "NULL, lead_rank INTEGER NOT NULL, lead_label TEXT NOT NULL, lead TEXT NOT NULL, "
        "follows INTEGER NOT NULL, made INTEGER NOT NULL, body TEXT)"
    ),
    "CREATE INDEX row_order ON row(lead_rank, lead_label, lead, follows, site) WHERE made",
    "CREATE INDEX row_stale ON row(stale) WHERE stale",
    (
        "INSERT INTO row SELECT id, 1, 99, '', coalesce(twin_of, id), twin_of IS NOT "
        "NULL, 0, NULL FROM site"
    ),
    (
        "CREATE TABLE standing (site TEXT NOT NULL, product TEXT NOT NULL, body TEXT NOT "
        "NULL, PRIMARY KEY (site, product)) WITHOUT ROWID"
    ),
    "CREATE INDEX standing_product ON standing(product)",
    "CREATE INDEX release_feed ON release(feed, product)",
    "CREATE INDEX site_address ON site(json_extract(body, '$.address'))",
)
