"""What the makers of the demo fleet have released, and what their packages really stand.

Dates are days before the day the demo is started, so that soaks are always in the same state.
``says`` is what a feed announces; ``stands`` is what the package's own header makes happen on
a site, which need not be the same.
"""

from __future__ import annotations

import hashlib
import io
import zipfile
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from typing import Any

from windbreak.core.versions.version import parse_version

CORE = "core/millrace"
LOOM = "runtime/loom"


@dataclass(frozen=True, eq=False)
class Made:
    """One release a maker made, so many days ago, or ``at`` a time. ``package`` False: announced,
    but carried by something else. ``files``: what its package holds, where it is for another system
    than Millrace, and ``carries`` the releases that lie inside of it as packages of their own.
    """

    product: str
    version: str
    days: int
    name: str
    says: dict[str, Any] = field(default_factory=dict)
    stands: tuple[dict[str, Any], ...] = ()
    parent: str | None = None
    package: bool = True
    stores: int = 1
    made_by: str | None = None
    at: datetime | None = None
    files: tuple[tuple[str, str], ...] = ()
    carries: tuple[Made, ...] = ()

    @property
    def slug(self) -> str:
        return self.product.partition("/")[2]

    @property
    def file(self) -> str:
        return f"{self.slug}-{self.version}.zip"


def _stands(product: str, range_: str, effect: str, **more: Any) -> dict[str, Any]:
    return {"product": product, "range": range_, "effect": effect, **more}


def _fix(*texts: str) -> list[dict[str, str]]:
    return [{"kind": "fix", "text": text} for text in texts]


_OLD_LOOM = _stands(LOOM, ">=8.1", "page", needed=True)

COMMONS: tuple[Made, ...] = (
    *(Made(LOOM, v, d, "Loom", package=False) for v, d in (("7.4", 1100), ("8.0", 700))),
    *(Made(LOOM, v, 400 - 90 * n, "Loom", package=False) for n, v in enumerate(["8.1", "8.2", "8.3"])),
    Made(CORE, "5.8.2", 950, "Millrace", {"requires": {LOOM: ">=7.4,<8.1"}}),
    Made(CORE, "5.9.7", 800, "Millrace", {"requires": {LOOM: ">=7.4,<8.2"}, "changes": _fix("The last of its line.")}),
    Made(CORE, "6.0.4", 560, "Millrace", {"requires": {LOOM: ">=7.4"}, "from": ">=5.9",
         "changes": [{"kind": "breaking", "text": "Content is kept in blocks; older content is moved over."}],
         "tasks": [{"kind": "migrate", "by": "agent", "text": "Move the content to blocks"}]}),
    Made(CORE, "6.2.9", 300, "Millrace", {"requires": {LOOM: ">=7.4"}, "from": ">=6.0"}),
    Made(CORE, "6.3.6", 120, "Millrace", {"requires": {LOOM: ">=7.4"}, "from": ">=6.0", "changes": _fix("Feeds with odd dates are read again.")}),
    Made(
        CORE,
        "6.4.3",
        30,
        "Millrace",
        {
            "requires": {LOOM: ">=8.0"},
            "changes": [
                {"kind": "security", "text": "A visitor could see the titles of drafts."},
                {"kind": "feature", "text": "Pages can be previewed on a narrow screen."},
            ],
        },
    ),
    Made(
        CORE,
        "6.5",
        5,
        "Millrace",
        {
            "requires": {LOOM: ">=8.1"},
            "changes": [
                {"kind": "breaking", "text": "The old search blocks are gone."},
                {"kind": "feature", "text": "A new editor for tables."},
            ],
            "watch": [{"text": "The old editing mode goes with 6.6.", "from_version": "6.6"}, {"text": "New sites get the new editor unless told otherwise", "on": "+21"}],
            "tested": {LOOM: "8.3"},
        },
        (_OLD_LOOM,),
    ),
    Made("theme/plainsail", "2.1", 200, "Plainsail"),
    Made("theme/plainsail", "2.2", 25, "Plainsail", {"changes": _fix("The menu closes on a phone.")}),
    Made("plugin/oarlock", "7.1.2", 90, "Oarlock"),
    Made("plugin/oarlock", "7.2", 20, "Oarlock", {"changes": _fix("Forms keep what was typed."), "requires": {CORE: ">=6.2"}}),
    Made("plugin/tidetable", "3.0.4", 150, "Tidetable"),
    Made("plugin/tidetable", "3.1", 40, "Tidetable", {"changes": _fix("Events over midnight show once.")}),
    Made("plugin/lee", "5.4", 150, "Lee"),
    Made("plugin/lee", "5.5", 12, "Lee", {"changes": _fix("Purges pages in other languages too.")}),
    Made("plugin/gangway", "2.7", 160, "Gangway"),
    Made("plugin/gangway", "2.8", 33, "Gangway", {"requires": {CORE: ">=6.3"}}),
    Made("plugin/oarlock", "6.8", 620, "Oarlock"),
    Made("plugin/sextant", "2.1", 420, "Sextant"),
    Made("plugin/sextant", "2.2", 210, "Sextant"),
    Made("plugin/sextant", "2.3.1", 60, "Sextant", {"changes": [
        {"kind": "security", "text": "A search could show pages that are not published.", "advisory": "A-2026-7"}]}),
    Made("plugin/tollhouse", "8.2", 240, "Tollhouse", {"requires": {CORE: ">=6.2"}}),
    Made("plugin/tollhouse", "8.3", 110, "Tollhouse", {"requires": {CORE: ">=6.3"}, "changes": _fix("Baskets are kept for a week.")}),
    Made("plugin/tollhouse", "8.4", 24, "Tollhouse", {"requires": {CORE: ">=6.4"}, "needs": {"memory_mb": 192},
         "changes": [{"kind": "feature", "text": "Orders are kept in tables of their own."}],
         "tasks": [{"kind": "migrate", "by": "agent", "text": "Move orders to the new tables"},
                   {"kind": "review", "by": "person", "text": "Look whether the theme's template copies fit 8.4"}]}),
    Made("plugin/slate-editor", "1.9", 500, "Slate Editor"),
    Made("theme/lanternroom", "3.0", 260, "Lanternroom"),
)  # fmt: skip

