"""What others read and bring: sites as CSV, deadlines as iCalendar, an inventory as CycloneDX,
metrics as OpenMetrics. All by the usual packages; no secret is in any of them."""

from __future__ import annotations

import csv
import io
from datetime import timedelta
from typing import Any, get_args

from cyclonedx.model import Property
from cyclonedx.model.bom import Bom
from cyclonedx.model.component import Component, ComponentType
from cyclonedx.model.vulnerability import (
    BomTarget,
    BomTargetVersionRange,
    Vulnerability,
    VulnerabilityRating,
    VulnerabilitySeverity,
)
from cyclonedx.output.json import JsonV1Dot6
from icalendar import Calendar, Event
from packageurl import PackageURL
from prometheus_client import CollectorRegistry, Gauge
from prometheus_client.openmetrics.exposition import CONTENT_TYPE_LATEST, generate_latest
from pydantic import ValidationError

import windbreak
from windbreak.core.errors import RangeError
from windbreak.core.values.accounts import Principal
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.basics import WORST_FIRST, Value
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.ledger import LedgerAsked
from windbreak.core.values.sites import NewSite, Weekday, Window
from windbreak.core.versions.ranges import parse_range
from windbreak.core.versions.vers import to_vers
from windbreak.core.versions.version import parse_version
from windbreak.operations.context import Context
from windbreak.operations.errors import OperationError, Refused
from windbreak.operations.findings import findings
from windbreak.operations.scheduling import freezes
from windbreak.operations.sites import sites
from windbreak.operations.tracking import feeds
from windbreak.operations.views import sites as site_views
from windbreak.operations.views.runs import lost_in
from windbreak.store.errors import StoreError
from windbreak.wording.acts import command, page
from windbreak.wording.words import counted

COLUMNS = (
    *("id", "label", "address", "client", "host", "environment", "twin_of", "tags", "timezone"),
    "windows",
)
LEDGER_COLUMNS = ("id", "at", "who", "what", "subject", "why", "result", "run", "came")
LOST_COLUMNS = ("at", "kind", "name", "text", "amount")
MOST_CSV = 4 * 2**20
METRICS_TYPE = CONTENT_TYPE_LATEST
_LOOKS_LIKE_A_FORMULA = ("=", "+", "-", "@", "\t", "\r")


class Imported(Value):
    """What an import brought: the sites that were registered, or that all were known already."""

    registered: tuple[str, ...]
    known: tuple[str, ...]
    text: str


def sites_csv(context: Context) -> str:
    """Every site that is not retired, as CSV with a head (RFC 4180). Reads."""
    out = io.StringIO(newline="")
    writer = csv.DictWriter(out, COLUMNS, lineterminator="\r\n")
    writer.writeheader()
    for site in context.store.sites.all():
        if site.retired_at is None:
            row: dict[str, Any] = {name: getattr(site, name) or "" for name in COLUMNS}
            row["tags"] = " ".join(site.tags)
            row["windows"] = "; ".join(map(windows_text, site.windows))
            writer.writerow({name: _safe(str(value)) for name, value in row.items()})
    return out.getvalue()


def ledger_csv(context: Context, wanted: LedgerAsked) -> str:
    """Every line of the ledger that is wanted, newest first, as CSV with a head (RFC 4180).
    Reads.
    """
    out = io.StringIO(newline="")
    writer = csv.DictWriter(out, LEDGER_COLUMNS, lineterminator="\r\n")
    writer.writeheader()
    for entry in context.store.ledger.asked(wanted, limit=-1):
        row = {**entry.model_dump(), "at": entry.at.isoformat()}
        writer.writerow({name: _safe(str(row[name] or "")) for name in LEDGER_COLUMNS})
    return out.getvalue()


def lost_csv(context: Context, run: int) -> str:
    """What was written on a site since the snapshot and lost when a run restored it, as CSV with a
    head (RFC 4180): one row each, for its owner. Reads.
    """
    out = io.StringIO(newline="")
    writer = csv.DictWriter(out, LOST_COLUMNS, lineterminator="\r\n")
    writer.writeheader()
    context.store.runs.get(run)
    for item in lost_in(context.store.journal.all(run=run)):
        row = {**item.model_dump(), "at": item.at.isoformat()}
        writer.writerow({name: _safe(str(row[name])) for name in LOST_COLUMNS})
    return out.getvalue()


def _safe(text: str) -> str:
    """A cell that no table program takes for a formula."""
    return f"'{text}" if text.startswith(_LOOKS_LIKE_A_FORMULA) else text


