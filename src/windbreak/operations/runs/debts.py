"""What runs owe to their sites: written before anything is switched, paid when it was read back.

A debt outlives its run, restarts and weeks of silence: whenever the site answers again, it is paid
before anything else. What is owed is never taken for "as it was" by a later run.

    owed      updates were on; plugin/lee was on; the page was down
    paid      the agent is asked to switch each back, and an inventory shows it so
"""

from __future__ import annotations

import secrets
from collections.abc import Callable, Collection, Iterable

from windbreak.core.values.inventories import Inventory
from windbreak.core.values.matters import Debt, DebtKind
from windbreak.core.values.runs import Run
from windbreak.links.adapter import Agent
from windbreak.links.errors import CallFailed
from windbreak.operations.context import Context
from windbreak.wording.words import listed

# The page comes last: what lies behind it is to be in order first.
_ORDER: tuple[DebtKind, ...] = ("plugin", "updates", "cache", "page")


def owed(context: Context, site: str) -> list[Debt]:
    """What is owed to a site, in the order in which it is paid. Reads."""
    unpaid = context.store.debts.all(site=site, paid=False)
    return sorted(unpaid, key=lambda debt: (_ORDER.index(debt.kind), debt.name))


def owe(context: Context, run: Run, kind: DebtKind, *, was: bool, name: str = "") -> Debt:
    """Write down what is about to be switched, with what it was. What is owed already stays as it
    was first written. Writes.
    """
    for debt in owed(context, run.site):
        if debt.key == (kind, name):
            return debt
    return context.store.debts.add(
        Debt(
            id=0,
            site=run.site,
            run=run.id,
            kind=kind,
            name=name,
            label=_label(context, kind, name),
            was=was,
            since=context.clock(),
        )
    )


def settle(context: Context, inventory: Inventory) -> list[Debt]:
    """Count as paid what an inventory shows to be as it was; what is still owed. Writes."""
    left = []
    for debt in owed(context, inventory.id):
        if _as_it_was(debt, inventory):
            context.store.debts.change(debt.id, paid_at=context.clock())
            context.tell("debt", debt.site, f"{debt.label}: as it was")
        else:
            left.append(debt)
    return left


def adopt(context: Context, inventory: Inventory) -> list[Debt]:
    """Owe what a site's agent holds for a run that these books know nothing of, as after an older
    backup: whoever takes a site over pays for whoever drove it before. What is new is returned.
    Writes.
    """
    runs = context.store.runs.all(site=inventory.id) if inventory.held else []
    if any(run.ended_at is None or run.ended_at >= inventory.at for run in runs):
        return []  # a run explains it: one under way, or one that ended since the agent answered
    owes = {debt.key for debt in owed(context, inventory.id)}
    adopted = []
    for held in inventory.held:
        debt = Debt(
            id=0,
            site=inventory.id,
            run=0,
            kind=held.kind,
            name=held.name,
            label=_label(context, held.kind, held.name),
            was=held.was,
            since=context.clock(),
        )
        if debt.key not in owes and not _as_it_was(debt, inventory):
            adopted.append(context.store.debts.add(debt))
    if adopted:
        what = f"{in_words(adopted)}: switched for a run that is not in these books; to be set back"
        context.record("Windbreak", what, inventory.id, why="its agent holds it")
        context.tell("debt", inventory.id, what)
    return adopted


def pay(
    context: Context,
    agent: Agent,
    site: str,
    read: Callable[[], Inventory],
    *,
    but: Collection[DebtKind] = (),
) -> list[Debt]:
    """Set everything back that is owed to a site, ``but`` for some kinds, and read back; what is
    still owed. ``read`` asks for the inventory and takes it in. Writes. Raises LinkError.
    """
    for debt in owed(context, site):
        if debt.kind in but:
            continue
        # Each try has an id of its own, never met before, in a restored copy either: an answer kept
        # from before is no proof of today's state.
        change = f"debt-{debt.id}-{secrets.token_hex(5)}"
        context.store.debts.change(debt.id, change=change, tries=debt.tries + 1)
        try:
            _switch(agent, debt, change)
        except CallFailed as error:
            context.tell("debt", site, f"{debt.label} could not be set back: {error}")
    return settle(context, read())


def _switch(agent: Agent, debt: Debt, change: str) -> None:
    match debt.kind:
        case "updates":
            agent.do("updates", change, on=debt.was)
        case "cache":
            agent.do("caches", change, name=debt.name, on=debt.was)
        case "plugin":
            agent.do("switch", change, product=debt.name, on=debt.was)
        case "page":
            agent.do("maintenance", change, on=debt.was)


def _as_it_was(debt: Debt, inventory: Inventory) -> bool:
    """Whether an inventory shows what was switched as it was. What is gone owes nothing."""
    match debt.kind:
        case "updates":
            return inventory.automatic_updates == debt.was
        case "cache":
            there = debt.name in (*inventory.caches, *inventory.caches_off)
            return not there or (debt.name in inventory.caches) == debt.was
        case "plugin":
            states = [c.active for c in inventory.components if c.product == debt.name]
            return not states or states[0] == debt.was
        case "page":
            # An older agent does not tell of the page: its answer to the call has to do.
            if inventory.maintenance is None:
                return debt.tries > 0
            return inventory.maintenance == debt.was


def _label(context: Context, kind: DebtKind, name: str) -> str:
    """What is owed, in words: "the cache of Lee"."""
    product = context.store.products.find(name)
    title = product.name if product is not None else name
    match kind:
        case "updates":
            return "automatic updates"
        case "cache":
            return f"the cache of {title}"
        case "plugin":
            return title
        case "page":
            return "the maintenance page"


def in_words(debts: Iterable[Debt]) -> str:
    """What is owed, in one phrase: "automatic updates and the cache of Lee"."""
    return listed([debt.label for debt in debts])