_TRESTLE_48 = ({"requires": {CORE: ">=6.2,<6.4"}}, (_stands(CORE, ">=6.2,<6.4", "editor"),))
_TRESTLE_51 = (
    {"requires": {CORE: ">=6.3"}, "changes": _fix("Rows keep their order.")},
    # What nobody has said yet: beside Gangway the editor stays empty.
    (_stands(CORE, ">=6.3", "editor"), _stands("plugin/gangway", "<1", "editor")),
)

GANTRY: tuple[Made, ...] = (
    Made("plugin/trestle", "4.7", 730, "Trestle", {"changes": _fix("Columns keep their width.")}),
    Made("plugin/trestle", "4.8", 280, "Trestle", *_TRESTLE_48),
    Made("plugin/trestle", "5.0", 122, "Trestle", {"requires": {CORE: ">=6.2"}, "changes": [
        {"kind": "breaking", "text": "Rows of the old kind are moved over when they are edited."},
        {"kind": "security", "text": "Uploads of drawings are cleaned."}]}),
    Made("plugin/trestle", "5.1", 38, "Trestle", *_TRESTLE_51),
    Made("plugin/trestle", "5.2", 9, "Trestle", {"requires": {CORE: ">=6.3"}, "changes": [
        {"kind": "feature", "text": "Rows can be saved and used again."}, {"kind": "fix", "text": "Undo goes further back."}]},
         (_stands(CORE, ">=6.3", "editor"),)),
    Made("plugin/foglamp", "3.0", 730, "Foglamp"),
    Made("plugin/foglamp", "3.2", 275, "Foglamp"),
    Made("plugin/foglamp", "3.4", 52, "Foglamp", {"changes": _fix("Slides stop when they are not seen.")}),
)  # fmt: skip

