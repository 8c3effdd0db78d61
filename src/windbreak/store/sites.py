"""Hosts, sites, what is installed on them, and the keys of their agents."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import NamedTuple

import peewee

from windbreak.core.values.integrity import Integrity
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.sites import Host, Site
from windbreak.core.values.visits import Visit
from windbreak.store.database import Database, Mark
from windbreak.store.documents import Documents, Row, ids


class SiteNote(NamedTuple):
    """A site in few words; ``own`` are the components made for it."""

    id: str
    label: str
    client: str
    production: bool
    own: frozenset[str]


class HostRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "host"


class SiteRow(Row):
    id = peewee.TextField(primary_key=True)
    twin_of = peewee.TextField(null=True)
    client = peewee.TextField(null=True, index=True)
    host = peewee.TextField(null=True, index=True)
    address = peewee.TextField(null=True, index=True)
    label = peewee.TextField(null=True)
    retired = peewee.BooleanField(default=False)

    class Meta:
        table_name = "site"


class VisitRow(Row):
    id = peewee.TextField(primary_key=True)
    state = peewee.TextField()

    class Meta:
        table_name = "visit"


class IntegrityRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "integrity"


class InventoryRow(Row):
    id = peewee.TextField(primary_key=True)
    of_note = peewee.BooleanField(default=False)
    signature = peewee.TextField(null=True)

    class Meta:
        table_name = "inventory"


class Hosts(Documents[Host]):
    model, value = HostRow, Host

    def marks(self, before: Host | None, after: Host | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("host", value.id),)


def _for_nights(site: Site | None) -> dict[str, object] | None:
    """Of a site, what its nights can hang on: not what people note, nor when it was looked at."""
    if site is None:
        return None
    fields = dict(site) | {"link": (site.link.state, site.link.reason, site.link.agent_can)}
    return {name: value for name, value in fields.items() if name not in _NOT_OF_NIGHTS}


def _of_inventory_for_nights(inventory: Inventory | None) -> tuple[object, ...] | None:
    """Of what is on a site, what its nights can hang on."""
    if inventory is None:
        return None
    return inventory.components, inventory.registrations, inventory.limits, inventory.agent_can


_NOT_OF_NIGHTS = frozenset(
    (
        *("notes", "facts_at", "agent_minutes", "pages_minutes", "pages"),
        *("refreshed_at", "proved_at", "proved", "proof"),
    )
)


class Sites(Documents[Site]):
    model, value = SiteRow, Site

    def column(self, value: Site, name: str) -> object:
        return value.retired_at is not None if name == "retired" else getattr(value, name)

    def marks(self, before: Site | None, after: Site | None) -> Iterable[Mark]:
        value = after or before
        if value is not None:
            yield "site", value.id
            if _for_nights(before) != _for_nights(after):
                yield "night", value.id
            shown = [(s.label, s.environment, s.retired_at) if s else None for s in (before, after)]
            if shown[0] != shown[1]:
                yield "fleet", value.id

    def live(self) -> list[Site]:
        """The sites that are not retired, by id. Reads."""
        return self.all(retired=False)

    def clients(self) -> list[str]:
        """The clients of all sites, retired ones too, in order. Reads."""
        column = SiteRow.client
        query = SiteRow.select(column).where(column != "").distinct().order_by(column)
        return ids(self.database.ask(*query.sql()))

    def ids_of_client(self, client: str) -> set[str]:
        """The ids of a client's sites, retired ones too. Reads."""
        return set(ids(self.database.ask("SELECT id FROM site WHERE client = ?", [client])))

    def labels(self, sites: Sequence[str]) -> dict[str, str]:
        """The labels of some sites, by id. Reads."""
        marks = ", ".join("?" * len(sites))
        rows = self.database.ask(f"SELECT id, label FROM site WHERE id IN ({marks})", sites)
        return {str(id): str(label) for id, label in rows}

    def notes(self) -> dict[str, SiteNote]:
        """The few things of every site that views of many sites need, by id. Reads."""
        rows = self.database.ask(
            "SELECT id, label, json_extract(body, '$.client'), "
            "json_extract(body, '$.environment') = 'production', "
            "json_extract(body, '$.own') FROM site"
        )
        return {
            str(id): SiteNote(
                str(id), str(label), str(client), bool(live), frozenset(json.loads(own or "[]"))
            )
            for id, label, client, live, own in rows
        }

    def live_ids(self) -> list[str]:
        """The ids of the sites that are not retired. Reads."""
        return ids(self.database.ask("SELECT id FROM site WHERE NOT retired ORDER BY id"))

    def ids_on(self, host: str | None) -> set[str]:
        """The ids of the sites on a host, retired ones too; None: of those on no host. Reads."""
        return set(ids(self.database.ask("SELECT id FROM site WHERE host IS ?", [host])))

    def at(self, address: str) -> Site | None:
        """The site at an address that is not retired. Reads."""
        sites = self.all(address=address, retired=False)
        return sites[0] if sites else None

    def named(self, wanted: str) -> list[Site]:
        """The sites that a person may mean: by id, else by label or part of one. Reads."""
        exact = self.find(wanted)
        if exact is not None:
            return [exact]
        word = "".join(f"!{c}" if c in "!%_" else c for c in wanted.lower())
        for pattern in (word, f"{word}%", f"%{word}%"):
            rows = self.database.ask(
                "SELECT body FROM site WHERE id LIKE ? ESCAPE '!' "
                "OR lower(label) LIKE ? ESCAPE '!' ORDER BY retired, id LIMIT 20",
                [pattern, pattern],
            )
            if rows:
                return [Site.model_validate_json(row[0]) for row in rows]
        return []


