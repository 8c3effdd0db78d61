"""Millrace: a small content system whose working depends on the versions installed.

A site is a folder: ``core/millrace``, ``themes/*`` and ``plugins/*``, each with its header
file; ``site.db`` with content, orders and settings; ``cache`` and ``maintenance``. Nothing is
remembered between requests: every page is made from what lies there now.

What a component does not stand is in its header, and is what really happens, whatever a feed
says: ``[[stands]]`` names another product, the range it works with, and the effect otherwise
("editor": the editor opens empty; "page": status 500; "blank": status 200 without a byte; "log":
pages are fine and the error log is not). ``stores`` numbers the form in which it keeps its own
data: a newer form is written at the first request, and an older version can't read it any more;
where it says ``migrates`` the data is moved by a migration instead, and it complains until then.
What says ``generates`` makes files from itself, which are stale after an update until made anew.
"""

from __future__ import annotations

import hashlib
import html
import json
import shutil
import sqlite3
import tomllib
from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple

from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.version import parse_version
from windbreak.packages.headers import MILLRACE as HEADER
from windbreak.standins import clock

FOLDERS = {"core": "core", "theme": "themes", "plugin": "plugins"}
PAGES = (("Front page", "/"), ("News", "/news"), ("Visit", "/visit"), ("A news item", "/news/1"))

_LITTLE = 100  # MB
_ORDERED = (
    ("2 wreaths, to be sent", "34.50, paid"),
    ("1 bouquet, to be fetched", "61.00, paid"),
    ("12 bulbs, to be sent", "18.20, on account"),
)


class Part(NamedTuple):
    """A site of a network: its first folder in addresses, and what is on there beside the rest."""

    slug: str
    name: str
    on: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Found:
    """A component as it lies in its folder; ``header`` None where that can't be read."""

    kind: str
    folder: str
    header: dict[str, Any] | None

    @property
    def product(self) -> str:
        return f"{self.kind}/{self.folder}"

    @property
    def version(self) -> str:
        return str((self.header or {}).get("version", "0"))

    @property
    def stores(self) -> int:
        """The number of the form in which it keeps its data."""
        return int((self.header or {}).get("stores", 1))


