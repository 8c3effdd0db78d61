"""Everything a service keeps, by aggregate, and the few things that are no documents."""

from __future__ import annotations

import json
from datetime import datetime
from pathlib import Path
from typing import TypeVar

from pydantic import BaseModel

from windbreak.core.values.accounts import Account, Token
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.bookings import Booking, Rollout
from windbreak.core.values.feeds import Feed
from windbreak.core.values.findings import Finding
from windbreak.core.values.holds import StandingHold
from windbreak.core.values.hooks import Delivery, Hook
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.ledger import Event, LedgerEntry
from windbreak.core.values.licences import Licence, Seat
from windbreak.core.values.packages import Package, ShelfRight
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.policy import Rule
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.values.runs import JournalEntry, Run
from windbreak.core.values.sites import Host, Site
from windbreak.core.values.ties import KnownClash, KnownLockstep
from windbreak.core.versions.version import parse_version
from windbreak.store.database import Database, Documents
from windbreak.store.rows import Rows

T = TypeVar("T", bound=BaseModel)


class Store:
    """The kept things of one service. Opening it brings the file to the newest shape."""

    def __init__(self, path: Path) -> None:
        self.database = Database(path)
        self.transaction = self.database.transaction
        self.close = self.database.close
        self.accounts = self._documents("account", Account)
        self.tokens = self._documents("token", Token)
        self.hosts = self._documents("host", Host)
        self.sites = self._documents("site", Site, "twin_of")
        self.inventories = self._documents("inventory", Inventory)
        self.products = self._documents("product", KnownProduct)
        self.feeds = self._documents("feed", Feed)
        self.releases = self._documents("release", KnownRelease, "product", "feed")
        self.packages = self._documents("package", Package, "product")
        self.advisories = self._documents("advisory", KnownAdvisory, "product", "feed")
        self.rights = self._documents("shelf_right", ShelfRight, "site", "product")
        self.licences = self._documents("licence", Licence)
        self.seats = self._documents("seat", Seat, "licence", "site")
        self.hooks = self._documents("hook", Hook)
        self.deliveries = self._documents("delivery", Delivery, "hook", "state")
        self.rows = Rows(self.database)
        self.holds = self._documents("hold", StandingHold)
        self.rules = self._documents("rule", Rule)
        self.locksteps = self._documents("lockstep", KnownLockstep)
        self.clashes = self._documents("clash", KnownClash)
        self.plans = self._documents("plan", SitePlan, "site")
        self.bookings = self._documents("booking", Booking, "site", "state")
        self.rollouts = self._documents("rollout", Rollout, "state")
        self.runs = self._documents("run", Run, "site", "state")
        self.journal = self._documents("journal", JournalEntry, "run")
        self.findings = self._documents("finding", Finding, "kind")
        self.ledger = self._documents("ledger", LedgerEntry, "subject")
        self.events = self._documents("event", Event)

    def _documents(self, table: str, model: type[T], *columns: str) -> Documents[T]:
        return Documents(self.database, table, model, columns)

    def sealed(self, name: str) -> bytes | None:
        """A sealed secret; only the sealer can open it. Reads."""
        rows = self.database.ask("SELECT sealed FROM secret WHERE name = ?", [name])
        return bytes(rows[0][0]) if rows else None

    def set_sealed(self, name: str, sealed: bytes) -> None:
        """Keep a sealed secret. Writes."""
        self.database.tell(
            "INSERT INTO secret VALUES (?, ?) "
            "ON CONFLICT(name) DO UPDATE SET sealed = excluded.sealed",
            [name, sealed],
        )

    def drop_sealed(self, name: str) -> None:
        """Forget a sealed secret. Writes."""
        self.database.tell("DELETE FROM secret WHERE name = ?", [name])

    def fact(self, name: str) -> str | None:
        """A fact of this service, as its instance id. Reads."""
        rows = self.database.ask("SELECT value FROM fact WHERE name = ?", [name])
        return str(rows[0][0]) if rows else None

    def set_fact(self, name: str, value: str) -> None:
        """Keep a fact of this service. Writes."""
        self.database.tell(
            "INSERT INTO fact VALUES (?, ?) ON CONFLICT(name) DO UPDATE SET value = excluded.value",
            [name, value],
        )

    def site_at(self, address: str) -> Site | None:
        """The site at an address that is not retired. Reads."""
        rows = self.database.ask(
            "SELECT body FROM site WHERE json_extract(body, '$.address') = ?", [address]
        )
        found = (Site.model_validate_json(row[0]) for row in rows)
        return next((site for site in found if site.retired_at is None), None)

    def put_inventory(self, inventory: Inventory) -> None:
        """Keep what is on a site, whole and as rows that can be asked. Writes."""
        with self.transaction():
            self.inventories.put(inventory)
            self.database.tell("DELETE FROM component WHERE site = ?", [inventory.id])
            for one in inventory.components:
                self.database.tell(
                    "INSERT OR REPLACE INTO component VALUES (?, ?, ?, ?)",
                    [inventory.id, one.product, one.version, int(one.active)],
                )

    def installed(self, product: str | None = None) -> list[tuple[str, str, str, bool]]:
        """Site, product, version and whether active, of one product or all. Reads.

        Sites that are retired do not count.
        """
        where, given = ("AND c.product = ?", [product]) if product else ("", [])
        rows = self.database.ask(
            "SELECT c.site, c.product, c.version, c.active FROM component c JOIN site s "
            f"ON s.id = c.site WHERE json_extract(s.body, '$.retired_at') IS NULL {where} "
            "ORDER BY c.site, c.product",
            given,
        )
        return [(str(s), str(p), str(v), bool(a)) for s, p, v, a in rows]

    def products_told(self, feed: str | None = None) -> set[str]:
        """The products that releases are known of, of one feed's or any. Reads."""
        where, given = ("WHERE feed = ?", [feed]) if feed else ("", [])
        rows = self.database.ask(f"SELECT DISTINCT product FROM release {where}", given)
        return {str(row[0]) for row in rows}

    def products_in_hand(self) -> set[str]:
        """The products that have a package on the shelf. Reads."""
        rows = self.database.ask("SELECT DISTINCT product FROM package")
        return {str(row[0]) for row in rows}

    def approved(self, site: str | None = None) -> dict[str, dict[str, str]]:
        """What is approved, for one site or each: its products with their targets. Reads."""
        where, given = ("AND site = ?", [site]) if site else ("", [])
        rows = self.database.ask(
            "SELECT site, json_extract(body, '$.targets') FROM plan "
            f"WHERE json_extract(body, '$.state') = 'approved' {where} ORDER BY id",
            given,
        )
        return {str(site): dict(json.loads(targets)) for site, targets in rows}

    def last_runs(self) -> dict[str, Run]:
        """The newest run of each site that has had one. Reads."""
        rows = self.database.ask(
            "SELECT body FROM run WHERE id IN (SELECT max(id) FROM run GROUP BY site)"
        )
        found = (Run.model_validate_json(row[0]) for row in rows)
        return {run.site: run for run in found}

    def inventories_of_note(self) -> list[Inventory]:
        """The inventories that tell of registrations, or name a component's maker. Reads."""
        rows = self.database.ask(
            "SELECT body FROM inventory WHERE json_array_length(body, '$.registrations') > 0 "
            "OR EXISTS (SELECT 1 FROM json_each(body, '$.components') c "
            "WHERE json_extract(c.value, '$.maker') IS NOT NULL)"
        )
        return [Inventory.model_validate_json(row[0]) for row in rows]

    def release_id(self, product: str, version: str) -> str:
        """The id a release is kept under: equal versions share one, however they are written."""
        known = parse_version(version)
        for release in self.releases.all(product=product):
            if parse_version(release.version) == known:
                return f"{product}@{release.version}"
        return f"{product}@{version}"

    def set_link_code(self, site: str, code: str, good_until: datetime) -> None:
        """Keep the one-time code of a site's link, in the place of an older one. Writes."""
        self.database.tell(
            "INSERT INTO link_code VALUES (?, ?, ?) ON CONFLICT(site) DO UPDATE "
            "SET code = excluded.code, good_until = excluded.good_until",
            [site, code, good_until.isoformat()],
        )

    def link_code(self, site: str) -> tuple[str, datetime] | None:
        """The one-time code of a site's link and its end. Reads."""
        rows = self.database.ask("SELECT code, good_until FROM link_code WHERE site = ?", [site])
        return (str(rows[0][0]), datetime.fromisoformat(rows[0][1])) if rows else None

    def set_agent_key(self, site: str, agent_id: str, public_key: str) -> None:
        """Keep the key of a site's agent and spend its code. Writes."""
        with self.transaction():
            self.database.tell(
                "INSERT INTO agent_key VALUES (?, ?, ?) ON CONFLICT(site) DO UPDATE "
                "SET agent_id = excluded.agent_id, public_key = excluded.public_key",
                [site, agent_id, public_key],
            )
            self.database.tell("DELETE FROM link_code WHERE site = ?", [site])

    def agent_key(self, site: str) -> tuple[str, str] | None:
        """The id and public key of a site's agent. Reads."""
        rows = self.database.ask(
            "SELECT agent_id, public_key FROM agent_key WHERE site = ?", [site]
        )
        return (str(rows[0][0]), str(rows[0][1])) if rows else None

    def agent_site(self, agent_id: str) -> str | None:
        """The site an agent id is bound to. Reads."""
        rows = self.database.ask("SELECT site FROM agent_key WHERE agent_id = ?", [agent_id])
        return str(rows[0][0]) if rows else None

    def drop_agent_key(self, site: str) -> None:
        """Forget the key of a site's agent: the link is ended on our side. Writes."""
        self.database.tell("DELETE FROM agent_key WHERE site = ?", [site])

    def token_by_hash(self, hash: str) -> tuple[Token, str, str, datetime | None] | None:
        """A token, its account, its kind and its end, by the hash of its secret. Reads."""
        rows = self.database.ask(
            "SELECT body, account, kind, expires_at FROM token WHERE hash = ?", [hash]
        )
        if not rows:
            return None
        body, account, kind, expires = rows[0]
        end = datetime.fromisoformat(expires) if expires else None
        return Token.model_validate_json(body), str(account), str(kind), end

    def events_after(self, id: int, limit: int = 200) -> list[Event]:
        """The events after one, oldest first. Reads."""
        rows = self.database.ask(
            "SELECT body FROM event WHERE id > ? ORDER BY id LIMIT ?", [id, limit]
        )
        return [Event.model_validate_json(row[0]) for row in rows]

    def last_event(self) -> int:
        """The id of the newest event; 0 when there is none. Reads."""
        return int(self.database.ask("SELECT coalesce(max(id), 0) FROM event")[0][0])
