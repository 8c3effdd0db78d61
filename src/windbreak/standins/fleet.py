"""The demo fleet's sites: what is installed where, as folders that are really there."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import dataclass
from pathlib import Path

from windbreak.standins.agent import MillraceAgent
from windbreak.standins.catalogue import CORE, LOOM, archive, find
from windbreak.standins.millrace import FOLDERS, MillraceSite

HOSTS = {
    "mole": {"name": "Mole", "at_once": 4, "offers": {LOOM: ["8.1", "8.2", "8.3"]}},
    "quay": {"name": "Quay", "at_once": 2, "offers": {LOOM: ["8.0", "8.1", "8.2"]}},
}


@dataclass(frozen=True)
class DemoSite:
    """A site of the demo fleet. ``theme`` is the one in use; plugins are on unless in ``off``."""

    slug: str
    label: str
    client: str
    host: str
    versions: dict[str, str]
    theme: str
    twin_of: str | None = None
    licences: tuple[str, ...] = ()
    off: tuple[str, ...] = ()

    @property
    def environment(self) -> str:
        return "staging" if self.twin_of else "production"


_SKERRY = {
    CORE: "6.3.6",
    LOOM: "8.1",
    "theme/plainsail": "2.1",
    "plugin/oarlock": "7.1.2",
    "plugin/tidetable": "3.0.4",
    "plugin/lee": "5.4",
    "plugin/gangway": "2.7",
}
_BREAKWATER = ("theme/breakwater", "plugin/breakwater-keel")

SITES: tuple[DemoSite, ...] = (
    DemoSite(
        "skerry-light", "Skerry Light Trust", "Skerry Light Trust", "mole", _SKERRY, "plainsail"
    ),
    DemoSite(
        "skerry-light-twin",
        "Skerry Light Trust, twin",
        "Skerry Light Trust",
        "mole",
        _SKERRY,
        "plainsail",
        twin_of="skerry-light",
    ),
    DemoSite(
        "tarnsey-harbour",
        "Tarnsey Harbour Museum",
        "Tarnsey Borough",
        "mole",
        {
            CORE: "6.2.9",
            LOOM: "8.1",
            "theme/breakwater": "5.0",
            "theme/plainsail": "2.2",
            "plugin/breakwater-keel": "2.4",
            "plugin/trestle": "4.8",
            "plugin/foglamp": "3.2",
            "plugin/oarlock": "7.1.2",
            "plugin/tidetable": "3.0.4",
            "plugin/lee": "5.4",
            "plugin/sextant": "2.3.1",
            "plugin/slate-editor": "1.9",
        },
        "breakwater",
        licences=_BREAKWATER,
        off=("plugin/slate-editor",),
    ),
    DemoSite(
        "whinchat-radio",
        "Whinchat Radio",
        "Whinchat",
        "mole",
        {
            CORE: "6.4.3",
            LOOM: "8.1",
            "theme/breakwater": "5.1",
            "theme/plainsail": "2.2",
            "plugin/breakwater-keel": "2.5",
            "plugin/trestle": "5.0",
            "plugin/foglamp": "3.4",
            "plugin/gangway": "2.8",
            "plugin/lee": "5.4",
        },
        "breakwater",
        licences=_BREAKWATER,
    ),
    DemoSite(
        "seapink-florists",
        "Seapink Florists",
        "Seapink",
        "mole",
        {
            CORE: "6.4.3",
            LOOM: "8.1",
            "theme/plainsail": "2.2",
            "plugin/netloft": "1.6",
            "plugin/oarlock": "7.2",
        },
        "plainsail",
    ),
)  # fmt: skip


def lay_out(folder: Path, demo: DemoSite) -> tuple[MillraceSite, MillraceAgent]:
    """The site and agent of a demo site; its folder is made where it is missing."""
    site = MillraceSite(folder / demo.slug / "site")
    fresh = not site.root.exists()
    if fresh:
        site.create(demo.label)
        for product, version in demo.versions.items():
            if product.startswith("runtime/"):
                site.set_setting("runtime", json.dumps({product: version}))
                continue
            put(site, product, version)
            if product.startswith("plugin/"):
                site.switch(product, product not in demo.off)
        site.set_setting("theme", demo.theme)
    offers = HOSTS[demo.host]["offers"]
    assert isinstance(offers, dict)
    return site, MillraceAgent(folder / demo.slug / "agent", site, offers)


def put(site: MillraceSite, product: str, version: str) -> None:
    """Unpack a release of the catalogue into a site's folder."""
    made, others = find(product, version)
    kind = product.partition("/")[0]
    with zipfile.ZipFile(io.BytesIO(archive(made, others))) as opened:
        opened.extractall(site.root / FOLDERS[kind])
