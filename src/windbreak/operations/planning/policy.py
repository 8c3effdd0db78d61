"""What people decide beside plans: holds, and the rules of the house.

A rule that lets a product be taken by itself makes the service draft, approve and book plans with
those products alone; the ledger names the rule as their author.
"""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import Iterable

from windbreak.core.values.accounts import Principal
from windbreak.core.values.holds import NewHold, StandingHold
from windbreak.core.values.plans import ApprovePlan
from windbreak.core.values.policy import InForce, NewRule, Rule
from windbreak.core.values.runs import WENT_WRONG
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import Verdict
from windbreak.core.versions.version import parse_version
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.planning import planning
from windbreak.operations.reasoning import answers, cases
from windbreak.operations.scheduling import approving, timetables
from windbreak.operations.sites import clients


def hold(context: Context, new: NewHold, by: Principal) -> StandingHold:
    """Decide not to move a product. Writes. Raises NotFound for a site that is not there."""
    if new.site is not None:
        context.store.sites.get(new.site)
    with context.store.transaction():
        kept = context.store.holds.add(
            StandingHold(
                **dict(new), id=secrets.token_hex(4), author=by.name, made_at=context.clock()
            )
        )
        where = f"on {context.store.sites.get(new.site).label}" if new.site else "everywhere"
        which = "" if new.range.strip() == "*" else f" {new.range}"
        what = f"{_name(context, new.product)}{which} held {where}"
        context.record(by.name, what, new.product, why=new.reason)
    context.tell("hold", new.product, f"held {where}")
    return kept


def _name(context: Context, product_id: str) -> str:
    product = context.store.products.find(product_id)
    return product.name if product else product_id


def lift(context: Context, id: str, by: Principal) -> None:
    """Lift a hold. Writes. Raises NotFound."""
    hold = context.store.holds.get(id)
    with context.store.transaction():
        context.store.holds.drop(id)
        what = f"hold on {_name(context, hold.product)} lifted"
        context.record(by.name, what, hold.product)
    context.tell("hold", hold.product, "lifted")


def set_rule(context: Context, new: NewRule, by: Principal) -> Rule:
    """Decide how releases are taken, somewhere or everywhere. Writes.

    Raises NotFound for a site that is not there, Refused for a client nobody has.
    """
    if new.site is not None:
        context.store.sites.get(new.site)
    clients.check(context, new.client)
    with context.store.transaction():
        kept = context.store.rules.add(
            Rule(**dict(new), id=secrets.token_hex(4), author=by.name, made_at=context.clock())
        )
        context.record(by.name, f"a rule for {kept.where}", kept.where, why=new.reason)
    context.tell("policy", kept.where, "a rule was set")
    return kept


def drop_rule(context: Context, id: str, by: Principal) -> None:
    """Drop a rule. Writes. Raises NotFound."""
    rule = context.store.rules.get(id)
    with context.store.transaction():
        context.store.rules.drop(id)
        context.record(by.name, f"the rule for {rule.where} dropped", rule.where)
        lapse(context)
    context.tell("policy", rule.where, "a rule was dropped")


def of_site(context: Context, id: str) -> list[InForce]:
    """What holds for each product on a site, and which rule says so. Reads. Raises NotFound."""
    site = context.store.sites.get(id)
    inventory = context.store.inventories.find(id)
    products = sorted(c.product for c in inventory.components) if inventory else []
    return list(cases.policy_of(context, site, products).values())


def lapse(context: Context) -> None:
    """Let plans go back that were approved by rules of which one stands no more: what a rule let go
    by itself dies with it. Writes.
    """
    today = context.clock().date()
    standing = {rule.id for rule in context.store.rules.all() if rule.stands(today)}
    for plan in context.store.plans.by_rules():
        gone = set(plan.approval.rules if plan.approval else ()) - standing
        if not gone or context.store.runs.count(plan=plan.id, state=("running", "waiting")):
            continue
        with context.store.transaction():
            context.store.plans.change(plan.id, state="replaced", to_book=False)
            what = f"plan {plan.id} is approved no more"
            context.record("Windbreak", what, plan.site, why="the rule that let it go is gone")
        context.tell("plan", plan.site, what)


def let_go(context: Context) -> list[int]:
    """Draft, approve and book plans for what rules let be taken by itself; their numbers. Writes.

    A site that has a plan under way, approved or booked is left alone; so is one whose last run
    went wrong, until somebody has looked, and one without a window. The twin goes first: a site
    takes what its twin runs already.
    """
    lapse(context)
    today = context.clock().date()
    if not any(r.take == "by-itself" and r.stands(today) for r in context.store.rules.all()):
        return []
    gone = []
    last = context.store.runs.last()
    for site in context.store.sites.all():
        run = last.get(site.id)
        wrong = run is not None and run.state in WENT_WRONG
        if wrong or site.retired_at is not None or not site.windows or not _idle(context, site):
            continue
        verdicts = answers.verdicts(context, site.id).verdicts
        moving = [v.product for v in verdicts if v.to is not None and v.to != v.from_]
        rules = cases.policy_of(context, site, moving)
        alone = frozenset(p for p in moving if rules[p].take == "by-itself")
        alone -= _not_on_twin(context, site, verdicts)
        jumps = {p: rules[p].take_jump or "major" for p in alone}
        if not alone or not planning.would_move(context, site.id, alone, jumps):
            continue
        by = Principal(account="rules", name="Rules of the house", via="service")
        plan = planning.draft(context, site.id, only=alone, jumps=jumps)
        moved = {p for p in alone if p in plan.targets}
        named = sorted({rules[p].take_by for p in moved})
        by_rules = tuple(sorted({rules[p].take_rule for p in moved}))
        why = f"by the rule for {'; '.join(named)}"
        with contextlib.suppress(Refused):  # what can't be approved stays a draft, to be seen
            approving.approve(context, plan.id, ApprovePlan(why=why), by, rules=by_rules)
            context.store.plans.change(plan.id, to_book=True)
        gone.append(plan.id)
    if gone:
        timetables.keep(context, "Rules of the house")
    return gone


def _not_on_twin(context: Context, site: Site, verdicts: Iterable[Verdict]) -> frozenset[str]:
    """What a site's twin does not run yet in the version that the site would go to.

    A twin on which nothing is ever done by itself, or whose last run went wrong, keeps all back.
    """
    twins = [t for t in context.store.sites.all(twin_of=site.id) if t.retired_at is None]
    if not twins:
        return frozenset()
    (twin,) = twins
    inventory = context.store.inventories.find(twin.id)
    run = context.store.runs.last().get(twin.id)
    wrong = run is not None and run.state in WENT_WRONG
    products = set()
    for verdict in verdicts:
        there = inventory.version_of(verdict.product) if inventory else None
        if verdict.to is None or wrong or there is None or _older(there, verdict.to):
            products.add(verdict.product)
    return frozenset(products)


def _older(version: str, than: str) -> bool:
    return parse_version(version) < parse_version(than)


def _idle(context: Context, site: Site) -> bool:
    if site.link.state != "linked" or context.store.inventories.find(site.id) is None:
        return False
    if any(b for b in context.store.bookings.all(site=site.id, state="waiting")):
        return False
    if context.store.runs.all(site=site.id, state="running"):
        return False
    last = context.store.plans.all(site=site.id, newest_first=True, limit=1)
    return not last or last[0].state not in ("approved", "running")