def import_sites(context: Context, text: str, by: Principal) -> Imported:
    """Register the sites of a CSV, all or none. Writes.

    A site whose address is known is left as it is. Raises Refused with every fault, by line.
    """
    rows = list(csv.DictReader(io.StringIO(text.removeprefix("\ufeff"))))
    if not rows:
        raise Refused("bad-csv", f"there is no row under a head; the head is {','.join(COLUMNS)}")
    unknown = sorted(str(n) for n in rows[0] if n not in COLUMNS)
    if unknown or "label" not in rows[0] or "address" not in rows[0]:
        fault = (
            f"unknown columns {', '.join(unknown)}" if unknown else "label and address are needed"
        )
        raise Refused("bad-csv", f"line 1: {fault}; the columns are {', '.join(COLUMNS)}")
    faults: list[str] = []
    read: list[tuple[int, NewSite, str | None]] = []
    for line, row in enumerate(rows, start=2):
        try:
            read.append((line, _new_site(row), (row.get("id") or "").strip() or None))
        except ValidationError as error:
            faults += [
                f"line {line}, {e['loc'][0] if e['loc'] else 'row'}: {e['msg']}"
                for e in error.errors()
            ]
    if faults:
        raise Refused("bad-csv", f"nothing was registered. {'; '.join(faults)}")
    registered, sites_now = [], []
    try:
        with context.store.transaction():
            # Twins after the sites they stand for.
            for line, new, id in sorted(read, key=lambda item: item[1].twin_of is not None):
                if context.store.sites.at(new.address) is not None:
                    sites_now.append(new.label)
                    continue
                try:
                    registered.append(sites.register(context, new, by, id).id)
                except (OperationError, StoreError, ValueError) as error:
                    faults.append(f"line {line}: {error}")
            if faults:
                raise Refused("bad-csv", f"nothing was registered. {'; '.join(faults)}")
    finally:
        context.tell("host", "import", "sites were imported")
    text = f"{counted(len(registered), 'site')} registered"
    text += f"; {len(sites_now)} were known already." if sites_now else "."
    return Imported(registered=tuple(registered), known=tuple(sites_now), text=text)


def _new_site(row: dict[str, str | None]) -> NewSite:
    fields: dict[str, Any] = {}
    for name in COLUMNS:
        value = (row.get(name) or "").strip()
        value = value[1:] if value.startswith("'") else value
        if value and name != "id":
            fields[name] = value
    fields["tags"] = fields.get("tags", "").split()
    if "windows" in fields:
        fields["windows"] = [_window(text.strip()) for text in fields["windows"].split(";")]
    return NewSite.model_validate(fields)


def windows_text(window: Window) -> str:
    """A window as a cell holds it: "mon,tue 01:00-05:00", "01:00-05:00" on every day."""
    days = "" if len(window.days) == len(get_args(Weekday)) else f"{','.join(window.days)} "
    return f"{days}{window.start}-{window.end}"


def _window(text: str) -> dict[str, object]:
    """The same read back; what can't be read is a fault of its window."""
    *days, hours = text.split() or [""]
    start, _, end = hours.partition("-")
    fields: dict[str, object] = {"start": start, "end": end}
    return {**fields, "days": days[0].split(",")} if days else fields


def calendar(context: Context, address: str) -> bytes:
    """Deadlines and bookings as an iCalendar document. Reads."""
    made = Calendar()
    made.add("prodid", f"-//Windbreak//{windbreak.__version__}//EN")
    made.add("version", "2.0")
    made.add("x-wr-calname", "Windbreak")
    now = context.clock()
    for finding in findings.listed(context):
        if finding.deadline is None:
            continue
        event = _event(f"finding-{finding.id}@windbreak", now)
        event.add("summary", finding.headline.replace("**", "").replace("`", ""))
        event.add("description", f"{finding.text}\n{finding.act.label}: {command(finding.act)}")
        event.add("dtstart", finding.deadline.date())
        event.add("dtend", finding.deadline.date() + timedelta(days=1))
        event.add("url", f"{address}{page(finding.act)}")
        made.add_component(event)
    for freeze in freezes.listed(context):
        event = _event(f"freeze-{freeze.id}@windbreak", now)
        event.add("summary", f"{freeze.where} is left alone: {freeze.reason}")
        event.add("dtstart", freeze.from_)
        event.add("dtend", freeze.to)
        made.add_component(event)
    for booking in context.store.bookings.all(state="waiting"):
        site = context.store.sites.get(booking.site)
        plan = context.store.plans.get(booking.plan)
        event = _event(f"booking-{booking.id}@windbreak", now)
        event.add("summary", f"{site.label}: plan {plan.id}")
        event.add("description", booking.why)
        event.add("dtstart", booking.starts_at)
        event.add("dtend", booking.starts_at + timedelta(minutes=booking.minutes))
        made.add_component(event)
    return bytes(made.to_ical())


