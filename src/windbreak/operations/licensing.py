"""Licences and seats: entered, allotted, refused, read back from sites, and what ends with them."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date

from windbreak.core.case import Licence as CaseLicence
from windbreak.core.explain import counted, day
from windbreak.core.fleet import Inventory, Registration, Site
from windbreak.core.licences import (
    SEATED,
    Entered,
    EntryResult,
    Forecast,
    Licence,
    LicenceChange,
    LicenceView,
    NewLicence,
    NewSeat,
    Seat,
    SeatView,
)
from windbreak.core.tracking import KnownProduct, KnownRelease
from windbreak.core.versions import parse_version
from windbreak.core.work import Principal
from windbreak.links.errors import LinkError
from windbreak.operations import instance
from windbreak.operations import sites as links
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.store.sealing import masked, trimmed


def add(context: Context, new: NewLicence, by: Principal) -> Licence:
    """Enter a licence; its code is trimmed and sealed. Writes.

    Raises AlreadyThere for its id, Refused for a "per-site code" licence with one code for all.
    """
    code = trimmed(new.code.get_secret_value()) if new.code else ""
    if code and new.form == "per-site code":
        raise Refused(
            "code-of-a-seat", f"{new.label} has a code for each site; give it with each seat"
        )
    licence = Licence(
        **new.model_dump(exclude={"code"}),
        code=masked(code) if code else None,
        set_up_by=by.account,
        made_at=context.clock(),
    )
    with context.store.transaction():
        context.store.licences.add(licence)
        if code:
            _seal(context, _of_licence(new.id), code)
        context.record(by.name, f"licence {new.label} entered", new.id, result=new.form)
    context.tell("product", new.id, "a licence was entered")
    return licence


def change(context: Context, licence: str, told: LicenceChange, by: Principal) -> Licence:
    """Change what is known of a licence. Writes.

    Raises Refused for fewer seats than are taken, or no riding while copies ride.
    """
    known = context.store.licences.get(licence)
    taken = context.store.seats.all(licence=licence)
    own = sum(not seat.riding for seat in taken)
    if told.seats is not None and told.seats < own:
        raise Refused("seats-taken", f"{own} seats of {known.label} are taken; free some first")
    if told.riding is False and any(seat.riding for seat in taken):
        raise Refused("copies-ride", f"copies ride along on {known.label}; take their seats first")
    fields = told.model_dump(exclude_none=True)
    with context.store.transaction():
        changed = context.store.licences.change(licence, **fields)
        context.record(by.name, f"licence {known.label}: {', '.join(fields)} set", licence)
    context.tell("product", licence, "a licence was changed")
    return changed


def drop(context: Context, licence: str, by: Principal) -> None:
    """Forget a licence. Writes. Raises Refused while sites hold seats of it."""
    known = context.store.licences.get(licence)
    taken = context.store.seats.all(licence=licence)
    if taken:
        names = ", ".join(seat.site for seat in taken)
        raise Refused("seats-taken", f"{known.label} has seats taken by {names}; free them first")
    with context.store.transaction():
        context.store.licences.drop(licence)
        for name in (_of_licence(licence), _former(_of_licence(licence))):
            context.store.drop_sealed(name)
        context.record(by.name, f"licence {known.label} dropped", licence)
    context.tell("product", licence, "a licence was dropped")


# Seats.


def seat(context: Context, licence: str, new: NewSeat, by: Principal) -> Seat:
    """Allot a seat to a site; a copy rides along where that is permitted. Writes.

    Raises Refused, with nothing changed, for a seat too many, the same code on a second live
    site, a retired site, a code where none is, and none where one is needed.
    """
    known = context.store.licences.get(licence)
    site = context.store.sites.get(new.site)
    code = trimmed(new.code.get_secret_value()) if new.code else ""
    taken = context.store.seats.all(licence=licence)
    riding = _check_seat(context, known, site, code, taken)
    made = Seat(
        licence=licence,
        site=site.id,
        since=context.clock(),
        riding=riding,
        code=masked(code) if code else None,
    )
    with context.store.transaction():
        context.store.seats.put(made, made.id)
        if code:
            _seal(context, _of_seat(made), code)
        what = f"seat of {known.label} for {site.label}"
        context.record(by.name, what, site.id, result="riding along" if riding else "its own")
    context.tell("licence", site.id, what)
    return made


def _check_seat(
    context: Context, licence: Licence, site: Site, code: str, taken: list[Seat]
) -> bool:
    """Whether the seat rides. Raises Refused."""
    if not licence.seated:
        raise Refused("no-seats", f"{licence.label} ({licence.form}) has no seats to give")
    if site.retired_at is not None:
        raise Refused("retired", f"{site.label} is retired; a seat would be wasted on it")
    if any(one.site == site.id for one in taken):
        raise Refused("has-a-seat", f"{site.label} has a seat of {licence.label} already")
    lead = site.twin_of
    leads = {one.site for one in taken if not one.riding}
    riding = site.environment != "production" and licence.riding and lead in leads
    if riding and any(one.riding and _lead(context, one.site) == lead for one in taken):
        riding = False
    per_site = licence.form == "per-site code"
    if per_site and not code and not riding:
        raise Refused("no-code", f"{licence.label} has a code for each site; give the one for this")
    if code and not per_site:
        raise Refused("code-of-licence", f"{licence.label} has one code for all its seats")
    own = sum(not one.riding for one in taken)
    if not riding and licence.seats is not None and own >= licence.seats:
        held = ", ".join(one.site for one in taken if not one.riding)
        raise Refused(
            "seat-too-many",
            f"{licence.label} has {counted(licence.seats, 'seat')}, and all are taken: {held}",
        )
    if code:
        _check_code(context, licence, site, code, riding=riding)
    return riding


def _check_code(context: Context, licence: Licence, site: Site, code: str, *, riding: bool) -> None:
    for other in context.store.seats.all():
        if other.code is None or _open(context, _of_seat(other)) != code:
            continue
        holder = context.store.sites.get(other.site)
        if riding and other.site == site.twin_of:
            continue  # the copy rides on its site's own code
        raise Refused(
            "code-in-use",
            f"this code is on {holder.label} already; a code is good for one live site",
        )


def _lead(context: Context, site: str) -> str | None:
    return context.store.sites.get(site).twin_of


def unseat(context: Context, licence: str, site: str, by: Principal) -> None:
    """Take a site's seat, and that of the copy that rides along with it. Writes."""
    known = context.store.licences.get(licence)
    held = context.store.seats.get(f"{licence} {site}")
    with context.store.transaction():
        for one in context.store.seats.all(licence=licence):
            rides_here = one.riding and _lead(context, one.site) == site and not held.riding
            if one.site == site or rides_here:
                context.store.seats.drop(one.id)
                for name in (_of_seat(one), _former(_of_seat(one))):
                    context.store.drop_sealed(name)
                context.record(by.name, f"seat of {known.label} taken back", one.site)
    context.tell("licence", site, f"seat of {known.label} taken back")