_ACCOUNT = {"form": "seats"}
_CODE = {"form": "per-site code", "grace_days": 10}

CHANDLERY: tuple[Made, ...] = (
    Made("plugin/breakwater-keel", "2.3", 450, "Breakwater Keel"),
    Made("theme/breakwater", "4.4", 700, "Breakwater", {"licence": _ACCOUNT, "requires": {CORE: ">=5.8"},
         "bundles": {"plugin/trestle": {"version": "4.7"}, "plugin/foglamp": {"version": "3.0", "need": "optional"}}}),
    Made("theme/breakwater", "4.9", 440, "Breakwater", {"licence": _ACCOUNT, "requires": {CORE: ">=6.0"},
         "bundles": {"plugin/trestle": {"version": "4.7"}, "plugin/foglamp": {"version": "3.0", "need": "optional"}},
         "changes": _fix("Footers stay at the foot.")}),
    Made("plugin/breakwater-keel", "2.4", 250, "Breakwater Keel"),
    Made("plugin/breakwater-keel", "2.5", 20, "Breakwater Keel"),
    Made("plugin/breakwater-keel", "2.6", 15, "Breakwater Keel", {"requires": {"theme/breakwater": ">=5.2"}},
         (_stands("theme/breakwater", ">=5.2", "page", needed=True),)),
    Made("theme/breakwater", "5.0", 250, "Breakwater",
         {"requires": {CORE: ">=6.2"}, "from": ">=4.4", "licence": _CODE,
          "bundles": {"plugin/trestle": {"version": "4.8"}, "plugin/foglamp": {"version": "3.2", "need": "optional"}},
          "changes": [{"kind": "breaking", "text": "Each site has a code of its own."}, {"kind": "feature", "text": "An editor of its own: Slate Editor is not needed beside it."}],
          "tasks": [{"kind": "register", "by": "person", "text": "Enter the site's own code within ten days"}]},
         (_stands(CORE, ">=6.2", "page"),)),
    Made("theme/breakwater", "5.1", 99, "Breakwater",
         {"requires": {CORE: ">=6.2", "plugin/trestle": ">=5.0"}, "bundles": {"plugin/trestle": {"version": "5.0"}, "plugin/foglamp": {"version": "3.4", "need": "optional"}}},
         (_stands("plugin/trestle", ">=5.0", "page", needed=True),)),
    Made("theme/breakwater", "5.2", 14, "Breakwater",
         {"requires": {CORE: ">=6.3", "plugin/breakwater-keel": ">=2.5", "plugin/trestle": ">=5.1"},
          "bundles": {"plugin/trestle": {"version": "5.1"}, "plugin/foglamp": {"version": "3.4", "need": "optional"}},
          "replaces": ["plugin/slate-editor"],
          "changes": [{"kind": "feature", "text": "Headers can be laid out by hand."}, {"kind": "fix", "text": "Columns no longer jump."}],
          "tasks": [{"kind": "regenerate", "by": "agent", "text": "Make the styles of the header anew"},
                    {"kind": "review", "by": "person", "text": "Look at the colours of the header"}]},
         (_stands("plugin/trestle", ">=5.1", "page", needed=True), _stands("plugin/breakwater-keel", ">=2.5", "page", needed=True))),
)  # fmt: skip

_TRIO = {"theme/mooring": ">=2.0,<3", "plugin/muster": ">=2.0,<3", "plugin/muster-plus": ">=2.0,<3"}


def _but(product: str) -> dict[str, str]:
    return {p: r for p, r in _TRIO.items() if p != product}


