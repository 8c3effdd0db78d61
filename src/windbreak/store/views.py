"""What is kept ready for reading, and how far the projector has come with it.

Sites in one *situation* share what is said of their components, so a standing is kept once for a
situation, however many sites are in it. Rows of sites are ordered by the state and label of the
site that leads: a twin's row goes where its site's goes.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from windbreak.core.values.basics import WORST_FIRST
from windbreak.documents.products import Standing
from windbreak.documents.sites import SiteSummary
from windbreak.store.database import CHANGES_KEPT, Database

# Of a row: whether anything can be moved there now.
_REACHED = "link = 'linked' AND json_extract(body, '$.fault') IS NULL"
_KEY = "r.lead_rank, r.lead_label, r.lead, r.follows, r.site"


@dataclass(frozen=True)
class Wanted:
    """Which rows are asked for. ``only`` are the ids that may be among them."""

    equal: Mapping[str, str]
    text: str | None = None
    tag: str | None = None
    only: frozenset[str] | None = None
    limit: int = -1
    after: str | None = None  # the site that the page begins after


class Views:
    """The kept views of one service."""

    def __init__(self, database: Database) -> None:
        self.database = database

    # How far the projector has come.

    def reached(self) -> tuple[int, datetime | None]:
        """The generation that all views show, and when they came to it. Reads."""
        rows = self.database.ask("SELECT generation, as_of FROM projection")
        generation, as_of = rows[0]
        return int(generation), datetime.fromisoformat(as_of) if as_of else None

    def claim(self, who: str, now: datetime, until: datetime) -> bool:
        """Take the right to project until an instant, unless somebody else has it. Writes."""
        claimed = self.database.tell(
            "UPDATE projection SET claimed_by = ?, claimed_until = ? "
            "WHERE claimed_by IS NULL OR claimed_by = ? OR claimed_until < ?",
            [who, until.isoformat(), who, now.isoformat()],
        )
        return bool(claimed)

    def release(self, who: str) -> None:
        """Give the right to project back. Writes."""
        self.database.tell(
            "UPDATE projection SET claimed_by = NULL, claimed_until = NULL WHERE claimed_by = ?",
            [who],
        )

    def reach(self, generation: int, now: datetime) -> None:
        """Say that all views show a generation; older changes are no longer needed. Writes."""
        with self.database.transaction():
            self.database.tell(
                "UPDATE projection SET generation = ?, as_of = ?", [generation, now.isoformat()]
            )
            spare = 100  # for whoever reads meanwhile
            oldest = generation - CHANGES_KEPT - spare
            self.database.tell("DELETE FROM change WHERE generation <= ?", [oldest])

    # The timetable.

    def put_timetable(self, body: str) -> None:
        """Keep the timetable as it was made last, as JSON; marked where it leaves out others than
        before. Writes.
        """
        with self.database.transaction():
            before = self.timetable()
            self.database.tell(
                "INSERT INTO timetable VALUES (1, ?) "
                "ON CONFLICT(id) DO UPDATE SET body = excluded.body",
                [body],
            )
            if json.loads(before or "{}").get("left_out") != json.loads(body)["left_out"]:
                self.database.mark([("timetable", "")])

    def timetable(self) -> str | None:
        """The timetable as it was made last, as JSON. Reads."""
        rows = self.database.ask("SELECT body FROM timetable")
        return str(rows[0][0]) if rows else None

    # Rows of sites.

    def put_rows(self, rows: Iterable[tuple[SiteSummary, str | None]]) -> None:
        """Keep rows, each with the key of its situation. Writes. Rows that follow go along."""
        with self.database.transaction():
            self.database.tell_many(
                "INSERT INTO row VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) "
                "ON CONFLICT(site) DO UPDATE SET situation = excluded.situation, "
                "state = excluded.state, client = excluded.client, host = excluded.host, "
                "link = excluded.link, words = excluded.words, lead = excluded.lead, "
                "follows = excluded.follows, body = excluded.body, "
                "lead_rank = CASE WHEN excluded.follows THEN row.lead_rank "
                "ELSE excluded.lead_rank END, "
                "lead_label = CASE WHEN excluded.follows THEN row.lead_label "
                "ELSE excluded.lead_label END",
                [self._cells(row, situation) for row, situation in rows],
            )
            self.database.tell(
                "UPDATE row SET lead_rank = l.lead_rank, lead_label = l.lead_label "
                "FROM row l WHERE row.follows AND l.site = row.lead "
                "AND (row.lead_rank != l.lead_rank OR row.lead_label != l.lead_label)"
            )

    def _cells(self, row: SiteSummary, situation: str | None) -> tuple[object, ...]:
        lead = row.twin_of or row.id
        words = f"{row.label} {row.client} {row.address}".lower()
        rank = WORST_FIRST.index(row.state)
        return (
            *(row.id, situation, row.state, row.client, row.host, row.link, words),
            *(rank, row.label, lead, int(row.twin_of is not None), row.model_dump_json()),
        )

    def drop_row(self, site: str) -> None:
        """List a site no longer; what followed it stands by itself. Writes."""
        with self.database.transaction():
            self.database.tell("UPDATE row SET lead = site, follows = 0 WHERE lead = ?", [site])
            self.database.tell("DELETE FROM row WHERE site = ?", [site])

    def rows(self, wanted: Wanted) -> tuple[list[str], int, str | None]:
        """The rows that are wanted, as JSON, worst first; how many there are in all; and the last
        site, where there are more after it. Reads.
        """
        clauses, given = ["1"], list[object]()
        for name, value in wanted.equal.items():
            clauses.append(f"r.{name} = ?")
            given.append(value)
        if wanted.text:
            bare = "".join(f"!{c}" if c in "!%_" else c for c in wanted.text.lower())
            clauses.append("r.words LIKE ? ESCAPE '!'")
            given.append(f"%{bare}%")
        if wanted.tag:
            clauses.append("EXISTS (SELECT 1 FROM json_each(r.body, '$.tags') t WHERE t.value = ?)")
            given.append(wanted.tag)
        if wanted.only is not None:
            clauses.append(f"r.site IN ({', '.join('?' * len(wanted.only))})")
            given += sorted(wanted.only)
        where, place = f"WHERE {' AND '.join(clauses)}", ""
        if wanted.after is not None:
            place = f"AND ({_KEY}) > (SELECT {_KEY} FROM row r WHERE r.site = ?)"
        rows = self.database.ask(
            f"SELECT r.body, r.site FROM row r {where} {place} ORDER BY {_KEY} LIMIT ?",
            [
                *given,
                *([wanted.after] if wanted.after is not None else []),
                wanted.limit + 1 if wanted.limit >= 0 else -1,
            ],
        )
        more = 0 <= wanted.limit < len(rows)
        shown = rows[: wanted.limit] if more else rows
        bodies, last = [str(row[0]) for row in shown], str(shown[-1][1]) if more else None
        if not more and wanted.after is None:
            return bodies, len(bodies), None
        count = self.database.ask(f"SELECT count(*) FROM row r {where}", given)[0][0]
        return bodies, int(count), last

    def row(self, site: str) -> SiteSummary | None:
        """The row of one site, as it was kept last. Reads."""
        rows = self.database.ask("SELECT body FROM row WHERE site = ?", [site])
        return SiteSummary.model_validate_json(rows[0][0]) if rows else None

    def sites_that_move(self) -> list[tuple[str, str, int]]:
        """The linked sites of which some component may go on: id, label, how many. Reads."""
        rows = self.database.ask(
            "SELECT r.site, s.label, m.moves FROM row r JOIN site s ON s.id = r.site JOIN "
            "(SELECT situation, count(target) AS moves FROM standing GROUP BY situation) m "
            "ON m.situation = r.situation WHERE r.link = 'linked' AND m.moves ORDER BY r.site"
        )
        return [(str(site), str(label), int(moves)) for site, label, moves in rows]

    def moves_of_rows(self) -> list[tuple[bool, dict[str, int], int, int]]:
        """What waits on the sites, alike ones as one: whether they can be reached, the moves by
        kind, how many components are held, and how many sites it is so of. Reads.
        """
        rows = self.database.ask(
            f"SELECT {_REACHED}, "
            "json_extract(body, '$.moves') AS moves, json_extract(body, '$.held') AS held, "
            "count(*) FROM row GROUP BY 1, 2, 3"
        )
        return [(bool(r), json.loads(moves), int(held), int(n)) for r, moves, held, n in rows]

    def any_linked(self) -> bool:
        """Whether some site's agent answers. Reads."""
        return bool(self.database.ask("SELECT 1 FROM row WHERE link = 'linked' LIMIT 1"))

    def beyond_reach(self, sites: Sequence[str] | None = None) -> set[str]:
        """The sites whose rows say that nothing can be moved there now, of some or all. Reads."""
        some = [] if sites is None else list(sites)
        among = "" if sites is None else f" AND site IN ({', '.join('?' * len(some))})"
        rows = self.database.ask(f"SELECT site FROM row WHERE NOT ({_REACHED}){among}", some)
        return {str(site) for (site,) in rows}

    def situation_of(self, site: str) -> str | None:
        """The situation a site is in, as its row was made. Reads."""
        rows = self.database.ask("SELECT situation FROM row WHERE site = ?", [site])
        return str(rows[0][0]) if rows and rows[0][0] else None

    # Standings.

    def put_standings(self, situation: str, standings: Iterable[Standing]) -> None:
        """Keep how each component stands in a situation. Writes."""
        with self.database.transaction():
            self.database.tell("DELETE FROM standing WHERE situation = ?", [situation])
            self.database.tell_many(
                "INSERT INTO standing VALUES (?, ?, ?, ?, ?, ?)",
                [
                    (situation, s.product, s.state, s.version, s.target, _shared(s))
                    for s in standings
                ],
            )

    def has_standings(self, situations: Sequence[str]) -> set[str]:
        """The situations, of some, whose standings are kept. Reads."""
        marks = ", ".join("?" * len(situations))
        rows = self.database.ask(
            f"SELECT DISTINCT situation FROM standing WHERE situation IN ({marks})", situations
        )
        return {str(row[0]) for row in rows}

    def forget_situations(self) -> None:
        """Drop the standings of situations that no site is in any more. Writes."""
        self.database.tell(
            "DELETE FROM standing WHERE situation NOT IN "
            "(SELECT situation FROM row WHERE situation IS NOT NULL)"
        )

    def standings_of_site(self, site: str) -> list[Standing]:
        """How each component of a site stands, by product. Reads."""
        rows = self.database.ask(
            "SELECT s.body FROM row r JOIN standing s ON s.situation = r.situation "
            "WHERE r.site = ? ORDER BY s.product",
            [site],
        )
        return [_of_site(row[0], site) for row in rows]

    def standings_of_product(self, product: str) -> list[Standing]:
        """How a product stands on each site, by site. Reads."""
        rows = self.database.ask(
            "SELECT s.body, r.site FROM standing s JOIN row r ON r.situation = s.situation "
            "WHERE s.product = ? ORDER BY r.site",
            [product],
        )
        shared: dict[str, Standing] = {}
        standings = []
        for body, site in rows:
            if body not in shared:
                shared[body] = _of_site(body, site)
            standings.append(shared[body].model_copy(update={"site": site}))
        return standings

    def soaking(self, product: str) -> list[tuple[Standing, int]]:
        """How a product stands where only time is wanting, each with its count of sites. Reads."""
        rows = self.database.ask(
            "SELECT s.body, min(r.site), count(*) FROM standing s "
            "JOIN row r ON r.situation = s.situation "
            "WHERE s.product = ? AND json_extract(s.body, '$.until') IS NOT NULL "
            "GROUP BY s.situation ORDER BY min(r.site)",
            [product],
        )
        return [(_of_site(body, site), int(count)) for body, site, count in rows]

    def standings_in_situation(self, situation: str) -> dict[str, str]:
        """What is kept of each product in a situation, as JSON. Reads."""
        rows = self.database.ask(
            "SELECT product, body FROM standing WHERE situation = ?", [situation]
        )
        return {str(product): str(body) for product, body in rows}

    # Rows of products.

    def put_product_rows(self, rows: Mapping[str, str]) -> None:
        """Keep rows of products, as JSON. Writes."""
        self.database.tell_many(
            "INSERT INTO product_row VALUES (?, 0, ?) "
            "ON CONFLICT(product) DO UPDATE SET body = excluded.body",
            list(rows.items()),
        )

    def drop_product_row(self, product: str) -> None:
        """List a product no longer. Writes."""
        self.database.tell("DELETE FROM product_row WHERE product = ?", [product])

    def product_rows(self) -> list[str]:
        """The rows of all products, as JSON, by id. Reads."""
        rows = self.database.ask("SELECT body FROM product_row ORDER BY product")
        return [str(row[0]) for row in rows]


def _shared(standing: Standing) -> str:
    """A standing as it is kept: it is of every site in its situation."""
    return standing.model_dump_json(exclude={"site"})


def _of_site(body: str, site: str) -> Standing:
    return Standing.model_validate({**json.loads(body), "site": site})