def free_seats_of(context: Context, site: str, by: Principal) -> list[str]:
    """Free every seat of a site; the labels of the licences. Writes."""
    labels = []
    for held in context.store.seats.all(site=site):
        labels.append(context.store.licences.get(held.licence).label)
        unseat(context, held.licence, site, by)
    return labels


# Codes.


def _of_licence(licence: str) -> str:
    return f"licence:{licence}"


def _of_seat(seat: Seat) -> str:
    return f"seat:{seat.id}"


def _former(name: str) -> str:
    return f"{name}:former"


def _seal(context: Context, name: str, secret: str) -> None:
    context.store.set_sealed(name, context.sealer.seal(secret))


def _open(context: Context, name: str) -> str | None:
    sealed = context.store.sealed(name)
    return context.sealer.open(sealed) if sealed else None


def _code_of(context: Context, licence: Licence, seat: Seat) -> str | None:
    """The code that belongs on a seat's site: its own, its site's where it rides, or the one."""
    own = _open(context, _of_seat(seat))
    if own is None and seat.riding:
        lead = _lead(context, seat.site)
        own = _open(context, f"seat:{licence.id} {lead}")
    return own or _open(context, _of_licence(licence.id))


def code_for(context: Context, site: str, product: str) -> str | None:
    """The code a site has for a product; it leaves the service only to its maker or its site."""
    for held in context.store.seats.all(site=site):
        licence = context.store.licences.get(held.licence)
        if product in covered(context, licence):
            code = _code_of(context, licence, held)
            if code is not None:
                return code
    return None