class MillraceSite:
    """One site's folder: read, rendered, changed."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.cache = root / "cache"
        self.maintenance = root / "maintenance"

    @contextmanager
    def database(self) -> Iterator[sqlite3.Connection]:
        path = self.root / "site.db"
        with closing(sqlite3.connect(path, timeout=10)) as connection, connection:
            yield connection

    def create(self, title: str, *, orders: int = 0) -> None:
        """Make an empty site of a title, with some content, and orders where it has a shop."""
        self.root.mkdir(parents=True, exist_ok=True)
        for folder in FOLDERS.values():
            (self.root / folder).mkdir(exist_ok=True)
        with self.database() as db:
            db.executescript(
                "CREATE TABLE content (id INTEGER PRIMARY KEY, type TEXT, slug TEXT, title TEXT,"
                " blocks TEXT, at TEXT); CREATE TABLE orders (id INTEGER PRIMARY KEY, at TEXT);"
                "CREATE TABLE settings (name TEXT PRIMARY KEY, value TEXT);"
                "CREATE TABLE log (id INTEGER PRIMARY KEY, at TEXT, text TEXT);"
            )
            now = clock.now().isoformat()
            pages = [("page", "", title), ("page", "visit", "Visit us"), ("page", "news", "News")]
            news = [("news", str(n), f"Notice {n} from {title}") for n in range(1, 6)]
            for type_, slug, heading in pages + news:
                where = "Find us." if slug == "visit" else "Opening hours"
                blocks = json.dumps([heading, f"Words about {heading}.", "A picture", where])
                db.execute(
                    "INSERT INTO content (type, slug, title, blocks, at) VALUES (?,?,?,?,?)",
                    (type_, slug, heading, blocks, now),
                )
            db.executemany("INSERT INTO orders (at) VALUES (?)", [(now,)] * orders)
            self._set(db, "title", title)
            self._set(db, "automatic_updates", "on")
            self._set(db, "caches", "on")
            self._set(db, "runtime", json.dumps({}))

    @staticmethod
    def _set(db: sqlite3.Connection, name: str, value: str) -> None:
        db.execute("INSERT OR REPLACE INTO settings VALUES (?, ?)", (name, value))

    def setting(self, name: str, default: str = "") -> str:
        with self.database() as db:
            row = db.execute("SELECT value FROM settings WHERE name = ?", (name,)).fetchone()
        return str(row[0]) if row else default

    def set_setting(self, name: str, value: str) -> None:
        with self.database() as db:
            self._set(db, name, value)

    def runtime(self) -> dict[str, str]:
        """The runtime the host runs this site on: ``{"runtime/loom": "8.1"}``."""
        return dict(json.loads(self.setting("runtime", "{}")))

    def components(self) -> list[Found]:
        components = []
        for kind, folder in FOLDERS.items():
            for path in sorted((self.root / folder).iterdir()):
                if path.is_dir():
                    components.append(Found(kind, path.name, _header(path)))
        return components

    def active(self, component: Found, components: list[Found]) -> bool:
        """A theme is active when chosen, or when the chosen one is its child; a plugin when it is
        on for all, or on some member.
        """
        if component.kind == "core":
            return True
        chosen = self.setting("theme")
        if component.kind == "plugin" and any(component.product in m.on for m in self.members()):
            return True
        if component.kind == "theme":
            child = next((c for c in components if c.kind == "theme" and c.folder == chosen), None)
            parent = (child.header or {}).get("parent") if child else None
            return component.folder in (chosen, parent)
        return self.setting(f"on:{component.product}", "off") == "on"

    def switch(self, product: str, on: bool) -> None:
        self.set_setting(f"on:{product}", "on" if on else "off")

    # A network: one installation, sites at addresses of their own.

    def members(self) -> list[Part]:
        return [
            Part(str(m["slug"]), str(m["name"]), tuple(m["on"]))
            for m in json.loads(self.setting("network", "[]"))
        ]

    def found_network(self, members: Iterable[Part]) -> None:
        """Make this the network of some sites, each with a front page of its own."""
        members = tuple(members)
        self.set_setting("network", json.dumps([m._asdict() for m in members]))
        with self.database() as db:
            for member in members:
                blocks = json.dumps([member.name, f"Words about {member.name}.", "A picture"])
                db.execute(
                    "INSERT INTO content (type, slug, title, blocks, at) VALUES ('page',?,?,?,?)",
                    (member.slug, member.name, blocks, clock.now().isoformat()),
                )

    def _is_on(self, component: Found, components: list[Found], member: str | None) -> bool:
        """Whether a component works on a page: of one member, or of the site itself."""
        if not self.active(component, components):
            return False
        beside = [m for m in self.members() if component.product in m.on]
        for_all = self.setting(f"on:{component.product}", "off") == "on"
        return not beside or for_all or any(m.slug == member for m in beside)

    def effects(self, member: str | None = None) -> dict[str, str]:
        """What does not work as things lie now: effect to its cause, as it goes to the log. On a
        network what is on for all works everywhere, and some things on some members only.
        """
        components = self.components()
        active = [c for c in components if self._is_on(c, components, member)]
        versions = {c.product: c.version for c in active} | self.runtime()
        effects: dict[str, str] = {}
        chosen = self.setting("theme")
        if not any(c.kind == "theme" and c.folder == chosen for c in components):
            effects["page"] = f"Fatal fault: the theme {chosen} is not there"
        if not any(c.kind == "core" for c in components):
            effects["page"] = "Fatal fault: there is no core"
        for component in active:
            if component.header is None:
                effects["page"] = f"Fatal fault: {component.folder} has no header that can be read"
                continue
            stores, kept = component.stores, self.form(component)
            if self.waits_for_migration(component):
                cause = f"{component.product} {component.version} waits for its migration"
                effects.setdefault("log", f"Fault: {cause}")
            elif stores > kept:
                self.set_setting(f"form:{component.product}", str(stores))
            elif stores < kept:
                cause = f"{component.product} {component.version} can't read its data, form {kept}"
                effects.setdefault("page", f"Fatal fault: {cause}")
            if component.header.get("generates") and self.generated(component) != component.version:
                cause = f"the styles of {component.product} are of {self.generated(component)}"
                effects.setdefault("log", f"Fault: {cause}, it is {component.version}")
            for effect, name in (("blank", "white"), ("editor", "editor")):
                if self.setting(f"spoilt:{name}:{component.product}") == component.version:
                    effects.setdefault(effect, f"Fatal fault: {component.product} gave up")
            for rule in component.header.get("stands", ()):
                other = rule["product"]
                if other not in versions:
                    holds = not rule.get("needed", False)
                else:
                    holds = parse_version(versions[other]) in parse_range(rule["range"])
                if not holds:
                    have = versions.get(other, "absent")
                    cause = f"{component.product} {component.version} with {other} {have}"
                    effects.setdefault(rule.get("effect", "page"), f"Fatal fault: {cause}")
        return effects

    def complaints(self) -> list[dict[str, str]]:
        """What plugins say of the theme in use: that its copies of their templates are old."""
        components = self.components()
        active = [c for c in components if self.active(c, components)]
        texts = []
        for theme in (c for c in active if c.kind == "theme"):
            for plugin in (c for c in active if c.kind == "plugin"):
                copy = self.root / "themes" / theme.folder / "templates" / f"{plugin.folder}.txt"
                if not copy.exists():
                    continue
                of = copy.read_text().split()[-1]
                if parse_version(of) < parse_version(plugin.version):
                    text = (
                        f"its copy of a template is of {of}, and the template is {plugin.version}"
                    )
                    texts.append({"by": plugin.product, "about": theme.product, "text": text})
        return texts

    def checks(self) -> list[dict[str, str]]:
        """Its own health checks: those that are always made, in which nothing is ever amiss but
        room, and what stands in a setting.
        """
        room = shutil.disk_usage(self.root).free // 2**20
        by_name = {
            "database": {"name": "The database answers", "state": "good"},
            "own-address": {"name": "It reaches itself", "state": "good"},
            "scheduled": {"name": "Scheduled work is done", "state": "good"},
            "mail": {"name": "Mail is sent", "state": "good"},
            "certificate": {"name": "The certificate is renewed", "state": "good"},
            "room": {"name": "There is room", "state": "good" if room > _LITTLE else "critical"},
        }
        by_name |= json.loads(self.setting("checks", "{}"))
        return [{"id": id, **check} for id, check in by_name.items()]

    # What a component keeps, and what it makes from itself.

    def form(self, component: Found) -> int:
        """The number of the form in which a component's data is kept now."""
        return int(self.setting(f"form:{component.product}", "1"))

    def waits_for_migration(self, component: Found) -> bool:
        header = component.header or {}
        return bool(header.get("migrates")) and component.stores > self.form(component)

    def moved(self, product: str) -> int:
        """How many portions of a migration that was begun have been moved."""
        return int(self.setting(f"moved:{product}", "0"))

    def migrated(self, component: Found) -> None:
        self.set_setting(f"form:{component.product}", str(component.stores))
        self.set_setting(f"moved:{component.product}", "0")

    def generate(self, component: Found) -> None:
        """Make the files anew that a component makes from itself."""
        place = self.root / "generated"
        place.mkdir(exist_ok=True)
        (place / component.folder).write_text(component.version)

    def generated(self, component: Found) -> str:
        """The version that a component's generated files are of; "nothing" where there are none."""
        file = self.root / "generated" / component.folder
        return file.read_text() if file.exists() else "nothing"

    def settle(self, address: str) -> None:
        """Let the site know its own address, as its content names it."""
        with self.database() as db:
            self._set(db, "address", address)
            db.execute(
                "UPDATE content SET blocks = replace(blocks, 'Find us.', ?)",
                (f"Find us: {address}/",),
            )

    def move_in(self, old: MillraceSite, was: str) -> None:
        """Make this, a copy of another site, the site in whose place it goes: its address in the
        place of the other's, the seats of the one that was there, and no one else's.
        """
        own = old.setting("address")
        mine = ("code:%", "grace_since:%")
        with self.database() as db:
            for like in mine:
                db.execute("DELETE FROM settings WHERE name LIKE ?", (like,))
            db.execute("UPDATE content SET blocks = replace(blocks, ?, ?)", (was.rstrip("/"), own))
            self._set(db, "address", own)
        with old.database() as db:
            kept = [
                row
                for like in mine
                for row in db.execute("SELECT name, value FROM settings WHERE name LIKE ?", (like,))
            ]
        for name, value in kept:
            self.set_setting(name, value)

    def came(self, since: datetime) -> list[dict[str, str]]:
        """What visitors and editors wrote since an instant, oldest first."""
        with self.database() as db:
            orders = db.execute("SELECT id, at FROM orders ORDER BY id").fetchall()
            content = db.execute("SELECT type, title, at FROM content ORDER BY id").fetchall()
        came = [{"kind": str(t), "name": str(title), "at": str(at)} for t, title, at in content]
        for id_, at in orders:
            what, amount = _ORDERED[id_ % len(_ORDERED)]
            came.append(
                {"kind": "orders", "name": str(id_), "at": str(at), "text": what, "amount": amount}
            )
        stamped = [{**item, "at": _instant(item["at"]).isoformat()} for item in came]
        late = [item for item in stamped if _instant(item["at"]) > since]
        return sorted(late, key=lambda item: item["at"])

    def order(self) -> None:
        """An order comes in."""
        with self.database() as db:
            db.execute("INSERT INTO orders (at) VALUES (?)", (clock.now().isoformat(),))

    def log(self, text: str) -> None:
        with self.database() as db:
            db.execute("INSERT INTO log (at, text) VALUES (?, ?)", (clock.now().isoformat(), text))

    def page(self, path: str, *, past_caches: bool, past_page: bool = False) -> tuple[int, str]:
        """The status and text of a page; ``past_page``: as it is behind the maintenance page."""
        if self.maintenance.exists() and not past_page:
            return 503, "<title>Back soon</title><h1>Back soon</h1>"
        caching = self.setting("on:plugin/lee") == "on" and self.setting("caches") == "on"
        kept = self.cache / f"{hashlib.sha256(path.encode()).hexdigest()}.html"
        if caching and not past_caches and kept.exists():
            return 200, kept.read_text()
        effects = self.effects(path.strip("/").partition("/")[0])
        if "page" in effects:
            self.log(effects["page"])
            return 500, f"<title>Fault</title><p>{html.escape(effects['page'])}</p>"
        if "blank" in effects:
            self.log(effects["blank"])
            return 200, ""
        if "log" in effects:
            self.log(effects["log"])
        status, text = self._render(path)
        if caching and status == 200 and not past_caches:
            self.cache.mkdir(exist_ok=True)
            kept.write_text(text)
        return status, text

    def _render(self, path: str) -> tuple[int, str]:
        slug = path.strip("/").removeprefix("news/")
        with self.database() as db:
            row = db.execute("SELECT title, blocks FROM content WHERE slug = ?", (slug,)).fetchone()
            news = db.execute("SELECT slug, title FROM content WHERE type = 'news'").fetchall()
        if row is None:
            return 404, "<title>Not found</title><h1>Not found</h1>"
        site, components = self.setting("title"), self.components()
        body = "".join(f"<p>{html.escape(block)}</p>" for block in json.loads(row[1]))
        if slug == "news":
            body += "".join(f'<p><a href="/news/{s}">{html.escape(t)}</a></p>' for s, t in news)
        made = ", ".join(
            f"{(c.header or {}).get('name', c.folder)} {c.version}"
            for c in components
            if c.kind in ("core", "theme") and self.active(c, components)
        )
        return 200, (
            f"<!doctype html><html lang=en><title>{html.escape(row[0])} · {html.escape(site)}"
            f"</title><h1>{html.escape(row[0])}</h1>{body}<footer>{html.escape(made)}</footer>"
        )

    def editor(self, slug: str) -> tuple[int, str]:
        """The editor of a page: its blocks, or an empty sheet when something stands in its way."""
        effects = self.effects()
        if "page" in effects or "blank" in effects:
            return 500, "<title>Fault</title>"
        if "editor" in effects:
            self.log(effects["editor"])
            return 200, "<title>Editor</title><h1>Editor</h1><main></main>"
        with self.database() as db:
            row = db.execute("SELECT blocks FROM content WHERE slug = ?", (slug,)).fetchone()
        blocks = "".join(
            f'<div data-block="{n}">{html.escape(text)}</div>'
            for n, text in enumerate(json.loads(row[0]) if row else [])
        )
        return 200, f"<title>Editor</title><h1>Editor</h1><main>{blocks}</main>"

    def places(self) -> list[str]:
        """The paths of all pages, as the site map lists them."""
        with self.database() as db:
            rows = db.execute("SELECT type, slug FROM content ORDER BY id").fetchall()
        return [f"/{slug}" if kind == "page" else f"/{kind}/{slug}" for kind, slug in rows]

    def counts(self) -> dict[str, int]:
        with self.database() as db:
            rows = db.execute("SELECT type, count(*) FROM content GROUP BY type").fetchall()
            orders = db.execute("SELECT count(*) FROM orders").fetchone()[0]
        return {str(t): int(n) for t, n in rows} | ({"orders": int(orders)} if orders else {})

    def marks(self) -> Marks:
        with self.database() as db:
            return marks_of(db)

    def settings_digest(self) -> str:
        """A digest of the settings that a person made, not of what runs switch off and on."""
        with self.database() as db:
            rows = db.execute("SELECT name, value FROM settings ORDER BY name").fetchall()
        own = [r for r in rows if r[0] in ("title", "theme")]
        return hashlib.sha256(repr(own).encode()).hexdigest()[:16]

    def errors(self) -> list[str]:
        with self.database() as db:
            return [str(r[0]) for r in db.execute("SELECT DISTINCT text FROM log ORDER BY id")]


Marks = dict[str, list[Any]]  # of each table that people write into: rows, and what is newest


def marks_of(db: sqlite3.Connection) -> Marks:
    """What changes when a visitor or editor writes something."""
    tables = ("content", "orders")
    newest = "count(*), coalesce(max(id), 0), coalesce(max(at), '')"
    return {table: list(db.execute(f"SELECT {newest} FROM {table}").fetchone()) for table in tables}


def mark(marks: Marks) -> str:
    """All of them as one word."""
    return hashlib.sha256(json.dumps(marks).encode()).hexdigest()[:16]


def _instant(text: str) -> datetime:
    at = datetime.fromisoformat(text)
    return at if at.tzinfo else at.replace(tzinfo=UTC)


def _header(path: Path) -> dict[str, Any] | None:
    try:
        return tomllib.loads((path / HEADER).read_text())
    except (OSError, tomllib.TOMLDecodeError, UnicodeDecodeError):
        return None