EBBING: tuple[Made, ...] = (
    Made("theme/mooring", "1.9", 330, "Mooring"),
    Made("theme/mooring", "2.0", 12, "Mooring", {"requires": {CORE: ">=6.3", **_but("theme/mooring")}, "changes": [
        {"kind": "breaking", "text": "Rooms and guests are kept by Muster; all three go together."}]}),
    Made("plugin/muster", "1.9", 330, "Muster"),
    Made("plugin/muster", "1.9.5", 70, "Muster", {"changes": _fix("Lists sort by arrival.")}),
    Made("plugin/muster", "2.0", 12, "Muster", {"requires": _but("plugin/muster")}),
    Made("plugin/muster-plus", "1.9", 330, "Muster Plus"),
    Made("plugin/muster-plus", "2.0", 12, "Muster Plus", {"requires": _but("plugin/muster-plus")}),
    Made("theme/capstan", "3.2", 190, "Capstan", {"requires": {"plugin/capstan-blocks": "=3.2"}}),
    Made("theme/capstan", "3.3", 28, "Capstan", {"requires": {"plugin/capstan-blocks": "=3.3"}, "changes": _fix("Tables scroll on a phone.")}),
    Made("plugin/capstan-blocks", "3.2", 190, "Capstan Blocks", {"requires": {"theme/capstan": "=3.2"}}),
    Made("plugin/capstan-blocks", "3.3", 28, "Capstan Blocks", {"requires": {"theme/capstan": "=3.3"}}),
)  # fmt: skip

NETLOFT: tuple[Made, ...] = (
    Made("plugin/netloft", "1.6", 190, "Netloft", {"changes": _fix("Pictures keep their order.")}),
    Made("plugin/netloft", "1.8", 21, "Netloft", {"changes": _fix("Galleries open faster.")},
         (_stands(LOOM, ">=8.3", "blank"),), stores=2),
    Made("plugin/netloft", "1.9", 4, "Netloft", {"changes": [{"kind": "feature", "text": "New: captions under pictures can be hidden."}]},
         (_stands(LOOM, ">=8.3", "blank"),), stores=2),
)  # fmt: skip

# Nobody's feed tells of these: they lie on sites, or come by hand.
BY_HAND: tuple[Made, ...] = (
    Made("plugin/popinjay", "1.2", 1200, "Popinjay"),
    Made("theme/lanternroom", "1.4", 600, "Lanternroom", made_by="Cockle Row Market"),
    Made("plugin/oarlock-stamps", "1.9", 500, "Oarlock Stamps"),
    Made("plugin/oarlock-stamps", "2.0", 20, "Oarlock Stamps"),
    Made("plugin/airlog", "1.4", 300, "Airlog", made_by="Whinchat Radio"),
)

MAKERS: tuple[tuple[Made, ...], ...] = (COMMONS, CHANDLERY, GANTRY, EBBING, NETLOFT, BY_HAND)
WITHDRAWN = {"plugin/popinjay": "Its maker closed in September 2024"}
# What the maker of Mooring and Capstan changes after it was first read: see ``feeds``.
TAKEN_BACK = ("plugin/muster", "1.9.5")
MADE_AGAIN = ("theme/capstan", "3.3")


def header(made: Made) -> str:
    """The header file of a release, as it lies in its folder."""
    kind = made.product.partition("/")[0]
    lines = [f'kind = "{kind}"', f'name = "{made.name}"', f'version = "{made.version}"']
    if made.parent:
        lines.append(f'parent = "{made.parent}"')
    if made.made_by:
        lines.append(f'maker = "{made.made_by}"')
    if _asks_code(made):
        lines.append("asks_code = true")
    migrations = _leaves(made, "migrate")
    if migrations:
        lines.append("migrates = true")
    if made.stores + migrations != 1:
        lines.append(f"stores = {made.stores + migrations}")
    if _leaves(made, "regenerate"):
        lines.append("generates = true")
    for rule in made.stands:
        lines += ["", "[[stands]]"]
        for key, value in rule.items():
            lines.append(
                f"{key} = {str(value).lower() if isinstance(value, bool) else repr(value)}"
            )
    return "\n".join(lines) + "\n"


def _asks_code(made: Made) -> bool:
    """Whether a release asks for a code of its site: since a release that said so, all do."""
    return any(
        product.product == made.product
        and product.days >= made.days
        and product.says.get("licence", {}).get("form") == "per-site code"
        for maker in MAKERS
        for product in maker
    )