class Visits(Documents[Visit]):
    """What visitors see. A look that sees the same as before touches nothing."""

    model, value = VisitRow, Visit

    def marks(self, before: Visit | None, after: Visit | None) -> Iterable[Mark]:
        value = after or before
        shown = [(v.state, v.reason, v.members) if v else None for v in (before, after)]
        if value is not None and shown[0] != shown[1]:
            yield "site", value.id


class Integrities(Documents[Integrity]):
    """What stands in the folders of sites. A look that sees the same as before touches nothing."""

    model, value = IntegrityRow, Integrity

    def marks(self, before: Integrity | None, after: Integrity | None) -> Iterable[Mark]:
        value = after or before
        seen = [v.components if v else None for v in (before, after)]
        if value is not None and seen[0] != seen[1]:
            yield "files", value.id


class Inventories(Documents[Inventory]):
    """What is installed. ``put`` is the one way in: whole, and as rows that can be asked.

    Only ``operations.sites.inventories`` calls it, which applies what is known of folders first.
    """

    model, value = InventoryRow, Inventory

    def column(self, value: Inventory, name: str) -> object:
        if name == "signature":
            return value.signature
        return bool(value.registrations) or any(c.maker is not None for c in value.components)

    def signatures(self, sites: Sequence[str] | None = None) -> dict[str, str]:
        """By site, what inventories share when the reasoning sees no difference. Reads."""
        where = "" if sites is None else f"WHERE id IN ({', '.join('?' * len(sites))})"
        rows = self.database.ask(
            "SELECT id, signature, CASE WHEN signature IS NULL THEN body END "
            f"FROM inventory {where}",
            sites or (),
        )
        return {
            str(site): signature or Inventory.model_validate_json(body).signature
            for site, signature, body in rows
        }

    def marks(self, before: Inventory | None, after: Inventory | None) -> Iterable[Mark]:
        value = after or before
        if value is None:
            return
        yield "site", value.id
        if _of_inventory_for_nights(before) != _of_inventory_for_nights(after):
            yield "night", value.id
        if (before.registrations if before else ()) != (after.registrations if after else ()):
            yield "registration", value.id
        was = {c.product: c.version for c in before.components} if before else {}
        now = {c.product: c.version for c in after.components} if after else {}
        for product in sorted(was.keys() | now.keys()):
            if was.get(product) != now.get(product):
                yield "installed", product

    def put(self, value: Inventory, id: str | int | None = None) -> Inventory:
        with self.database.transaction():
            super().put(value, id)
            self.database.tell("DELETE FROM component WHERE site = ?", [value.id])
            self.database.tell_many(
                "INSERT OR REPLACE INTO component VALUES (?, ?, ?, ?)",
                [(value.id, c.product, c.version, int(c.active)) for c in value.components],
            )
        return value

    def of_note(self) -> list[Inventory]:
        """Those that tell of registrations, or name a component's maker. Reads."""
        return self.all(of_note=True)

    def installed(self, product: str | None = None) -> list[tuple[str, str, str, bool]]:
        """Site, product, version and whether active, of one product or all. Reads.

        Sites that are retired do not count.
        """
        where, given = ("AND c.product = ?", [product]) if product else ("", [])
        rows = self.database.ask(
            "SELECT c.site, c.product, c.version, c.active FROM component c JOIN site s "
            f"ON s.id = c.site WHERE NOT s.retired {where} ORDER BY c.site, c.product",
            given,
        )
        return [(str(s), str(p), str(v), bool(a)) for s, p, v, a in rows]

    def versions_in_use(self, product: str | None = None) -> list[tuple[str, str, int]]:
        """Product, version and on how many sites, of one product or all. Reads."""
        where, given = ("AND c.product = ?", [product]) if product else ("", [])
        rows = self.database.ask(
            "SELECT c.product, c.version, count(*) FROM component c JOIN site s ON s.id = c.site "
            f"WHERE NOT s.retired {where} GROUP BY c.product, c.version",
            given,
        )
        return [(str(p), str(v), int(n)) for p, v, n in rows]

    def running(self, versions: Iterable[tuple[str, str]]) -> set[str]:
        """The sites that run one of some versions, each with its product. Reads."""
        sites: set[str] = set()
        for product, version in versions:
            rows = self.database.ask(
                "SELECT site FROM component WHERE product = ? AND version = ?", [product, version]
            )
            sites.update(str(row[0]) for row in rows)
        return sites

    def sites_with(self, products: Iterable[str]) -> list[str]:
        """The sites that have one of some products installed. Reads."""
        wanted = sorted(products)
        marks = ", ".join("?" * len(wanted))
        rows = self.database.ask(
            f"SELECT DISTINCT site FROM component WHERE product IN ({marks})", wanted
        )
        return [str(row[0]) for row in rows]