def rotate(context: Context, licence: str, code: str, site: str | None, by: Principal) -> Licence:
    """Put a new code in the place of a licence's, or of one seat's. Writes.

    The old one stays known by its last four characters, and the view lists where it is still in
    use, until every site has the new one: only then should it be revoked at its maker.
    """
    known = context.store.licences.get(licence)
    secret = trimmed(code)
    if not secret:
        raise Refused("no-code", "the code is empty")
    if (site is None) == (known.form == "per-site code"):
        which = "say of which site" if site is None else "it has one code for all its seats"
        raise Refused("code-of-a-seat", f"{known.label} is {known.form}: {which}")
    with context.store.transaction():
        if site is None:
            context.store.licences.change(
                licence, code=masked(secret), former=known.code or known.former
            )
            _seal(context, _of_licence(licence), secret)
        else:
            held = context.store.seats.get(f"{licence} {site}")
            riding = held.riding
            _check_code(context, known, context.store.sites.get(site), secret, riding=riding)
            context.store.seats.change(held.id, code=masked(secret), former=held.code)
            _seal(context, _of_seat(held), secret)
        context.record(by.name, f"code of {known.label} replaced", site or licence)
    context.tell("product", licence, "a code was replaced")
    return context.store.licences.get(licence)


def enter(
    context: Context, licence: str, by: Principal, site: str | None = None
) -> list[EntryResult]:
    """Enter the code on the sites that hold a seat, through their agents, and read it back.

    Writes. Each site's own answer is told; one that can't be reached keeps back no other.
    """
    instance.must_drive(context)
    known = context.store.licences.get(licence)
    results = []
    for held in context.store.seats.all(licence=licence):
        if site in (None, held.site):
            results.append(_enter_on(context, known, held, by))
    if not results:
        whom = f"{site} has no seat" if site else "nobody has a seat"
        raise Refused("no-seat", f"{whom} of {known.label}")
    return results


def _enter_on(context: Context, licence: Licence, held: Seat, by: Principal) -> EntryResult:
    site = context.store.sites.get(held.site)
    code = _code_of(context, licence, held)
    if code is None:
        text = f"{site.label}: there is no code to enter."
        return EntryResult(site=site.id, site_label=site.label, state="not asked", text=text)
    try:
        agent = links.agent_for(context, site.id)
        for product in installed_of(context, site.id, covered(context, licence)):
            agent.do("register", secrets.token_hex(12), product=product, code=code)
    except (LinkError, Refused) as error:
        text = f"{site.label}: the code was not entered: {error}."
        return EntryResult(site=site.id, site_label=site.label, state="not asked", text=text)
    links.refresh(context, site.id)
    context.store.seats.change(held.id, entered=masked(code), entered_at=context.clock())
    context.record(by.name, f"code of {licence.label} entered on {site.label}", site.id)
    view = seat_view(context, licence, context.store.seats.get(held.id))
    return EntryResult(site=site.id, site_label=site.label, state=view.state, text=view.text)


def installed_of(context: Context, site: str, products: Iterable[str]) -> list[str]:
    """Which of some products a site runs. Reads."""
    wanted = set(products)
    inventory = context.store.inventories.find(site)
    return [c.product for c in inventory.components if c.product in wanted] if inventory else []


# What a licence covers and gives.


def covered(context: Context, licence: Licence) -> tuple[str, ...]:
    """The products of a licence: those it names, and all of its maker. Reads."""
    found = dict.fromkeys(licence.products)
    if licence.maker:
        for product in context.store.products.all():
            if licence.maker in (product.maker, product.feed) and product.access == "licensed":
                found[product.id] = None
    return tuple(found)


@dataclass(frozen=True)
class Rights:
    """The licences of the fleet with what each covers; made once for many sites."""

    licences: tuple[tuple[Licence, tuple[str, ...]], ...]
    seats: dict[str, tuple[str, ...]]


def rights(context: Context) -> Rights:
    """Every licence, what it covers, and who holds its seats. Reads."""
    held: dict[str, list[str]] = {}
    for one in context.store.seats.all():
        held.setdefault(one.site, []).append(one.licence)
    return Rights(
        tuple((x, covered(context, x)) for x in context.store.licences.all()),
        {site: tuple(ids) for site, ids in held.items()},
    )


def for_case(known: Rights, site: str) -> list[CaseLicence]:
    """A site's rights, as the reasoning takes them.

    "through a theme" is not among them: it gives what the theme carries, and that is had by
    having the theme.
    """
    seated = known.seats.get(site, ())
    return [
        CaseLicence(
            product=product,
            range=licence.range,
            covers_until=licence.covers_until,
            expires=licence.expires,
        )
        for licence, products in known.licences
        if licence.form != "through a theme" and (not licence.seated or licence.id in seated)
        for product in products
    ]


# How things stand.


def views(context: Context) -> list[LicenceView]:
    """Every licence as it stands, those that end first first. Reads."""
    far = date.max
    known = context.store.licences.all()
    known.sort(key=lambda x: (x.expires or far, x.covers_until or far, x.label))
    return [view(context, licence.id) for licence in known]