def _leaves(made: Made, kind: str) -> int:
    """How many releases of its product, this one and those before it, leave a task of a kind."""
    return sum(
        task["kind"] == kind and task["by"] == "agent"
        for maker in MAKERS
        for product in maker
        if product.product == made.product and product.days >= made.days
        for task in product.says.get("tasks", ())
    )


@lru_cache(maxsize=512)
def _archive(made: Made, again: bool) -> bytes:
    if made.files:
        inside = {f"bundled/{passenger.file}": archive(passenger) for passenger in made.carries}
        own = {path: text.encode() for path, text in made.files}
        return _packed({f"{made.slug}/{path}": data for path, data in (own | inside).items()})
    note = f"{made.name} {made.version}\n" + ("Packed again.\n" if again else "")
    files = {
        f"{made.slug}/component.toml": header(made).encode(),
        f"{made.slug}/main.txt": note.encode() * 40,
    }
    for inner, bundled in made.says.get("bundles", {}).items():
        carried = find(inner, bundled["version"])
        files[f"{made.slug}/bundled/{carried.file}"] = archive(carried)
    return _packed(files)


def archive(made: Made, *, again: bool = False) -> bytes:
    """The package of a release; what it bundles lies inside as packages of their own.

    ``again``: as its maker packed it a second time, under the same version.
    """
    return _archive(made, again)


def complete_download(made: Made) -> bytes:
    """What a person downloads from a shop: papers, and the installable archive among them."""
    return _packed(
        {
            f"{made.slug}-complete/licence.txt": b"Thank you.\n",
            f"{made.slug}-complete/documentation/index.html": b"<h1>Documentation</h1>\n",
            f"{made.slug}-complete/{made.file}": archive(made),
        }
    )


def _packed(files: dict[str, bytes]) -> bytes:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as opened:
        for name, data in sorted(files.items()):
            opened.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), data)
    return packed.getvalue()


def published(made: Made, today: date) -> datetime:
    return made.at or datetime.combine(today - timedelta(days=made.days), time(9), tzinfo=UTC)


@lru_cache(maxsize=64)
def feed_document(
    title: str,
    made: tuple[Made, ...],
    base: str,
    today: date,
    check_url: str | None = None,
    *,
    later: bool = False,
) -> dict[str, Any]:
    """A maker's feed, as docs/formats.md has it. ``later``: after what it changed."""
    newest: dict[str, str] = {}
    for release in sorted(made, key=lambda m: parse_version(m.version)):
        newest[release.product] = release.version
    own: dict[str, Any] = {"headline": newest}
    if "theme/breakwater" in own["headline"]:
        own["headline"]["theme/breakwater"] = "5.1"  # its shop window is older than its list
    if made[0] is COMMONS[0]:
        own["withdrawn"] = WITHDRAWN
    if check_url:
        needs = ["releases.read", "packages.read"]
        needs += ["licences.read"] if made[0] is CHANDLERY[0] else []
        own["credential"] = {"check_url": check_url, "needs": needs}
    listed = [m for m in reversed(made) if not (later and (m.product, m.version) == TAKEN_BACK)]
    return {
        "version": "https://jsonfeed.org/version/1.1",
        "title": title,
        "feed_url": f"{base}/releases.json",
        "_release": own,
        "items": [_item(m, base, today, later=later) for m in listed],
    }


def _item(made: Made, base: str, today: date, *, later: bool) -> dict[str, Any]:
    says = dict(made.says)
    if "watch" in says:
        says["watch"] = [_dated(item, today) for item in says["watch"]]
    item: dict[str, Any] = {
        "id": f"{made.slug}-{made.version}",
        "date_published": published(made, today).isoformat().replace("+00:00", "Z"),
        "title": f"{made.name} {made.version}",
        "content_text": "\n".join(c["text"] for c in made.says.get("changes", ())),
        "_release": {"product": made.product, "version": made.version, **says},
    }
    if made.package:
        packed = archive(made, again=later and (made.product, made.version) == MADE_AGAIN)
        item["attachments"] = [
            {
                "url": f"{base}/packages/{made.file}",
                "mime_type": "application/zip",
                "size_in_bytes": len(packed),
                "_sha256": hashlib.sha256(packed).hexdigest(),
            }
        ]
    return item


