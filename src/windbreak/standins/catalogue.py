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
from typing import Any

CORE = "core/millrace"
LOOM = "runtime/loom"


@dataclass(frozen=True)
class Made:
    """One release a maker made. ``package`` False: announced, but carried by something else."""

    product: str
    version: str
    days: int
    name: str
    says: dict[str, Any] = field(default_factory=dict)
    stands: tuple[dict[str, Any], ...] = ()
    parent: str | None = None
    package: bool = True
    stores: int = 1

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
    *(Made(LOOM, v, 400 - 90 * n, "Loom", package=False) for n, v in enumerate(["8.1", "8.2", "8.3"])),
    Made(CORE, "6.2.9", 300, "Millrace", {"requires": {LOOM: ">=7.4"}}),
    Made(CORE, "6.3.6", 120, "Millrace", {"requires": {LOOM: ">=7.4"}, "changes": _fix("Feeds with odd dates are read again.")}),
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
            "watch": [{"text": "The old editing mode goes with 6.6.", "from_version": "6.6"}],
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
    Made("plugin/sextant", "2.3.1", 60, "Sextant"),
    Made("plugin/netloft", "1.6", 190, "Netloft"),
    Made("plugin/netloft", "1.8", 21, "Netloft", {"changes": _fix("Galleries open faster.")},
         (_stands(LOOM, ">=8.3", "blank"),), stores=2),
    Made("plugin/slate-editor", "1.9", 500, "Slate Editor"),
)  # fmt: skip

_TRESTLE_48 = ({"requires": {CORE: ">=6.2,<6.4"}}, (_stands(CORE, ">=6.2,<6.4", "editor"),))
_TRESTLE_51 = (
    {"requires": {CORE: ">=6.3"}, "changes": _fix("Rows keep their order.")},
    # What nobody has said yet: beside Gangway the editor stays empty.
    (_stands(CORE, ">=6.3", "editor"), _stands("plugin/gangway", "<1", "editor")),
)

CHANDLERY: tuple[Made, ...] = (
    Made("plugin/trestle", "4.8", 260, "Trestle", *_TRESTLE_48, package=False),
    Made("plugin/trestle", "5.0", 100, "Trestle", {"requires": {CORE: ">=6.2"}}, package=False),
    Made("plugin/trestle", "5.1", 31, "Trestle", *_TRESTLE_51, package=False),
    Made("plugin/foglamp", "3.2", 260, "Foglamp", package=False),
    Made("plugin/foglamp", "3.4", 40, "Foglamp", package=False),
    Made("plugin/breakwater-keel", "2.4", 250, "Breakwater Keel"),
    Made("plugin/breakwater-keel", "2.5", 20, "Breakwater Keel"),
    Made("plugin/breakwater-keel", "2.6", 15, "Breakwater Keel", {"requires": {"theme/breakwater": ">=5.2"}},
         (_stands("theme/breakwater", ">=5.2", "page", needed=True),)),
    Made("theme/breakwater", "5.0", 250, "Breakwater",
         {"requires": {CORE: ">=6.2"}, "bundles": {"plugin/trestle": {"version": "4.8"}, "plugin/foglamp": {"version": "3.2", "need": "optional"}}},
         (_stands(CORE, ">=6.2", "page"),)),
    Made("theme/breakwater", "5.1", 99, "Breakwater",
         {"requires": {CORE: ">=6.2", "plugin/trestle": ">=5.0"}, "bundles": {"plugin/trestle": {"version": "5.0"}, "plugin/foglamp": {"version": "3.4", "need": "optional"}}},
         (_stands("plugin/trestle", ">=5.0", "page", needed=True),)),
    Made("theme/breakwater", "5.2", 14, "Breakwater",
         {"requires": {CORE: ">=6.3", "plugin/breakwater-keel": ">=2.5", "plugin/trestle": ">=5.1"},
          "bundles": {"plugin/trestle": {"version": "5.1"}, "plugin/foglamp": {"version": "3.4", "need": "optional"}},
          "replaces": ["plugin/slate-editor"],
          "changes": [{"kind": "feature", "text": "Headers can be laid out by hand."}, {"kind": "fix", "text": "Columns no longer jump."}],
          "tasks": [{"kind": "review", "by": "person", "text": "Look at the colours of the header"}]},
         (_stands("plugin/trestle", ">=5.1", "page", needed=True), _stands("plugin/breakwater-keel", ">=2.5", "page", needed=True))),
)  # fmt: skip


def header(made: Made) -> str:
    """The header file of a release, as it lies in its folder."""
    kind = made.product.partition("/")[0]
    lines = [f'kind = "{kind}"', f'name = "{made.name}"', f'version = "{made.version}"']
    if made.parent:
        lines.append(f'parent = "{made.parent}"')
    if made.stores != 1:
        lines.append(f"stores = {made.stores}")
    for rule in made.stands:
        lines += ["", "[[stands]]"]
        for key, value in rule.items():
            lines.append(
                f"{key} = {str(value).lower() if isinstance(value, bool) else repr(value)}"
            )
    return "\n".join(lines) + "\n"


def archive(made: Made, others: tuple[Made, ...] = ()) -> bytes:
    """The package of a release; what it bundles lies inside as packages of their own."""
    files = {
        f"{made.slug}/component.toml": header(made).encode(),
        f"{made.slug}/main.txt": f"{made.name} {made.version}\n".encode() * 40,
    }
    for product, told in made.says.get("bundles", {}).items():
        inner = next(o for o in others if o.product == product and o.version == told["version"])
        files[f"{made.slug}/bundled/{inner.file}"] = archive(inner, others)
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as opened:
        for name, data in sorted(files.items()):
            opened.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), data)
    return packed.getvalue()


def published(made: Made, today: date) -> datetime:
    return datetime.combine(today - timedelta(days=made.days), time(9), tzinfo=UTC)


def feed_document(
    title: str, made: tuple[Made, ...], base: str, today: date, check_url: str | None = None
) -> dict[str, Any]:
    """A maker's feed, as docs/formats.md has it."""
    document: dict[str, Any] = {
        "version": "https://jsonfeed.org/version/1.1",
        "title": title,
        "feed_url": f"{base}/releases.json",
        "_release": {"headline": {m.product: m.version for m in made}},
        "items": [_item(m, made, base, today) for m in reversed(made)],
    }
    if check_url:
        needs = ["releases.read", "packages.read", "licences.read"]
        document["_release"]["credential"] = {"check_url": check_url, "needs": needs}
    return document


def _item(made: Made, others: tuple[Made, ...], base: str, today: date) -> dict[str, Any]:
    item: dict[str, Any] = {
        "id": f"{made.slug}-{made.version}",
        "date_published": published(made, today).isoformat().replace("+00:00", "Z"),
        "title": f"{made.name} {made.version}",
        "content_text": "\n".join(c["text"] for c in made.says.get("changes", ())),
        "_release": {"product": made.product, "version": made.version, **made.says},
    }
    if made.package:
        packed = archive(made, others)
        item["attachments"] = [
            {
                "url": f"{base}/packages/{made.file}",
                "mime_type": "application/zip",
                "size_in_bytes": len(packed),
                "_sha256": hashlib.sha256(packed).hexdigest(),
            }
        ]
    return item


def find(product: str, version: str) -> tuple[Made, tuple[Made, ...]]:
    """A release and the maker's others. Raises KeyError."""
    for made in (COMMONS, CHANDLERY):
        for one in made:
            if one.product == product and one.version == version:
                return one, made
    raise KeyError(f"{product} {version}")
