"""What gives cause for a finding in the codes that stand on sites and have no seat there."""

from __future__ import annotations

from collections.abc import Iterator

from windbreak.core.values.findings import Finding
from windbreak.core.values.inventories import Registration
from windbreak.core.values.licences import Licence, Seat
from windbreak.core.values.sites import Site
from windbreak.operations.context import Context
from windbreak.operations.findings.causes.made import act, finding
from windbreak.operations.licensing import licence_codes, licence_rights


def of_codes(context: Context, site: Site, names: dict[str, str]) -> Iterator[Finding]:
    """Codes by which a live site is registered, though it has no seat: one that was taken back and
    still stands, another site's, or one that nobody here knows.
    """
    inventory = context.store.inventories.find(site.id)
    if inventory is None or site.environment != "production":
        return
    rights = licence_rights.kept(context)
    for registration in inventory.registrations:
        if registration.state != "registered" or not registration.last4:
            continue
        if any(registration.product in covers and x.seated for x, covers in rights.of(site)):
            continue  # it has a seat; which code stands there is told of the seat
        covering = [
            x for x, covers in rights.licences if registration.product in covers and x.seated
        ]
        yield _of_code(
            context,
            site,
            registration,
            covering,
            names.get(registration.product, registration.product),
        )


def _of_code(
    context: Context, site: Site, registration: Registration, covering: list[Licence], name: str
) -> Finding:
    code = f"…{registration.last4}"
    for licence in covering:
        if licence_codes.released(context, licence.id, site.id) == code:
            return finding(
                context,
                f"code-left:{site.id}:{registration.product}",
                "waiting",
                "medium",
                site,
                f"**{site.label}**: the code of {licence.label} that was taken back still stands "
                "there.",
                f"It ends on {code}, and its maker counts it as long as it stands. Take it away "
                "there before another site has it.",
                act(
                    "Make an errand of it",
                    "add-errand",
                    site=site.id,
                    text=f"Take the code {code} of {name} away",
                ),
            )
        holder = _holder(context, licence, code, site)
        if holder is not None:
            label = context.store.sites.get(holder.site).label
            return finding(
                context,
                f"code-twice:{site.id}:{registration.product}",
                "blocked",
                "medium",
                site,
                f"**{site.label}** is registered with the code of {label}.",
                f"The code of {licence.label} that ends on {code} is {label}’s; a code is good for "
                f"one live site. Give {site.label} a seat with a code of its own.",
                act(
                    "See what gives it the right",
                    "buy-seat",
                    site=site.id,
                    product=registration.product,
                ),
            )
    return finding(
        context,
        f"code-unknown:{site.id}:{registration.product}",
        "waiting",
        "low",
        site,
        f"**{site.label}**: {name} is registered with a code that no licence here has.",
        f"It ends on {code}. Somebody bought it elsewhere, or its licence is not entered: then no "
        "end of it is told, and no release is taken by it.",
        act("See what gives it the right", "buy-seat", site=site.id, product=registration.product),
    )


def _holder(context: Context, licence: Licence, code: str, site: Site) -> Seat | None:
    """The seat of another site whose code it is, by its last four characters."""
    seats = context.store.seats.all(licence=licence.id)
    return next((s for s in seats if s.code == code and s.site != site.id), None)