def _event(uid: str, now: Any) -> Event:
    event = Event()
    event.add("uid", uid)
    event.add("dtstamp", now)
    return event


def cyclonedx(context: Context, site_id: str) -> str:
    """A site's inventory as a CycloneDX 1.6 document. Reads. Raises Refused without one."""
    site = context.store.sites.get(site_id)
    inventory = context.store.inventories.find(site_id)
    if inventory is None:
        raise Refused("no-inventory", f"what is installed on {site.label} is not known")
    bom = Bom()
    bom.metadata.timestamp = inventory.at
    bom.metadata.component = Component(
        name=site.label,
        type=ComponentType.APPLICATION,
        bom_ref=site.id,
        description=site.address,
    )
    types = {
        "core": ComponentType.APPLICATION,
        "theme": ComponentType.LIBRARY,
        "plugin": ComponentType.LIBRARY,
        "runtime": ComponentType.PLATFORM,
    }
    parts = []
    for component in inventory.components:
        kind, _, slug = component.product.partition("/")
        parts.append(
            Component(
                name=component.name,
                version=component.version,
                type=types[kind],
                bom_ref=component.product,
                purl=PackageURL("generic", kind, slug, component.version),
                properties=[
                    Property(name="windbreak:folder", value=component.folder),
                    Property(name="windbreak:active", value="yes" if component.active else "no"),
                    *(
                        Property(name="windbreak:on-member", value=member)
                        for member in inventory.partly_on.get(component.product, ())
                    ),
                ],
            )
        )
    for part in parts:
        bom.components.add(part)
    bom.register_dependency(bom.metadata.component, parts)
    for advisory in _reaching(context, inventory):
        bom.vulnerabilities.add(
            Vulnerability(
                id=advisory.id,
                bom_ref=f"{advisory.id} {advisory.product}",
                description=advisory.summary,
                ratings=[VulnerabilityRating(severity=VulnerabilitySeverity(advisory.severity))],
                affects=[
                    BomTarget(
                        ref=advisory.product,
                        versions=[BomTargetVersionRange(range=_vers(advisory.affected))],
                    )
                ],
            )
        )
    return str(JsonV1Dot6(bom).output_as_string(indent=1))


def _reaching(context: Context, inventory: Inventory) -> list[KnownAdvisory]:
    """The advisories that reach something installed. Reads."""
    reaching = []
    for component in inventory.components:
        version = parse_version(component.version)
        for advisory in context.store.advisories.all(product=component.product):
            if not advisory.withdrawn and version in parse_range(advisory.affected):
                reaching.append(advisory)
    return reaching


def _vers(text: str) -> str:
    """A range as the format wants it; one that its notation can't say goes out as it is."""
    try:
        return to_vers(text)
    except RangeError:
        return text


def metrics(context: Context) -> bytes:
    """The fleet in numbers, as OpenMetrics. Reads."""
    registry = CollectorRegistry()
    rows = site_views.summaries(context)
    states = Gauge("windbreak_sites", "Sites by their worst state.", ["state"], registry=registry)
    for state in WORST_FIRST:
        states.labels(state).set(sum(r.state == state for r in rows))
    moves = Gauge("windbreak_moves", "Moves that wait, by kind.", ["kind"], registry=registry)
    totals = site_views.totals(context)
    for kind, count in totals.by_kind.items():
        moves.labels(kind).set(count)
    beyond = Gauge(
        "windbreak_moves_beyond_reach", "Moves on sites that can’t be reached.", registry=registry
    )
    beyond.set(totals.beyond_moves)
    held = Gauge("windbreak_held", "Components that are held.", registry=registry)
    held.set(sum(r.held for r in rows))
    weights = Gauge("windbreak_findings", "Open findings by weight.", ["weight"], registry=registry)
    open_findings = findings.listed(context)
    for weight in ("critical", "high", "medium", "low"):
        weights.labels(weight).set(sum(f.weight == weight for f in open_findings))
    fresh = Gauge("windbreak_feed_fresh", "Whether a feed is read.", ["feed"], registry=registry)
    age = Gauge(
        "windbreak_feed_age_seconds",
        "Since a feed was last read well.",
        ["feed"],
        registry=registry,
    )
    now = context.clock()
    for feed in feeds.listed(context):
        fresh.labels(feed.id).set(feed.state == "fresh")
        if feed.fresh_at is not None:
            age.labels(feed.id).set((now - feed.fresh_at).total_seconds())
    facts = Gauge(
        "windbreak_oldest_facts_seconds", "Age of the oldest inventory in use.", registry=registry
    )
    ages = [(now - r.facts_at).total_seconds() for r in rows if r.facts_at is not None]
    facts.set(max(ages, default=0))
    return bytes(generate_latest(registry))  # type: ignore[no-untyped-call]
