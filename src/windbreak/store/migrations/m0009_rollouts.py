"""Rollouts across sites, in waves; moves that failed; who watches when; how long runs took;
subscribed calendars of freezes; the timetable as it was kept last.
"""

# What went to a twin and its site becomes a rollout of two; plans are found by their bookings.
_PLAN = (
    "(SELECT plan FROM booking WHERE booking.rollout = rollout.id "
    "AND booking.site = json_extract(rollout.body, '$.{0}') ORDER BY booking.id DESC LIMIT 1)"
)
_TARGET = "json_object(json_extract(body, '$.product'), json_extract(body, '$.version'))"
_MEMBER = (
    "json_object('site', json_extract(body, '$.{0}'), 'wave', '{1}', 'targets', "
    + _TARGET
    + ", 'plan', "
    + _PLAN
    + ")"
)

STEPS = (
    "UPDATE rollout SET body = json_set(body, "
    "'$.sites', json_array(json_extract(body, '$.site')), "
    f"'$.members', json_array({_MEMBER.format('twin', 'twin')}, {_MEMBER.format('site', 'rest')}), "
    "'$.state', CASE json_extract(body, '$.state') WHEN 'rehearsing' THEN 'going' "
    "WHEN 'quiet' THEN 'going' ELSE json_extract(body, '$.state') END)",
    "UPDATE rollout SET state = json_extract(body, '$.state')",
    "DROP INDEX rollout_state",
    "ALTER TABLE rollout DROP COLUMN site",
    "CREATE INDEX rollout_state ON rollout(state)",
    "CREATE INDEX booking_plan ON booking(plan)",
    "CREATE INDEX run_plan ON run(plan)",
    "CREATE TABLE failed_move (id TEXT PRIMARY KEY, open INTEGER NOT NULL, body TEXT NOT NULL)",
    "CREATE TABLE watch (id INTEGER PRIMARY KEY, body TEXT NOT NULL)",
    "CREATE TABLE freeze_calendar (id TEXT PRIMARY KEY, body TEXT NOT NULL)",
    "CREATE TABLE took (id INTEGER PRIMARY KEY, run INTEGER NOT NULL, body TEXT NOT NULL)",
    "CREATE INDEX took_run ON took(run)",
    "CREATE TABLE timetable (id INTEGER PRIMARY KEY CHECK (id = 1), body TEXT NOT NULL)",
    "INSERT INTO number VALUES ('watch', 0)",
    "INSERT INTO number VALUES ('took', 0)",
)
