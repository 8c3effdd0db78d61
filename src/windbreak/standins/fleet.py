"""The demo fleet's sites: what is installed where, as folders that are really there."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from windbreak.standins.acts import mend_swap
from windbreak.standins.agent import VERSION, MillraceAgent
from windbreak.standins.catalogue import CORE, LOOM, archive, find
from windbreak.standins.faults import put as put_faults
from windbreak.standins.millrace import FOLDERS, MillraceSite, Part

HOSTS = {
    "jetty": {"name": "Jetty", "at_once": 1, "offers": {LOOM: ["7.4", "8.0"]}},
    "quay": {"name": "Quay", "at_once": 2, "offers": {LOOM: ["8.0", "8.1", "8.2"]}},
    "mole": {"name": "Mole", "at_once": 4, "offers": {LOOM: ["8.1", "8.2", "8.3"]}},
    "staithe": {"name": "Staithe", "at_once": 1, "offers": {LOOM: ["8.0", "8.1", "8.2"]}},
}


@dataclass(frozen=True)
class DemoSite:
    """A site of the demo fleet. ``theme`` is the one in use; plugins are on unless in ``off``.

    ``faults`` is what its agent does wrong (see ``agent``), once it was linked and asked;
    ``registered`` is what it has of codes and grace; ``own`` was made for it; ``edits`` are files
    in its folders, as somebody left them; ``members`` those of its network; ``checks`` what its
    own health checks say that is not good. ``window`` is from when to when it may be worked on,
    every day in its ``zone``.
    """

    slug: str
    label: str
    client: str
    host: str | None
    versions: dict[str, str]
    theme: str
    twin_of: str | None = None
    seats: dict[str, str] = field(default_factory=dict)
    off: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    faults: dict[str, Any] = field(default_factory=dict)
    settings: dict[str, str] = field(default_factory=dict)
    own: tuple[str, ...] = ()
    edits: dict[str, str] = field(default_factory=dict)
    members: tuple[Part, ...] = ()
    checks: dict[str, dict[str, str]] = field(default_factory=dict)
    window: tuple[str, str] = ("01:00", "05:00")
    zone: str = "Europe/London"

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
FEW: tuple[DemoSite, ...] = (
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
        seats={"breakwater": "BW5-TARNSEY-HK2D-7Q2F"},
        off=("plugin/slate-editor",),
        settings={"grace_since:theme/breakwater": "-4"},
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
        seats={"breakwater": "BW5-WHINCHAT-88PX-C3MN"},
        settings={"code:theme/breakwater": "BW5-WHINCHAT-88PX-C3MN"},
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


def _plain(core: str, loom: str, **more: str) -> dict[str, str]:
    """An ordinary site: the default theme, forms, events and the page cache."""
    return {
        CORE: core,
        LOOM: loom,
        "theme/plainsail": more.get("plainsail", "2.2"),
        **{
            f"plugin/{slug.replace('_', '-')}": v for slug, v in more.items() if slug != "plainsail"
        },
    }


def _breakwater(
    core: str, loom: str, theme: str, keel: str, trestle: str, foglamp: str
) -> dict[str, str]:
    """A site on Breakwater with what it carries."""
    return {
        CORE: core,
        LOOM: loom,
        "theme/breakwater": theme,
        "theme/plainsail": "2.1",
        "plugin/breakwater-keel": keel,
        "plugin/trestle": trestle,
        "plugin/foglamp": foglamp,
        "plugin/lee": "5.4",
    }


_NESS = _plain(
    "6.3.6",
    "8.0",
    sextant="2.2",
    tollhouse="8.3",
    oarlock="7.1.2",
    gangway="2.7",
    lee="5.4",
    plainsail="2.1",
)
_PILOT = {
    CORE: "6.3.6",
    LOOM: "8.1",
    "theme/mooring": "1.9",
    "theme/plainsail": "2.1",
    "plugin/muster": "1.9",
    "plugin/muster-plus": "1.9",
    "plugin/lee": "5.5",
}


def _twin(site: DemoSite) -> DemoSite:
    """The staging twin of a site: the same components; its seats ride along."""
    return replace(
        site,
        slug=f"{site.slug}-twin",
        label=f"{site.label}, twin",
        twin_of=site.slug,
        seats=dict.fromkeys(site.seats, ""),
    )


_NESS_FERRIES = DemoSite(
    "ness-ferries",
    "Ness Ferries",
    "Ness Ferries",
    "quay",
    _NESS,
    "plainsail",
    tags=("shop", "season"),
    window=("01:00", "04:00"),
)
_PILOT_HOUSE = DemoSite(
    "pilot-house",
    "Pilot House Inn",
    "Pilot House",
    "quay",
    _PILOT,
    "mooring",
    seats={"muster-plus": ""},
    tags=("inn",),
)

REST: tuple[DemoSite, ...] = (
    _NESS_FERRIES,
    _twin(_NESS_FERRIES),
    _twin(FEW[2]),
    _twin(FEW[3]),
    DemoSite("kelp-and-oar", "Kelp & Oar Sailing", "Kelp & Oar", "jetty",
             _breakwater("6.3.6", "8.0", "5.1", "2.5", "5.0", "3.4"), "breakwater",
             seats={"breakwater": "BW5-KELPOAR-2MVT-90RW"}, settings={"code:theme/breakwater": "BW5-KELPOAR-2MVT-90RW"}),
    DemoSite("oyster-quay", "Oyster Quay", "Oyster Quay", "quay",
             {**_breakwater("6.3.6", "8.0", "5.1", "2.5", "5.0", "3.4"), "plugin/oarlock": "7.1.2", "plugin/oarlock-stamps": "1.9"}, "breakwater",
             seats={"breakwater": "BW5-OYSTER-PP41-ZK6H"}, settings={"code:theme/breakwater": "BW5-OYSTER-PP41-ZK6H"}),
    DemoSite("ropewalk-arts", "Ropewalk Arts", "Ropewalk", "mole",
             _breakwater("6.4.3", "8.2", "5.1", "2.5", "5.1", "3.4"), "breakwater",
             seats={"breakwater": "BW5-ROPEWALK-T7Y2-GD5S", "ropewalk-trestle": "TR-ROPEWALK-9911-AAC4"},
             settings={"code:theme/breakwater": "BW5-ROPEWALK-T7Y2-GD5S"}),
    _PILOT_HOUSE,
    _twin(_PILOT_HOUSE),
    DemoSite("gannet-rock", "Gannet Rock Observatory", "Gannet Rock", "mole",
             {CORE: "6.3.6", LOOM: "8.1", "theme/capstan": "3.2", "theme/plainsail": "2.2", "plugin/capstan-blocks": "3.3", "plugin/tidetable": "3.0.4"}, "capstan"),
    DemoSite("wrack-line", "Wrack Line", "Wrack Line", "staithe",
             _plain("6.3.6", "8.0", oarlock="7.1.2", tidetable="3.0.4", lee="5.4", popinjay="1.2"), "plainsail", faults={"agent": "1.0"}),
    DemoSite("slipway-boatyard", "Slipway Boatyard", "Slipway", "quay",
             {**_plain("5.8.2", "8.0", oarlock="6.8", sextant="2.1", popinjay="1.2", plainsail="2.1"), "theme/breakwater": "4.4", "theme/lanternroom": "3.0",
              "plugin/breakwater-keel": "2.3", "plugin/trestle": "4.7", "plugin/foglamp": "3.0"}, "breakwater", seats={"breakwater-4": ""},
             edits={"plugins/oarlock-old/component.toml": 'name = "Oarlock"\nversion = "6.1"\n'}),
    DemoSite("cockle-row", "Cockle Row Market", "Cockle Row", "mole",
             {CORE: "6.4.3", LOOM: "8.2", "theme/lanternroom": "1.4", "theme/plainsail": "2.2", "plugin/oarlock": "7.1.2"}, "lanternroom", own=("theme/lanternroom",),
             edits={"plugins/oarlock/main.txt": "the receipt says Cockle Row\n", "plugins/oarlock/languages/cy.txt": "Diolch\n"}),
    DemoSite("sandbar-cinema", "Sandbar Cinema", "Sandbar", "quay", _plain("6.4.3", "8.0", oarlock="7.2", lee="5.5"), "plainsail"),
    DemoSite("fulmar-cottages", "Fulmar Cottages", "Fulmar", "jetty",
             _breakwater("6.2.9", "8.0", "4.9", "2.3", "4.7", "3.0"), "breakwater", seats={"fulmar-breakwater": "BW4-FULMAR-0A7C-LL29"},
             checks={"mail": {"name": "Mail is sent", "state": "critical", "text": "Mail can’t be sent: the server that should take it refuses."},
                     "certificate": {"name": "The certificate is renewed", "state": "minor", "text": "No renewal of the certificate in 80 days."}}),
    DemoSite("marram-press", "Marram Press", "Marram", "mole",
             _breakwater("6.3.6", "8.1", "4.9", "2.4", "4.7", "3.0"), "breakwater", seats={"breakwater-4": ""}),
    DemoSite("dunlin-walks", "Dunlin Walks", "Dunlin", None, _plain("6.3.6", "8.1", tidetable="3.1"), "plainsail", faults={"silent": True}),
    DemoSite("spindrift-surf", "Spindrift Surf", "Spindrift", None, _plain("6.2.9", "8.1", oarlock="7.1.2"), "plainsail", faults={"down": True}),
    DemoSite("bell-rock", "Bell Rock Diving", "Bell Rock", "mole", _plain("6.3.6", "8.1", oarlock="7.1.2", lee="5.4"), "plainsail", faults={"owner_ended": True}),
    DemoSite("turnstone-schools", "Turnstone Schools", "Turnstone", "quay",
             {**_breakwater("6.3.6", "8.1", "5.0", "2.4", "4.8", "3.2"), "plugin/gangway": "2.8", "plugin/tidetable": "3.1", "plugin/oarlock": "7.2"}, "breakwater",
             off=("plugin/tidetable", "plugin/oarlock"), seats={"breakwater": "BW5-TURNSTON-4C8E-J1QX"}, settings={"code:theme/breakwater": "BW5-TURNSTON-4C8E-J1QX"}, tags=("network",),
             members=(Part("north-school", "North School", ("plugin/tidetable",)), Part("south-school", "South School", ("plugin/tidetable",)),
                      Part("infants", "Turnstone Infants", ()), Part("sixth-form", "Turnstone Sixth Form", ("plugin/tidetable", "plugin/oarlock")),
                      Part("parents", "Parents of Turnstone", ("plugin/oarlock",)), Part("orchestra", "Schools’ Orchestra", ("plugin/tidetable",)))),
    DemoSite("limpet-lane", "Limpet Lane Pottery", "Limpet Lane", "jetty", _plain("6.3.6", "8.0", oarlock="7.1.2", lee="5.5"), "plainsail"),
    DemoSite("samphire-kitchen", "Samphire Kitchen", "Samphire", "jetty", _plain("6.2.9", "7.4", tidetable="3.0.4", lee="5.4"), "plainsail"),
    DemoSite("cormorant-books", "Cormorant Books", "Cormorant", "quay", _plain("6.4.3", "8.1", oarlock="7.2", tidetable="3.1", lee="5.5"), "plainsail", zone="Europe/Helsinki"),
    DemoSite("curlew-weavers", "Curlew Weavers", "Curlew", "quay", _plain("6.3.6", "8.1", oarlock="7.1.2", gangway="2.7"), "plainsail", zone="Europe/Helsinki"),
    DemoSite("grey-seal-gin", "Grey Seal Gin", "Grey Seal", "mole", _plain("6.4.3", "8.2", tollhouse="8.4", lee="5.4"), "plainsail", tags=("shop",), window=("02:00", "04:00")),
    DemoSite("shingle-dental", "Shingle Dental", "Shingle", "mole", _plain("6.4.3", "8.3", oarlock="7.2", lee="5.5"), "plainsail"),
    DemoSite("tidemill-brewery", "Tidemill Brewery", "Tidemill", "mole", _plain("6.3.6", "8.1", tollhouse="8.3", tidetable="3.0.4", lee="5.4", plainsail="2.1"), "plainsail", tags=("shop",)),
    DemoSite("heron-lodge", "Heron Lodge", "Heron", "staithe", _plain("6.4.3", "8.2", tidetable="3.1", lee="5.5"), "plainsail", zone="Europe/Helsinki"),
    DemoSite("sanderling-yoga", "Sanderling Yoga", "Sanderling", "staithe", _plain("6.3.6", "8.1", tidetable="3.0.4"), "plainsail", zone="America/Halifax"),
    DemoSite("eider-wool", "Eider Wool", "Eider", "mole", _plain("6.4.3", "8.1", tollhouse="8.3", oarlock="7.2", sextant="2.3.1"), "plainsail", tags=("shop",),
             edits={"themes/plainsail/templates/tollhouse.txt": "the basket, a copy of 8.2\n"}),
    DemoSite("avocet-trust", "Avocet Trust", "Avocet", "mole", _plain("6.3.6", "8.2", oarlock="7.1.2", sextant="2.3.1"), "plainsail"),
    DemoSite("mussel-bank", "Mussel Bank Credit Union", "Mussel Bank", "quay", _plain("6.4.3", "8.2", oarlock="7.2", gangway="2.8", lee="5.5"), "plainsail"),
)  # fmt: skip

SITES: tuple[DemoSite, ...] = FEW + REST


def lay_out(folder: Path, demo: DemoSite) -> tuple[MillraceSite, MillraceAgent]:
    """The site and agent of a demo site; its folder is made where it is missing."""
    site = MillraceSite(folder / demo.slug / "site")
    mend_swap(folder / demo.slug / "agent")
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
        for component in site.components():
            if site.waits_for_migration(component):
                site.migrated(component)  # that was done when it was installed
            if (component.header or {}).get("generates"):
                site.generate(component)
        for path, text in demo.edits.items():
            (site.root / path).parent.mkdir(parents=True, exist_ok=True)
            (site.root / path).write_text(text)
        if demo.members:
            site.found_network(demo.members)
        if demo.checks:
            site.set_setting("checks", json.dumps(demo.checks))
        for name, value in demo.settings.items():
            site.set_setting(name, _dated(name, value))
    offers = HOSTS[demo.host]["offers"] if demo.host else {}
    assert isinstance(offers, dict)
    version = str(demo.faults.get("agent", VERSION))
    return site, MillraceAgent(folder / demo.slug / "agent", site, offers, version)


def put(site: MillraceSite, product: str, version: str) -> None:
    """Unpack a release of the catalogue into a site's folder."""
    kind = product.partition("/")[0]
    with zipfile.ZipFile(io.BytesIO(archive(find(product, version)))) as opened:
        opened.extractall(site.root / FOLDERS[kind])


def _dated(name: str, value: str) -> str:
    """A setting; days from today as the day they mean."""
    if not name.startswith("grace_since:"):
        return value
    return (datetime.now(UTC).date() + timedelta(days=int(value))).isoformat()


def leave_as_told(folder: Path, demo: DemoSite) -> None:
    """Let what is wrong with a site begin; done once it was linked and asked."""
    faults = {k: v for k, v in demo.faults.items() if k != "agent"}
    if faults:
        put_faults(folder / demo.slug / "agent" / "faults.json", faults)