def view(context: Context, licence: str) -> LicenceView:
    """One licence as it stands. Reads."""
    known = context.store.licences.get(licence)
    covers = covered(context, known)
    held = context.store.seats.all(licence=licence)
    seats = tuple(seat_view(context, known, one) for one in held)
    own = sum(not one.riding for one in held)
    users = _users(context, covers)
    without: tuple[str, ...] = ()
    if known.seated:
        others = _otherwise_licensed(context, known, covers)
        without = tuple(s for s in users if s not in {x.site for x in held} and s not in others)
    reaches = tuple(one.site for one in held) if known.seated else tuple(users)
    if known.form == "through a theme":
        reaches = tuple(s for s in users if known.through in _on(context, s))
    still_old = tuple(
        v.seat.site for v in seats if v.state == "other code" or _entered_old(known, v.seat)
    )
    free = None if known.seats is None or not known.seated else known.seats - own
    return LicenceView(
        licence=known,
        seats=seats,
        own=own,
        riders=len(held) - own,
        free=free,
        without=without,
        still_old=still_old,
        covers=covers,
        reaches=reaches,
        stops=_stops(context, known, covers, reaches),
        text=_text(context, known, len(without), free),
    )


def _entered_old(licence: Licence, seat: Seat) -> bool:
    """Whether the code that was last entered there is one that was replaced since."""
    wanted = seat.code or licence.code
    return seat.entered is not None and wanted is not None and seat.entered != wanted


def _on(context: Context, site: str) -> set[str]:
    inventory = context.store.inventories.find(site)
    return {c.product for c in inventory.components} if inventory else set()


def _users(context: Context, products: Iterable[str]) -> list[str]:
    """Live sites that run one of some products, switched on. Reads."""
    found = {
        site
        for product in products
        for site, _, _, active in context.store.installed(product)
        if active
    }
    live = (context.store.sites.get(site) for site in sorted(found))
    return [site.id for site in live if site.environment == "production"]


def _otherwise_licensed(context: Context, licence: Licence, covers: tuple[str, ...]) -> set[str]:
    """Sites whose right to every covered product they run comes from elsewhere. Reads."""
    known = rights(context)
    others = Rights(tuple((x, p) for x, p in known.licences if x.id != licence.id), known.seats)
    found = set()
    for site in _users(context, covers):
        have = {x.product for x in for_case(others, site)} | _carried_on(context, site)
        if set(installed_of(context, site, covers)) <= have:
            found.add(site)
    return found


def _carried_on(context: Context, site: str) -> set[str]:
    """The plugins that the themes of a site carry in some release. Reads."""
    inventory = context.store.inventories.find(site)
    return {
        plugin
        for one in (inventory.components if inventory else ())
        if one.product.startswith("theme/") and one.active
        for release in context.store.releases.all(product=one.product)
        for plugin in release.bundles
    }


def seat_view(context: Context, licence: Licence, seat: Seat) -> SeatView:
    """A seat with what the agent read back on its site. Reads."""
    site = context.store.sites.get(seat.site)
    inventory = context.store.inventories.find(seat.site)
    state, until = _entered(context, licence, seat, inventory)
    today = context.clock().date()
    words = {
        "registered": "its code is in place",
        "grace": f"in grace till {day(until, today)}" if until else "in grace",
        "missing": "no code has been entered there",
        "unknown": "its agent can't tell",
        "other code": "another code than ours is in place",
        "not asked": "it has not been asked",
    }
    return SeatView(
        seat=seat,
        site_label=site.label,
        state=state,
        until=until,
        read_at=inventory.at if inventory else None,
        text=f"{site.label}: {words[state]}{', riding along' if seat.riding else ''}.",
    )


def _entered(
    context: Context, licence: Licence, seat: Seat, inventory: Inventory | None
) -> tuple[Entered, date | None]:
    if inventory is None:
        return "not asked", None
    told = [inventory.registration_of(p) for p in covered(context, licence)]
    known = [r for r in told if r is not None]
    if not known:
        return "unknown", None
    worst = min(known, key=lambda r: ("missing", "grace", "unknown", "registered").index(r.state))
    if worst.state == "registered" and _is_other(context, licence, seat, known):
        return "other code", None
    return worst.state, worst.until


def _is_other(context: Context, licence: Licence, seat: Seat, told: list[Registration]) -> bool:
    code = _code_of(context, licence, seat)
    return code is not None and any(r.last4 and r.last4 != code[-4:] for r in told)


