"""What somebody can do about what keeps a component back, each act an operation that exists here.

What the house does not do is left out: going round a licence by way of the shelf, removing what
the plan would bring back, the same act in a greater measure.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date

from windbreak.core.case.situation import Case
from windbreak.core.explanation.acts import apply
from windbreak.core.resolution.resolve import resolve
from windbreak.core.values.entitlements import Entitlement
from windbreak.core.values.findings import NextAct
from windbreak.core.values.holds import StandingHold
from windbreak.core.values.reasons import Act
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import ActSet, Blocked, Verdict
from windbreak.operations.licensing.entitlements import entitlement
from windbreak.operations.reasoning.cases import Ground, never_taken
from windbreak.operations.reasoning.catalogue import ProductFacts
from windbreak.wording.roots import way, ways_text
from windbreak.wording.words import day

_NOTHING = ProductFacts(None)


class Ways:
    """The acts of one site as they are done here, each with what it is done on."""

    def __init__(self, ground: Ground, site: Site, case: Case) -> None:
        self.ground, self.site, self.case = ground, site, case
        self.host = ground.hosts.get(site.host) if site.host else None
        self._rights: dict[tuple[str, str], Entitlement] = {}
        self._removable: dict[str, bool] = {}

    # What is known of a product here.

    def facts(self, product: str) -> ProductFacts:
        return self.ground.catalogue.facts.get(product, _NOTHING)

    def right(self, product: str, version: str) -> Entitlement:
        """Whether the site may take a release, asked once."""
        key = (product, version)
        if key not in self._rights:
            self._rights[key] = entitlement(self.ground, self.site, product, version)
        return self._rights[key]

    def holds(self, product: str) -> list[StandingHold]:
        """What people hold of a product on the site today."""
        today = self.case.day
        return [
            h
            for h in self.ground.holds
            if h.product == product
            and h.site in (None, self.site.id)
            and (h.until is None or today <= h.until)
        ]

    def rule(self, product: str, why: str | None = None) -> tuple[str, str] | None:
        """The rule by which a product is never taken here: its id, and whom it is for."""
        rule = self.ground.policy_of(self.site, [product])[product]
        if rule.take != "never" or (why is not None and why != never_taken(rule)):
            return None
        return rule.take_rule, rule.take_by

    def day(self, when: date) -> str:
        return day(when, self.ground.today)

    # Sets of acts.

    def sets(self, verdict: Verdict, blocked: Blocked) -> tuple[ActSet, ...]:
        """The sets of acts as things somebody can do here, the fewest first, none of them twice."""
        by_acts: dict[frozenset[str], ActSet] = {}
        measured: set[frozenset[str]] = set()
        for unblocking in blocked.unblock:
            ways = self._ways(verdict, unblocking.acts)
            if ways is None:
                continue
            least = frozenset(_in_any_measure(done) for done in ways)
            if least in measured:
                continue  # the same in a greater measure
            measured.add(least)
            act_set = ActSet(acts=unblocking.acts, text=ways_text(ways), ways=ways)
            by_acts[frozenset(done.label for done in ways)] = act_set
        return tuple(
            act_set for key, act_set in by_acts.items() if not any(other < key for other in by_acts)
        )

    def _ways(self, verdict: Verdict, acts: Iterable[Act]) -> tuple[NextAct, ...] | None:
        """A set of acts as they are done here; None where one of them is none."""
        ways: dict[str, NextAct] = {}
        for act in acts:
            its_ways = list(self._way(verdict, act))
            if not its_ways:
                return None
            ways |= {done.label: done for done in its_ways}
        return tuple(ways.values())

    def _way(self, verdict: Verdict, act: Act) -> Iterator[NextAct]:
        product, version = act.product or "", act.version or ""
        name, here = self.case.label(product), self.site.id
        match act.act:
            case "wait":
                assert act.until is not None
                yield self.wait(act.until, verdict.product)
            case "licence":
                newest = verdict.blocked.version if verdict.blocked else ""
                wanted = newest if product == verdict.product else self._newest(product)
                yield from self.right(product, wanted).acts
            case "shelf" if self._may_shelve(product, version):
                yield self.shelve(product, version)
            case "lift-hold":
                yield from self._let_go(product)
            case "offer":
                yield self.ask_host(product, version)
            case "remove" if self._stays_away(act):
                yield way("remove", of=name, site=here, product=product)
            case "activate":
                yield way("switch-on", of=name, site=here, text=f"Switch {name} on")
            case "channel":
                yield way(
                    "take-channel",
                    of=f" of {name}" if product else "",
                    named={"channel": act.channel or ""},
                    site=here,
                    product=product or verdict.product,
                    channels=f"stable,{act.channel}",
                    why=f"{name} is wanted before it is stable",
                )

    def _newest(self, product: str) -> str:
        """The newest release of a product; "0" where none is listed."""
        releases = self.case.releases_of.get(product, ())
        return releases[-1].version if releases else "0"

    def _may_shelve(self, product: str, version: str) -> bool:
        """Whether the shelf is a way: never one round a licence."""
        if product not in self.case.product or self.case.product[product].access != "licensed":
            return True
        return self.right(product, version).by is not None

    def _let_go(self, product: str) -> Iterator[NextAct]:
        """What lifts all that holds a product here: holds of people, rules, open decisions."""
        listed = self.facts(product)
        for hold in listed.withheld:
            version = hold.range.removeprefix("=")
            yield (self.shelve if version in listed.refused else self.decide)(product, version)
        given = {(right.product, right.version) for right in self.ground.shelf(self.site.id)}
        for version in listed.brought:
            if (product, version) not in given:
                yield self.give(product, version)
        rule = self.rule(product)
        if rule is not None:
            yield self.change(*rule)
        for standing in self.holds(product):
            yield self.lift(standing)

    def _stays_away(self, act: Act) -> bool:
        """Whether what is removed stays away: the best choice without it does not bring it back."""
        product = act.product or ""
        if product not in self._removable:
            then = resolve(apply(self.case, act), self.ground.catalogue.compiled.beside(self.case))
            number = then.problem.numbers.get(product)
            self._removable[product] = number is None or not then.choice[number]
        return self._removable[product]

    # Single acts.

    def wait(self, until: date, product: str) -> NextAct:
        return way("wait", of=self.day(until), site=self.site.id, product=product)

    def shelve(self, product: str, version: str) -> NextAct:
        file = f"{product.partition('/')[2]}-{version}.zip"
        return way("shelve", of=self._release(product, version), file=file, site=self.site.id)

    def give(self, product: str, version: str) -> NextAct:
        package, of = self.facts(product).brought[version], self._release(product, version)
        return way("give-package", of=of, package=package, site=self.site.id)

    def decide(self, product: str, version: str) -> NextAct:
        of = self._release(product, version)
        return way("decide", of=of, product=product, version=version)

    def change(self, rule: str, where: str) -> NextAct:
        return way("change-rule", of=where, rule=rule)

    def lift(self, hold: StandingHold) -> NextAct:
        name = self.case.label(hold.product)
        return way(
            "lift", of=name, named={"author": hold.author}, hold=hold.id, product=hold.product
        )

    def ask_host(self, product: str, version: str) -> NextAct:
        of = self._release(product, version)
        if self.host is None:
            return way("enter-host", of=of, site=self.site.id)
        return way(
            "ask-host",
            of=of,
            named={"host_name": self.host.name},
            host=self.host.id,
            product=product,
            version=version,
        )

    def _release(self, product: str, version: str) -> str:
        return f"{self.case.label(product)} {version}"


def _in_any_measure(done: NextAct) -> str:
    """What is equal for acts that only differ in how much."""
    on = {k: v for k, v in done.on.items() if k != "version" or done.act != "ask-host"}
    return " ".join([done.act, *(f"{k}={v}" for k, v in sorted(on.items()))])