class Agents:
    """The one-time codes and the keys by which sites are linked."""

    def __init__(self, database: Database) -> None:
        self.database = database

    def set_code(self, site: str, code: str, good_until: datetime) -> None:
        """Keep the one-time code of a site's link, in the place of an older one. Writes."""
        self.database.tell(
            "INSERT INTO link_code VALUES (?, ?, ?) ON CONFLICT(site) DO UPDATE "
            "SET code = excluded.code, good_until = excluded.good_until",
            [site, code, good_until.isoformat()],
        )

    def code(self, site: str) -> tuple[str, datetime] | None:
        """The one-time code of a site's link and its end. Reads."""
        rows = self.database.ask("SELECT code, good_until FROM link_code WHERE site = ?", [site])
        return (str(rows[0][0]), datetime.fromisoformat(rows[0][1])) if rows else None

    def set_key(self, site: str, agent_id: str, public_key: str) -> None:
        """Keep the key of a site's agent and spend its code. Writes."""
        with self.database.transaction():
            self.database.tell(
                "INSERT INTO agent_key VALUES (?, ?, ?) ON CONFLICT(site) DO UPDATE "
                "SET agent_id = excluded.agent_id, public_key = excluded.public_key",
                [site, agent_id, public_key],
            )
            self.database.tell("DELETE FROM link_code WHERE site = ?", [site])

    def key(self, site: str) -> tuple[str, str] | None:
        """The id and public key of a site's agent. Reads."""
        rows = self.database.ask(
            "SELECT agent_id, public_key FROM agent_key WHERE site = ?", [site]
        )
        return (str(rows[0][0]), str(rows[0][1])) if rows else None

    def site_of(self, agent_id: str) -> str | None:
        """The site an agent id is bound to. Reads."""
        rows = self.database.ask("SELECT site FROM agent_key WHERE agent_id = ?", [agent_id])
        return str(rows[0][0]) if rows else None

    def drop_key(self, site: str) -> None:
        """Forget the key of a site's agent: the link is ended on our side. Writes."""
        self.database.tell("DELETE FROM agent_key WHERE site = ?", [site])