def _names(context: Context, products: Iterable[str]) -> list[str]:
    found = []
    for product in products:
        known = context.store.products.find(product)
        found.append(known.name if known else product)
    return found


def joined(names: list[str]) -> str:
    """Names as a sentence has them: "Mooring, Muster and Capstan"."""
    if len(names) < 2:
        return "".join(names)
    return f"{', '.join(names[:-1])} and {names[-1]}"


def _stops(
    context: Context, licence: Licence, covers: tuple[str, ...], reaches: tuple[str, ...]
) -> str:
    """What stops when a licence lapses, and what hangs on it, carried plugins too."""
    carried = sorted(
        {
            plugin
            for product in covers
            if product.startswith("theme/")
            for release in context.store.releases.all(product=product)
            for plugin in release.bundles
            if plugin not in covers
        }
    )
    named = joined(_names(context, covers)) or "What it covers"
    verb = "gets" if len(covers) == 1 else "get"
    text = f"{named} {verb} no newer releases on {counted(len(reaches), 'site')}."
    if carried:
        text += f" {joined(_names(context, carried))} come with them and stay as well."
    return text + " The sites run on."


def _text(context: Context, licence: Licence, without: int, free: int | None) -> str:
    """How a licence stands, in a sentence or two."""
    today = context.clock().date()
    parts = []
    if licence.ended(today):
        assert licence.expires is not None  # ended() looked
        parts.append(f"Ended {day(licence.expires, today)}.")
    elif licence.expires is not None:
        left = (licence.expires - today).days
        parts.append(f"Ends {day(licence.expires, today)}, {counted(left, 'day')} left.")
    if licence.covers_until is not None:
        parts.append(f"Covers releases to {day(licence.covers_until, today)}.")
    if licence.form == "through a theme":
        name = joined(_names(context, [licence.through or ""]))
        parts.append(f"As long as {name}'s.")
    if free is not None:
        parts.append(f"{counted(free, 'seat')} free.")
    if without:
        use = "uses it" if without == 1 else "use it"
        parts.append(f"{counted(without, 'site')} {use} without a seat.")
    return " ".join(parts) or "Without end."


# What is coming.


def forecasts(context: Context) -> list[Forecast]:
    """Seats that will be asked for by releases that change the form of licence. Reads."""
    found = []
    for product in context.store.products.all():
        forecast = _forecast(context, product)
        if forecast is not None:
            found.append(forecast)
    return found


def _forecast(context: Context, product: KnownProduct) -> Forecast | None:
    release = form_changes_at(context.store.releases.all(product=product.id))
    if release is None or release.licence is None:
        return None
    version = parse_version(release.version)
    fitting = [
        x
        for x in context.store.licences.all()
        if product.id in covered(context, x) and x.form == release.licence.form
    ]
    seated = {s.site for x in fitting for s in context.store.seats.all(licence=x.id)}
    below = []
    for id, _, text, _ in context.store.installed(product.id):
        site = context.store.sites.get(id)
        if site.environment == "production" and parse_version(text) < version and id not in seated:
            below.append(id)
    if not below:
        return None
    frees = [view(context, x.id).free for x in fitting]
    free = None if any(f is None for f in frees) and fitting else sum(f or 0 for f in frees)
    missing = 0 if free is None else max(0, len(below) - free)
    grace = counted(release.licence.grace_days, "day")
    sites_ = counted(len(below), "site")
    text = (
        f"{product.name} {release.version} asks for a {release.licence.form} licence, with {grace} "
        f"of grace from each site's own update. {sites_} below it "
        f"{'needs' if len(below) == 1 else 'need'} a seat, "
        + (
            "seats are without limit."
            if free is None
            else f"{free} {'is' if free == 1 else 'are'} free"
        )
        + ("" if free is None else f": {missing} to buy first." if missing else ".")
    )
    return Forecast(
        product=product.id,
        name=product.name,
        version=release.version,
        form=release.licence.form,
        grace_days=release.licence.grace_days,
        sites=tuple(below),
        needed=len(below),
        free=free,
        missing=missing,
        text=text,
    )


def form_changes_at(releases: list[KnownRelease]) -> KnownRelease | None:
    """The newest release at which the form of licence becomes another one, or None.

    A release that says nothing of its form has that of the one before it.
    """
    ordered = sorted(releases, key=lambda r: parse_version(r.version).key)
    form, found = None, None
    for release in ordered:
        if release.licence is None or release.channel != "stable":
            continue
        if release.licence.form != form:
            found = release
        form = release.licence.form
    if found is None or found is ordered[0]:
        return None
    return found if found.licence and found.licence.form in SEATED else None
