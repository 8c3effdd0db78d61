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
from windbreak.operations.runs.course import course
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
        bad, why = went_wrong.get((verdict.product, str(verdict.to)), (state, ""))
        if why and view.target is not None:
            view = view.model_copy(update={"state": bad})
            text = why if state == "ready" else f"{text.partition(', and nothing')[0]}. {why}"
        four = newest(case, own, by_product[verdict.product])
        views.append(view.model_copy(update={"text": text, "four": four}))
    shown = [v for v in views if v.version is not None or v.target is not None]
    shown.sort(key=lambda v: (WORST_FIRST.index(v.state), _KINDS.index(v.kind), v.name))
    return tuple(shown)


def _went_wrong(context: Context, site: Site) -> dict[tuple[str, str], tuple[State, str]]:
    """The moves that wait for a person, by product and version: the state of each, and why. What a
    run left open on this site comes before what failed elsewhere.
    """
    why: dict[tuple[str, str], tuple[State, str]] = {}
    for move in failed_moves.waiting(context):
        targets = {move.product: move.version}
        if text := failed_moves.against(context, [move], site.id, targets):
            why[move.product, move.version] = "blocked", f"{text}."
    for matter in context.store.matters.all(open=True, site=site.id):
        run = context.store.runs.get(matter.id)
        plan = context.store.plans.find(run.plan)
        if plan is None:
            continue
        steps = course(plan, context.store.journal.all(run=run.id)).steps
        tried = {move.product for step in steps[: run.step] for move in step.moves}
        for product, version in plan.targets.items():
            bad: State = "failed" if product in tried else "blocked"
            how = "at this move" if product in tried else "before it came to this move"
            text = f"Run {run.id} ended badly {how}. Decide its matter first."
            why[product, version] = bad, text
    return why


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