def _dated(item: dict[str, Any], today: date) -> dict[str, Any]:
    """A watch item whose day is told as days from today."""
    if "on" not in item:
        return item
    return {**item, "on": (today + timedelta(days=int(item["on"]))).isoformat()}


def gantry_document(base: str, today: date) -> dict[str, Any]:
    """Gantry House's own JSON, which only its recipe can read."""
    builds = []
    for made in reversed(GANTRY):
        packed = archive(made)
        builds.append(
            {
                "what": made.slug,
                "tag": f"v{made.version}",
                "built": int(published(made, today).timestamp()),
                "line": "main",
                "notes": "\n".join(_note(c) for c in made.says.get("changes", ())),
                "needs": {"millrace": made.says.get("requires", {}).get(CORE)},
                "file": {
                    "href": f"{base}/files/{made.file}",
                    "bytes": len(packed),
                    "sum": hashlib.sha256(packed).hexdigest(),
                },
            }
        )
    return {"house": "Gantry House", "builds": builds}


def _note(change: dict[str, str]) -> str:
    words = {"security": "Security: ", "breaking": "Breaking: ", "feature": "New: "}
    return f"* {words.get(change['kind'], '')}{change['text']}"


def atom_document(base: str, today: date) -> str:
    """Netloft's news, as Atom."""
    entries = "".join(
        f"<entry><id>{base}/{m.version}</id><title>Netloft {m.version} is out</title>"
        f"<updated>{published(m, today).isoformat()}</updated>"
        f'<link rel="enclosure" type="application/zip" href="{base}/packages/{m.file}" '
        f'length="{len(archive(m))}"/><content type="html">&lt;ul&gt;'
        + "".join(f"&lt;li&gt;{c['text']}&lt;/li&gt;" for c in m.says.get("changes", ()))
        + "&lt;/ul&gt;</content></entry>"
        for m in reversed(NETLOFT)
    )
    return (
        '<?xml version="1.0" encoding="utf-8"?><feed xmlns="http://www.w3.org/2005/Atom">'
        f"<title>Netloft</title><id>{base}/</id>"
        f"<updated>{published(NETLOFT[-1], today).isoformat()}</updated>{entries}</feed>"
    )


def advisories_document(today: date) -> list[dict[str, Any]]:
    """Advisories of the demo, as OSV; one speaks of something that nobody here has."""
    day = today - timedelta(days=3)
    return [
        {
            "schema_version": "1.6.0",
            "id": "A-2026-7",
            "published": f"{day.isoformat()}T08:00:00Z",
            "modified": f"{day.isoformat()}T08:00:00Z",
            "summary": "A search could show pages that are not published",
            "severity": [
                {"type": "CVSS_V3", "score": "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:N/A:N"}
            ],
            "affected": [
                {
                    "package": {"ecosystem": "Millrace", "name": "sextant"},
                    "ranges": [
                        {"type": "ECOSYSTEM", "events": [{"introduced": "2.0"}, {"fixed": "2.3"}]}
                    ],
                }
            ],
        },
        {
            "schema_version": "1.6.0",
            "id": "A-2026-4",
            "published": f"{day.isoformat()}T08:00:00Z",
            "modified": f"{day.isoformat()}T08:00:00Z",
            "summary": "A form could be sent twice",
            "database_specific": {"severity": "LOW"},
            "affected": [
                {"package": {"ecosystem": "Millrace", "name": "oddments"}, "versions": ["1.0"]}
            ],
        },
    ]


def find(product: str, version: str) -> Made:
    """A release of the demo. Raises KeyError."""
    for made in MAKERS:
        for release in made:
            if release.product == product and release.version == version:
                return release
    raise KeyError(f"{product} {version}")
