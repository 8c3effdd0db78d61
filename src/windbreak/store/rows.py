"""The sites as rows: kept ready to be listed, worst first, each twin after its site.

A row is stale until somebody works it out again; it is shown as it was meanwhile. Rows are
ordered by the state and label of the site that leads: a twin's row goes where its site's goes.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from windbreak.core.values.basics import WORST_FIRST
from windbreak.core.values.sites import Site
from windbreak.documents.products import Standing
from windbreak.documents.sites import SiteSummary
from windbreak.store.database import Database

_LAST = len(WORST_FIRST)
_ORDER = "ORDER BY lead_rank, lead_label, lead, follows, site"


class Rows:
    """The kept rows of one service."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def begin(self, site: Site) -> None:
        """Make the row of a new site, stale. Writes."""
        lead = site.twin_of or site.id
        self.database.tell(
            "INSERT INTO row SELECT ?, 1, coalesce((SELECT lead_rank FROM row WHERE site = ?), ?), "
            "coalesce((SELECT lead_label FROM row WHERE site = ?), ?), ?, ?, 0, NULL",
            [site.id, lead, _LAST, lead, site.label, lead, int(site.twin_of is not None)],
        )

    def drop(self, site: str) -> None:
        """List a site no longer; what followed it stands by itself. Writes."""
        self.database.tell("DELETE FROM standing WHERE site = ?", [site])
        self.database.tell("UPDATE row SET lead = site, follows = 0 WHERE lead = ?", [site])
        self.database.tell("DELETE FROM row WHERE site = ?", [site])

    def touch(self, site: str | None = None) -> None:
        """Say that a site's row, or every row, has to be worked out again. Writes."""
        if site is None:
            self.database.tell("UPDATE row SET stale = 1 WHERE stale = 0")
        else:
            self.database.tell("UPDATE row SET stale = 1 WHERE site = ?", [site])

    def touch_where(self, products: Iterable[str]) -> None:
        """Say so of the rows of every site that has one of some products. Writes."""
        ids = sorted(products)
        marks = ", ".join("?" * len(ids))
        self.database.tell(
            "UPDATE row SET stale = 1 WHERE stale = 0 AND site IN "
            f"(SELECT site FROM component WHERE product IN ({marks}))",
            ids,
        )

    def stale(self, limit: int) -> list[str]:
        """Sites whose rows have to be worked out again, so many at the most. Reads."""
        rows = self.database.ask("SELECT site FROM row WHERE stale LIMIT ?", [limit])
        return [str(row[0]) for row in rows]

    def put(self, summary: SiteSummary, standings: Iterable[Standing]) -> None:
        """Keep a row that was worked out, with how each component stands. Writes.

        Rows that follow it go where it goes.
        """
        with self.database.transaction():
            self.database.tell("DELETE FROM standing WHERE site = ?", [summary.id])
            for one in standings:
                self.database.tell(
                    "INSERT INTO standing VALUES (?, ?, ?)",
                    [one.site, one.product, one.model_dump_json()],
                )
            self.database.tell(
                "UPDATE row SET stale = 0, made = 1, body = ? WHERE site = ?",
                [summary.model_dump_json(), summary.id],
            )
            self.database.tell(
                "UPDATE row SET lead_rank = ?, lead_label = ? WHERE lead = ?",
                [WORST_FIRST.index(summary.state), summary.label, summary.id],
            )

    def standings(self, product: str | None = None) -> list[Standing]:
        """How components stand, of one product or all, by product and site. Reads."""
        where, given = ("WHERE product = ?", [product]) if product else ("", [])
        rows = self.database.ask(f"SELECT body FROM standing {where} ORDER BY product, site", given)
        return [Standing.model_validate_json(row[0]) for row in rows]

    def listed(
        self,
        equal: Mapping[str, object],
        text: str | None = None,
        tag: str | None = None,
        only: Iterable[str] | None = None,
        limit: int = -1,
        offset: int = 0,
    ) -> tuple[list[str], int]:
        """The rows that match, as JSON, and how many match in all. Reads.

        ``equal`` are fields of the row, ``text`` is looked for in label, client and address,
        ``only`` are the ids that may be among them.
        """
        clauses, given = ["made"], []
        for name, value in equal.items():
            clauses.append(f"json_extract(body, '$.{name}') = ?")
            given.append(value)
        if text:
            clauses.append(
                "lower(json_extract(body, '$.label') || ' ' || json_extract(body, '$.client') "
                "|| ' ' || json_extract(body, '$.address')) LIKE ? ESCAPE '!'"
            )
            bare = "".join(f"!{c}" if c in "!%_" else c for c in text.lower())
            given.append(f"%{bare}%")
        if tag:
            clauses.append("EXISTS (SELECT 1 FROM json_each(body, '$.tags') t WHERE t.value = ?)")
            given.append(tag)
        if only is not None:
            ids = sorted(only)
            clauses.append(f"site IN ({', '.join('?' * len(ids))})")
            given += ids
        where = f"WHERE {' AND '.join(clauses)}"
        count = self.database.ask(f"SELECT count(*) FROM row {where}", given)[0][0]
        rows = self.database.ask(
            f"SELECT body FROM row {where} {_ORDER} LIMIT ? OFFSET ?", [*given, limit, offset]
        )
        return [str(row[0]) for row in rows], int(count)
