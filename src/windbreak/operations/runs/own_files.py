"""Files of a site's own inside its components: listed before a component's folder is swapped.

What the component's package does not hold (translations, uploads) is carried over. What was changed
in place is for a person to decide when the plan is approved: carried over into the new version, or
set aside with the old folder. Where the package can't be had it is told that nothing is known.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from windbreak.core.values.integrity import ComponentFiles
from windbreak.core.values.plans import ChangedFiles, SitePlan
from windbreak.core.values.verdicts import PlannedStep
from windbreak.links.adapter import Agent
from windbreak.links.errors import LinkError
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.sites import integrity
from windbreak.wording.looks import changed_text, files_text


def carried(files: ComponentFiles, decided: ChangedFiles | None) -> tuple[str, ...]:
    """The files of a component that go into its new version."""
    return files.added + (files.changed if decided == "carry-over" else ())


def moved(steps: Iterable[PlannedStep], *, leaving: bool = False) -> dict[str, str]:
    """The components of which some steps swap the folder, or with ``leaving`` take it away too,
    each as it is before the first.
    """
    start: dict[str, str] = {}
    for move in (move for step in steps for move in step.moves):
        if move.from_ is None or move.product.startswith("runtime/"):
            continue
        if move.to is not None or leaving:
            start.setdefault(move.product, move.from_)
    return start


def check(
    context: Context,
    agent: Agent,
    site: str,
    steps: Iterable[PlannedStep],
    decided: ChangedFiles | None,
) -> list[ComponentFiles]:
    """The own files of what some steps move. Raises Refused where some were changed in place and
    nobody has decided what becomes of them, and LinkError.
    """
    every = [integrity.of_component(context, agent, site, p, v) for p, v in moved(steps).items()]
    changed = [own for own in every if own.changed]
    if changed and decided is None:
        names = {p.id: p.name for p in context.store.products.all()}
        raise Refused(
            "changed-files",
            f"files of {changed_text(changed, names)} were changed in place; say what becomes of "
            "them when you approve its plan: carry-over, or set-aside",
        )
    return every


def check_if_it_answers(
    context: Context, agent: Agent, plan: SitePlan, decided: ChangedFiles | None
) -> None:
    """The same, where the agent answers; a run looks again before it changes anything."""
    try:
        check(context, agent, plan.site, plan.plan.steps, decided)
    except LinkError:
        return


def seen_by_hand(context: Context, site: str, steps: Iterable[PlannedStep]) -> Iterator[str]:
    """What was changed in place in the components that steps move, as seen last. Reads."""
    seen = integrity.of(context, site)
    if seen is None:
        return
    for product_id, version in moved(steps, leaving=True).items():
        files = seen.of(product_id, version)
        if files is not None and (files.changed or files.missing):
            product = context.store.products.find(product_id)
            yield f"{product.name if product else product_id}: {files_text(files)}"
