"""The components of one site as they are read: where each comes from, where it goes, and why."""

from __future__ import annotations

from windbreak.core.case.candidates import members
from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import Case
from windbreak.core.explanation.newest import newest
from windbreak.core.explanation.passing import Passed, passed
from windbreak.core.values.basics import WORST_FIRST, State
from windbreak.core.values.inventories import Inventory
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import Verdict
from windbreak.core.versions.version import parse_version
from windbreak.documents.sites import ComponentView
from windbreak.operations.context import Context
from windbreak.operations.reasoning import supposing
from windbreak.operations.reasoning.answers import Reasoned
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.reasoning.catalogue import catalogue
from windbreak.operations.scheduling import failed_moves
from windbreak.operations.views.standings import Knowledge, sentence, states_of
from windbreak.wording.looks import partly_text


def components(context: Context, site: Site, reasoned: Reasoned) -> tuple[ComponentView, ...]:
    """The components of a site, the worst first. Reads."""
    case, answer = reasoned.case, reasoned.answer
    inventory = context.store.inventories.get(site.id)
    knowledge, own = Knowledge.of(Ground.read(context), site), Catalogue.of(case)
    by_product = {m.product: m for m in members(case, own)}
    went_wrong = _went_wrong(context, site)
    views = []
    for verdict, state in zip(answer.verdicts, states_of(case, answer, knowledge), strict=True):
        view = _component(context, case, site, inventory, verdict, state)
        broken = [b for b in answer.broken if verdict.product in (b.a, b.b)]
        text = sentence(case, verdict, knowledge, state, broken, active=view.active)
        why = went_wrong.get((verdict.product, str(verdict.to)))
        if why and view.target is not None:
            view = view.model_copy(update={"state": "failed"})
            text = why if state == "ready" else f"{text.partition(', and nothing')[0]}. {why}"
        four = newest(case, own, by_product[verdict.product])
        views.append(view.model_copy(update={"text": text, "four": four}))
    shown = [v for v in views if v.version is not None or v.target is not None]
    shown.sort(key=lambda v: (WORST_FIRST.index(v.state), _KINDS.index(v.kind), v.name))
    return tuple(shown)


def _went_wrong(context: Context, site: Site) -> dict[tuple[str, str], str]:
    """The moves of which something stands against that no version tells: by product and version,
    in a sentence. What failed elsewhere waits for a word; what a run left open here comes first.
    """
    told: dict[tuple[str, str], str] = {}
    for move in failed_moves.waiting(context):
        if why := failed_moves.against(context, [move], site.id, {move.product: move.version}):
            told[move.product, move.version] = f"{why}."
    for matter in context.store.matters.all(open=True, site=site.id):
        plan = context.store.plans.find(context.store.runs.get(matter.id).plan)
        why = f"Run {matter.id} tried this move and ended badly. Decide its matter first."
        told |= dict.fromkeys(plan.targets.items() if plan else (), why)
    return told


_KINDS = ("theme", "core", "plugin", "runtime")


def _component(
    context: Context,
    case: Case,
    site: Site,
    inventory: Inventory,
    verdict: Verdict,
    state: State,
) -> ComponentView:
    """One component, but for its sentence and the four answers to "newest". Reads."""
    product = verdict.product
    installed = next((c for c in inventory.components if c.product == product), None)
    active = installed.active if installed else True
    return ComponentView(
        product=product,
        name=case.label(product),
        kind=product.partition("/")[0],
        version=verdict.from_,
        target=verdict.to if verdict.to != verdict.from_ else None,
        newest=verdict.newest,
        state=state,
        origin=origin(context, case, site, inventory, product),
        active=active,
        text="",
        passes=_passes(context, product, verdict),
        folder=installed.folder if installed else None,
        own=product in site.own,
        where=partly_text(inventory, product),
        acts=supposing.helps(verdict, site),
    )


def _passes(context: Context, product: str, verdict: Verdict) -> Passed | None:
    """What lies between the installed version and where it goes, or the newest. Reads."""
    end = verdict.to if verdict.to != verdict.from_ else verdict.newest
    if verdict.from_ is None or end is None or end == verdict.from_:
        return None
    releases = context.store.releases.all(product=product)
    return passed(product, releases, parse_version(verdict.from_), parse_version(end))


def origin(context: Context, case: Case, site: Site, inventory: Inventory, product_id: str) -> str:
    """Where a component comes from on this site; the same plugin may be bought on another."""
    if product_id in site.own:
        return "made for this site"
    product = context.store.products.find(product_id)
    if product is None:
        return "no feed covers it"
    if product_id in catalogue(context).namesakes(inventory):
        return "another maker's; it shares a folder name"
    if product.feed is None:
        return "by hand"
    if product.access in ("public", "host"):
        return product.access
    if any(licence.product == product_id for licence in case.site.licences):
        return f"licensed, {product.maker}"
    theme = next(case.carriers(product_id), None)
    if theme is not None:
        return f"carried by {case.label(theme)}"
    if any(item.product == product_id for item in case.site.shelf):
        return "on the shelf"
    if product.access == "bundled-only":
        return "its maker’s news alone: no package"
    return f"licensed, {product.maker}; no licence here"
