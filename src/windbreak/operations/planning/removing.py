"""What leaves a site: only by a plan of its own, that a person approves and that can go back.

A step for each component, what others need last. Nothing leaves that is in use as the theme, that
something else needs, that the best choice would bring back, or of which nobody has a package.
"""

from __future__ import annotations

from collections.abc import Sequence

from windbreak.core.case.situation import Case
from windbreak.core.values.plans import SitePlan
from windbreak.core.values.verdicts import Answer, Plan, PlannedMove, PlannedStep
from windbreak.documents.sites import Proposal
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.planning import proposals
from windbreak.operations.reasoning.answers import reason
from windbreak.operations.reasoning.cases import case_of
from windbreak.wording.words import listed


def draft(context: Context, site: str, products: Sequence[str]) -> SitePlan:
    """Make a plan by which some components leave a site, and keep it as a draft. Writes.

    Raises Refused where one is not there, or may not leave; the text says why.
    """
    record = context.store.sites.get(site)
    if record.retired_at is not None:
        raise Refused("retired", f"{record.label} is retired: it is worked on no more")
    case, wanted = case_of(context, site), list(dict.fromkeys(products))
    for product in wanted:
        _may_leave(case, product, record.label)
    _leaves_a_spare(case, wanted)
    answer, today = _then(context, case, wanted), reason(context, case).answer
    needed = _against(case, wanted, today, answer)
    if needed:
        raise Refused("needed", " ".join(needed))
    proposed = {proposal.product: proposal for proposal in proposals.of_case(context, case, today)}
    versions = {c.product: c.version for c in case.site.components}
    order = _order(case, wanted)
    with context.store.transaction():
        kept = context.store.plans.add(
            SitePlan(
                id=0,
                site=site,
                made_at=context.clock(),
                start={
                    c.product: c.version for c in context.store.inventories.get(site).components
                },
                answer=answer.model_copy(update={"verdicts": (), "broken": ()}),
                plan=Plan(
                    site=site,
                    combined=0,
                    steps=tuple(_step(p, versions[p], proposed.get(p)) for p in order),
                ),
                targets={},
                scope=(),
            )
        )
    context.tell("plan", site, f"plan {kept.id} drafted: what leaves the site")
    return kept


def _step(product: str, version: str, proposed: Proposal | None) -> PlannedStep:
    why = proposed.text if proposed else "It is to leave; nothing on the site needs it."
    return PlannedStep(
        moves=(PlannedMove(product=product, from_=version, to=None, by=None),), why=why
    )


def _may_leave(case: Case, product: str, site: str) -> None:
    """Raise Refused for what leaves no site by a plan."""
    component = next((c for c in case.site.components if c.product == product), None)
    if component is None:
        raise Refused("not-installed", f"{case.label(product)} is not on {site}")
    name, kind = case.label(product), product.partition("/")[0]
    if kind not in ("plugin", "theme"):
        raise Refused("not-removable", f"{name} is what the site runs on: it can’t leave")
    if kind == "theme" and component.active:
        raise Refused("in-use", f"{name} is the theme in use, or its parent: choose another first")
    if case.product[product].access == "custom":
        raise Refused(
            "own",
            f"{name} was made for {site}: there is no package to bring it back from. Take it away "
            "there by hand, or unmark it first",
        )


def _leaves_a_spare(case: Case, wanted: Sequence[str]) -> None:
    """Raise Refused where no theme would be left beside the one in use, to fall back on."""
    themes = [c for c in case.site.components if c.product.startswith("theme/")]
    going = [c.product for c in themes if c.product in wanted]
    if going and not any(not c.active and c.product not in going for c in themes):
        names = listed([case.label(product) for product in going])
        raise Refused(
            "last-spare", f"without {names} no theme is left to fall back on; one stays on a site"
        )


def against(context: Context, case: Case, products: Sequence[str]) -> list[str]:
    """What stands against some components leaving a site as it is now, as sentences. Reads."""
    return _against(case, products, reason(context, case).answer, _then(context, case, products))


def _then(context: Context, case: Case, products: Sequence[str]) -> Answer:
    """What is best for a site without some components."""
    rest = tuple([c for c in case.site.components if c.product not in products])
    site = case.site.model_copy(update={"components": rest})
    return reason(context, case.model_copy(update={"site": site})).answer


def _against(case: Case, products: Sequence[str], today: Answer, then: Answer) -> list[str]:
    """What would be broken that goes together today, and what would be brought back."""
    broken = {(pair.a, pair.b) for pair in today.broken}
    lines = [f"It is needed: {pair.text}" for pair in then.broken if (pair.a, pair.b) not in broken]
    back = [v.product for v in then.verdicts if v.outcome == "add" and v.product in products]
    reached = {v.product: v.to or v.from_ or "" for v in then.verdicts}
    for product in back if not lines else ():
        who = [
            f"{case.label(other)} {version}"
            for other, version in reached.items()
            if other not in products and product in _needs(case, other, version)
        ]
        ask = "asks" if len(who) < 2 else "ask"
        name = case.label(product)
        lines.append(f"{listed(who) or 'Something'} {ask} for {name}: it would be brought back.")
    return lines


def _order(case: Case, wanted: Sequence[str]) -> list[str]:
    """What leaves first: whatever nothing needs of what is still there."""
    versions = {c.product: c.version for c in case.site.components}
    left, order = sorted(wanted), list[str]()
    while left:
        for product in left:
            others = [move for move in left if move != product]
            needs = {p for other in others for p in _needs(case, other, versions[other])}
            if product not in needs:
                break
        else:
            product = left[0]  # they need each other: whichever goes first
        left.remove(product)
        order.append(product)
    return order


def _needs(case: Case, product: str, version: str) -> set[str]:
    return {
        needed
        for release in case.releases_of[product]
        if release.version == version
        for needed in release.requires
    }
