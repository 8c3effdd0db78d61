"""What the answers that are kept ready hang on: kinds of change, in groups.

A kind that is missing here leaves an answer old for a minute and a half; one too many has it made
again for nothing. ``tests/service/test_ready.py`` compares each answer, after each kind of write,
with one that is made on demand.
"""

from __future__ import annotations

SITES = ("night", "fleet", "installed", "registration", "files")
CATALOGUE = ("product", "tie", "package", "outcome", "feed", "feeds", "day", "hour")
RIGHTS = ("entitlement", "right", "seat", "licence")
POLICY = ("hold", "rule", "host")
WORK = ("plan", "approval", "booking", "run", "rollout", "failed-move", "freeze", "watch", "task")
VERDICTS = (*SITES, *CATALOGUE, *RIGHTS, *POLICY)
NIGHTS = (*VERDICTS, *WORK, "timetable", "proposals")
# Rows of sites, and what wants attention: notes and looks at pages stand in them too.
FLEET = (*NIGHTS, "site", "finding", "freeze-calendar", "account", "fact")
LEDGER = ("ledger", "site", "fleet", "product", "day")

# Of one site: what is its own, and what is everybody's.
OF_SITE = ("site", "night", "files", "registration", "right", "seat", "plan", "booking", "run")
BESIDE_SITE = tuple(kind for kind in NIGHTS if kind not in OF_SITE)
