"""Explaining: what keeps a component back as it is called here, and what somebody can do about it.

The core says which licence state, which hold, which offer keeps a release out, and which acts would
let it in. Here each gets its name (the licence and the day it ended, the host, whose hold, which
rule), and each act becomes an operation with a command and a page. What the house does not do is
left out: going round a licence by way of the shelf, removing what the plan would bring back,
the same act in a greater measure.

Source of the rules: docs/reasoning.md, "Roots, and acts as they are done here".
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from datetime import date

from windbreak.core.case.catalogue import Catalogue
from windbreak.core.case.situation import OUT_OF_SCOPE, Case
from windbreak.core.explanation.acts import apply
from windbreak.core.resolution.resolve import resolve
from windbreak.core.values.entitlements import Entitlement, Lack
from windbreak.core.values.findings import NextAct
from windbreak.core.values.holds import StandingHold
from windbreak.core.values.reasons import (
    Act,
    BundleExclusion,
    ChannelExclusion,
    Conflict,
    Fact,
    FromExclusion,
    HoldExclusion,
    LicenceExclusion,
    OfferExclusion,
    RootReason,
    SoakExclusion,
    Trade,
    Unshipped,
)
from windbreak.core.values.roots import Root
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import ActSet, Answer, Blocked, Verdict
from windbreak.core.versions.version import parse_version
from windbreak.operations.context import Context
from windbreak.operations.errors import Refused
from windbreak.operations.licensing import licence_rights
from windbreak.operations.reasoning.answers import Reasoned
from windbreak.operations.reasoning.cases import Ground, never_taken
from windbreak.wording import roots as words
from windbreak.wording.reasons import head
from windbreak.wording.words import day, in_words, listed

_TOLD_BY_FACTS = ("conflict", "offer")  # roots that the facts before them have told


def explained(ground: Ground, site: Site, reasoned: Reasoned) -> Reasoned:
    """What was reasoned about a site, told with the names of what is here."""
    answer = _Site(ground, site, reasoned.case).answer(reasoned.answer)
    return replace(reasoned, answer=answer)


def right(context: Context, site: str, product: str, version: str | None) -> Entitlement:
    """The same for a site as it is kept; of the newest release where none is named. Reads.

    Raises NotFound for a site or product that is not known, Refused for a release that is not.
    """
    known = context.store.sites.get(site)
    name = context.store.products.get(product).name
    ground = Ground.read(context)
    told = ground.catalogue.told.get(product)
    releases = sorted(told.releases if told else (), key=lambda r: r.parsed.key)
    if not releases:
        raise Refused("no-release", f"no feed tells of a release of {name}")
    if version is None:
        return entitlement(ground, known, product, releases[-1].version)
    wanted = next((r for r in releases if r.parsed == parse_version(version)), None)
    if wanted is None:
        raise Refused(
            "unknown-release",
            f"no feed tells of {name} {version}; the newest is {releases[-1].version}",
        )
    return entitlement(ground, known, product, wanted.version)


def entitlement(ground: Ground, site: Site, product: str, version: str) -> Entitlement:
    """Whether a site may take a release of a product, and by which right; what would bring it."""
    told = ground.catalogue.told.get(product)
    release = next((r for r in told.releases if r.version == version), None) if told else None
    known = ground.catalogue.product(product)
    name = known.name if known else product
    if known is not None and known.access != "licensed":
        text = f"{name} asks for no licence."
        return Entitlement(
            site=site.id, product=product, version=version, by=None, lacks=(), text=text
        )
    by, lacks = licence_rights.lacks(
        ground.licences,
        site,
        product,
        parse_version(version),
        release.published if release else ground.today,
        ground.today,
    )
    if by is not None:
        label = next(x.label for x, _ in ground.licences.licences if x.id == by)
        text = f"{label} gives {site.label} {name} {version}."
        return Entitlement(
            site=site.id, product=product, version=version, by=by, lacks=(), text=text
        )
    return Entitlement(
        site=site.id,
        product=product,
        version=version,
        by=None,
        lacks=lacks,
        text=words.of_licence(name, lacks, ground.today),
        acts=(_way_to_right(site, product, name, lacks),),
    )


def _way_to_right(site: Site, product: str, name: str, lacks: tuple[Lack, ...]) -> NextAct:
    """What brings a right: the nearest licence renewed, a seat of it given or bought, or one."""
    first = lacks[0] if lacks else None
    where = {"site": site.id}
    match first.why if first else None:
        case "seat free":
            assert first is not None
            return _way("give-seat", f"Give it a seat of {first.label}", licence=first.licence,
                        of=first.label, **where)  # fmt: skip
        case "ended":
            assert first is not None
            return _way("renew", f"Renew {first.label}", licence=first.licence)
        case "no seat free" | "seat elsewhere":
            assert first is not None
            return _way("buy-seat", f"Buy a seat of {first.label}", licence=first.licence,
                        product=product, of=first.label, **where)  # fmt: skip
        case "not covered" if first is not None and first.since is not None:
            return _way("renew", f"Renew {first.label}", licence=first.licence)
        case _:
            return _way("buy-licence", f"Buy a licence for {name}", product=product, of=name,
                        **where)  # fmt: skip


def _way(act: str, label: str, **on: str) -> NextAct:
    return NextAct(act=act, on=on, label=label)


class _Site:
    """One site as its answer is told."""

    def __init__(self, ground: Ground, site: Site, case: Case) -> None:
        self.ground = ground
        self.site = site
        self.case = case
        self.host = ground.hosts.get(site.host) if site.host else None
        self._rights: dict[tuple[str, str], Entitlement] = {}
        self._removable: dict[str, bool] = {}

    def answer(self, answer: Answer) -> Answer:
        by_product = {
            v.product: v if v.blocked is None else self._verdict(v, v.blocked)
            for v in answer.verdicts
        }
        verdicts = [self._nearer(v, by_product) for v in by_product.values()]
        return answer.model_copy(update={"verdicts": tuple(verdicts)})

    # One component.

    def _verdict(self, verdict: Verdict, blocked: Blocked) -> Verdict:
        roots = self._roots(verdict.product, blocked.leads_to)
        apart = self._roots(verdict.product, blocked.apart.leads_to) if blocked.apart else {}
        sets = self._sets(verdict, blocked)
        direct = {way.label for root in roots.values() for way in root.ways}
        sets = tuple(sorted(sets, key=lambda one: not any(w.label in direct for w in one.ways)))
        every = {**roots, **{id: root for id, root in apart.items() if id not in roots}}
        update = {
            "text": self._text(verdict, blocked, roots, apart),
            "roots": tuple(_with_ways(root, sets) for root in every.values()),
            "unblock": sets,
        }
        return verdict.model_copy(update={"blocked": blocked.model_copy(update=update)})

    def _text(
        self,
        verdict: Verdict,
        blocked: Blocked,
        roots: Mapping[str, Root],
        apart: Mapping[str, Root],
    ) -> str:
        """The whole of why it stays: what keeps it, then where that leads, each told once."""
        label = self.case.label(verdict.product)
        parts = [head(label, blocked.version, verdict.from_, verdict.to)]
        own: dict[str, str] = {t.reason.kind: t.text for t in blocked.reasons}
        parts += [own[kind] for kind in ("conflict", "trade") if kind in own]
        theme = next((t for t in self._themes(verdict.product) if _is_of(blocked, t)), None)
        if theme is not None:
            parts.append(f"It comes with {self.case.label(theme)}.")
        shorter = {k: text for k, text in own.items() if k in ("soak", "channel", "from")}
        parts += [
            shorter.get(r.kind, r.text) for r in roots.values() if r.kind not in _TOLD_BY_FACTS
        ]
        if blocked.apart is not None and not apart.keys() <= roots.keys():
            parts.append(f"Apart from that, {blocked.apart.text}")
            parts += [
                r.text
                for id, r in apart.items()
                if id not in roots and r.kind not in _TOLD_BY_FACTS
            ]
        return " ".join(dict.fromkeys(parts))

    def _nearer(self, verdict: Verdict, every: Mapping[str, Verdict]) -> Verdict:
        """A plugin that stays with its theme: what freeing the theme would bring it, told too."""
        blocked = verdict.blocked
        if blocked is None or verdict.from_ is None:
            return verdict
        for theme in (t for t in self._themes(verdict.product) if t in every):
            above = every[theme].blocked
            if above is None or not above.unblock:
                continue
            carried = self._carried(theme, above.version, verdict.product)
            now = verdict.to or verdict.from_
            if carried is None or parse_version(carried) <= parse_version(now):
                continue
            ways = {a.text for a in blocked.unblock}
            label = self.case.label(theme)
            if parse_version(carried) >= parse_version(blocked.version):
                more = f" {label} {above.version} brings {carried}."
                sets = tuple(a for a in above.unblock if a.text not in ways)
            else:
                more = f" {label} {above.version} would bring {carried}."
                nearer = [a.model_copy(update={"brings": carried}) for a in above.unblock]
                sets = tuple(a for a in nearer if a.text not in ways)
            update = {
                "text": blocked.text + more,
                "unblock": (*sets, *blocked.unblock),
                "roots": tuple(_with_ways(root, sets) for root in blocked.roots),
            }
            return verdict.model_copy(update={"blocked": blocked.model_copy(update=update)})
        return verdict

    def _themes(self, plugin: str) -> Iterator[str]:
        """The themes in use here that carry a plugin in some release."""
        for component in self.case.site.components:
            if component.product.startswith("theme/") and component.active:
                releases = self.case.releases_of.get(component.product, ())
                if any(plugin in release.bundles for release in releases):
                    yield component.product

    def _carried(self, theme: str, version: str, plugin: str) -> str | None:
        for release in self.case.releases_of[theme]:
            if release.version == version:
                return release.bundles.get(plugin)
        return None

    # Roots.

    def _roots(self, product: str, reasons: Iterable[RootReason]) -> dict[str, Root]:
        """The roots of why a product stays, by what is equal for equal ones, each once."""
        found: dict[str, Root] = {}
        for reason in reasons:
            through = "" if reason.product == product else reason.product
            for root in self._root(reason):
                found.setdefault(root.id, root.model_copy(update={"through": through}))
        return found

    def _root(self, end: RootReason) -> Iterator[Root]:
        product, version, name = end.product, end.version, self.case.label(end.product)
        on = {"product": product}
        if version is not None:
            on["version"] = version
        match end.reason:
            case LicenceExclusion() if version is not None:
                yield self._of_licence(product, version)
            case HoldExclusion(until=until, reason=why) if version is not None:
                yield self._of_hold(product, version, until, why)
            case OfferExclusion():
                yield self._of_offer(product, version or "")
            case SoakExclusion(soak_class=soak, over=over):
                text = f"{name} {version} soaks until {self._day(over)}, as a {soak} release does."
                wait = _way("wait", f"Wait until {self._day(over)}", site=self.site.id, **on)
                yield Root(kind="soak", on=on, text=text, ways=(wait,))
            case ChannelExclusion(channel=channel):
                text = f"{name} {version} is a {channel} release, and the house takes none."
                yield Root(kind="channel", on={**on, "channel": channel}, text=text)
            case Unshipped(by=by):
                yield self._unshipped(product, version, by)
            case BundleExclusion(carried_by=carried):
                themes = listed(sorted({self.case.label(c.product) for c in carried}))
                text = f"{name} {version} comes only inside {themes}, which is not in use here."
                yield Root(kind="unshipped", on={**on, "by": "theme"}, text=text)
            case FromExclusion(needs=needs):
                text = f"{name} {version} can be reached only from {in_words(needs)}."
                yield Root(kind="from", on=on, text=text)
            case Conflict(facts=facts):
                yield Root(kind="conflict", on={**on, "facts": _facts_id(facts)},
                           text=f"{name} {version} does not go with what is here.")  # fmt: skip
            case Trade():
                return
            case _ if version is None:
                yield Root(kind="package", on=on, text=f"{name} is not here and can’t be had.")
            case _:
                text = f"Neither a feed nor the shelf has the package of {name} {version}."
                yield Root(kind="package", on=on, text=text)

    def _of_licence(self, product: str, version: str) -> Root:
        right = self._right(product, version)
        if not right.lacks:
            return Root(kind="no licence", on={"product": product}, text=right.text,
                        ways=right.acts)  # fmt: skip
        first = right.lacks[0]
        kind = _LACKS[first.why]
        return Root(kind=kind, on={"licence": first.licence}, text=right.text, ways=right.acts)

    def _right(self, product: str, version: str) -> Entitlement:
        key = (product, version)
        if key not in self._rights:
            self._rights[key] = entitlement(self.ground, self.site, product, version)
        return self._rights[key]

    def _of_hold(self, product: str, version: str, until: date | None, why: str) -> Root:
        name = self.case.label(product)
        if why == OUT_OF_SCOPE:
            text = f"{name} {version} is no part of this plan."
            return Root(kind="scope", on={"product": product, "version": version}, text=text)
        if self._undecided(product, version):
            return Root(
                kind="undecided",
                on={"product": product, "version": version},
                text=f"{name} {version} waits for a decision: {why}.",
                ways=(self._decide(product, version),),
            )
        if self._refused(product, version):
            text = f"The package of {name} {version} was refused: {why}."
            return Root(kind="package", on={"product": product, "version": version}, text=text,
                        ways=(self._shelve(product, version),))  # fmt: skip
        rule = self._rule(product, why)
        if rule is not None:
            id, where = rule
            text = f"{name} is never taken, by the rule for {where}."
            return Root(kind="rule", on={"rule": id}, text=text, ways=(self._change(id, where),))
        hold = next((h for h in self._holds(product) if h.reason == why and h.until == until), None)
        end = f" until {self._day(until)}" if until else ""
        if hold is None:
            text = f"{name} {version} is held{end}: {why.rstrip('.')}."
            return Root(kind="hold", on={"product": product, "reason": why}, text=text)
        where = " here" if hold.site else ""
        text = f"{hold.author} holds {name} {version}{where}{end}: {why.rstrip('.')}."
        return Root(kind="hold", on={"hold": hold.id}, text=text, ways=(self._lift(hold),))

    def _holds(self, product: str) -> list[StandingHold]:
        today = self.case.day
        return [
            h
            for h in self.ground.holds
            if h.product == product
            and h.site in (None, self.site.id)
            and (h.until is None or today <= h.until)
        ]

    def _refused(self, product: str, version: str) -> bool:
        told = self.ground.catalogue.told.get(product)
        return told is not None and version in told.refused

    def _undecided(self, product: str, version: str) -> bool:
        told = self.ground.catalogue.told.get(product)
        return told is not None and version in told.undecided

    def _rule(self, product: str, why: str | None = None) -> tuple[str, str] | None:
        """The rule by which a product is never taken here: its id, and whom it is for."""
        rule = self.ground.policy_of(self.site, [product])[product]
        if rule.take != "never" or (why is not None and why != never_taken(rule)):
            return None
        return rule.take_rule, rule.take_by

    def _of_offer(self, product: str, version: str) -> Root:
        name = self.case.label(product)
        if self.host is None:
            text = f"{name} {version} is wanted, and no host is entered for this site."
            return Root(kind="offer", on={"host": "", "product": product}, text=text)
        offers = self.host.offers.get(product, ())
        had = f"offers {name} {listed(list(offers))}" if offers else f"offers no {name}"
        on = {"host": self.host.id, "product": product}
        text = f"{self.host.name} {had}, and not {version}."
        return Root(kind="offer", on=on, text=text, ways=(self._ask_host(product, version),))

    def _unshipped(self, product: str, version: str | None, by: str) -> Root:
        name, maker = self.case.label(product), self.case.label(by)
        if by == product:
            text = f"{name} {version} is the newest there is." if version else f"{name} has none."
            return Root(kind="unshipped", on={"by": by}, text=text)
        text = f"{maker} carries no {name} {version} yet."
        return Root(kind="unshipped", on={"by": by, "product": product}, text=text)

    # Acts.

    def _sets(self, verdict: Verdict, blocked: Blocked) -> tuple[ActSet, ...]:
        """The sets of acts as things somebody can do here, the fewest first, none of them twice."""
        found: dict[frozenset[str], ActSet] = {}
        greatest: dict[frozenset[str], ActSet] = {}
        for one in blocked.unblock:
            ways = self._ways(verdict, one.acts)
            if ways is None:
                continue
            least = frozenset(_in_any_measure(way) for way in ways)
            if least in greatest:
                continue  # the same in a greater measure
            told = ActSet(acts=one.acts, text=words.ways_text(ways), ways=ways)
            greatest[least] = found[frozenset(way.label for way in ways)] = told
        return tuple(told for key, told in found.items() if not any(other < key for other in found))

    def _ways(self, verdict: Verdict, acts: tuple[Act, ...]) -> tuple[NextAct, ...] | None:
        """A set of acts as they are done here; None where one of them is none."""
        ways: dict[str, NextAct] = {}
        for act in acts:
            told = list(self._way(verdict, act))
            if not told:
                return None
            ways |= {way.label: way for way in told}
        return tuple(ways.values())

    def _way(self, verdict: Verdict, act: Act) -> Iterator[NextAct]:
        product, version = act.product or "", act.version or ""
        name, here = self.case.label(product), self.site.id
        match act.act:
            case "wait":
                assert act.until is not None
                yield _way("wait", f"Wait until {self._day(act.until)}", site=here,
                           product=verdict.product)  # fmt: skip
            case "licence":
                newest = verdict.blocked.version if verdict.blocked else ""
                wanted = newest if product == verdict.product else self._newest(product)
                yield from self._right(product, wanted).acts
            case "shelf" if self._may_shelve(product, version):
                yield self._shelve(product, version)
            case "lift-hold":
                yield from self._let_go(product)
            case "offer":
                yield self._ask_host(product, version)
            case "remove" if self._stays_away(act):
                yield _way("remove", f"Remove {name}", site=here, text=f"Remove {name}")
            case "activate":
                yield _way("switch-on", f"Switch {name} on", site=here, text=f"Switch {name} on")
            case "channel":
                yield _way("take-channel", f"Take {act.channel} releases of {name}"
                           if product else f"Take {act.channel} releases", site=here,
                           product=product or verdict.product,
                           channels=f"stable,{act.channel}",
                           why=f"{name} is wanted before it is stable")  # fmt: skip

    def _newest(self, product: str) -> str:
        """The newest release of a product; "0" where none is listed."""
        releases = self.case.releases_of.get(product, ())
        return releases[-1].version if releases else "0"

    def _may_shelve(self, product: str, version: str) -> bool:
        """Whether the shelf is a way: never one round a licence."""
        if product not in self.case.product or self.case.product[product].access != "licensed":
            return True
        return self._right(product, version).by is not None

    def _let_go(self, product: str) -> Iterator[NextAct]:
        """What lifts all that holds a product here: holds of people, rules, open decisions."""
        told = self.ground.catalogue.told.get(product)
        for hold in told.withheld if told else ():
            version = hold.range.removeprefix("=")
            refused = self._refused(product, version)
            yield (self._shelve if refused else self._decide)(product, version)
        rule = self._rule(product)
        if rule is not None:
            yield self._change(*rule)
        for one in self._holds(product):
            yield self._lift(one)

    def _shelve(self, product: str, version: str) -> NextAct:
        label = f"Put the package of {self.case.label(product)} {version} on the shelf"
        file = f"{product.partition('/')[2]}-{version}.zip"
        return _way("shelve", label, file=file, site=self.site.id)

    def _decide(self, product: str, version: str) -> NextAct:
        label = f"Decide about {self.case.label(product)} {version}"
        return _way("decide", label, product=product, version=version)

    def _change(self, rule: str, where: str) -> NextAct:
        return _way("change-rule", f"Change the rule for {where}", rule=rule)

    def _lift(self, hold: StandingHold) -> NextAct:
        label = f"Lift {hold.author}’s hold on {self.case.label(hold.product)}"
        return _way("lift", label, hold=hold.id, product=hold.product)

    def _ask_host(self, product: str, version: str) -> NextAct:
        name = self.case.label(product)
        if self.host is None:
            return _way("enter-host", f"Say which host it is on, for {name} {version}",
                        site=self.site.id)  # fmt: skip
        return _way("ask-host", f"Ask {self.host.name} for {name} {version}", host=self.host.id,
                    product=product, version=version)  # fmt: skip

    def _stays_away(self, act: Act) -> bool:
        """Whether what is removed stays away: the best choice without it does not bring it back."""
        product = act.product or ""
        if product not in self._removable:
            then = resolve(apply(self.case, act), self._catalogue)
            number = then.problem.numbers.get(product)
            self._removable[product] = number is None or not then.choice[number]
        return self._removable[product]

    @property
    def _catalogue(self) -> Catalogue:
        return self.ground.catalogue.compiled.beside(self.case)

    def _day(self, when: date) -> str:
        return day(when, self.ground.today)


_LACKS = {
    "ended": "ended",
    "not covered": "not covered",
    "seat free": "no seat",
    "seat elsewhere": "no seat",
    "no seat free": "no seat",
}


def _with_ways(root: Root, sets: Iterable[ActSet]) -> Root:
    """A root with the measure in which its act would help: the host's newer release, not its
    newest.
    """
    if root.kind != "offer":
        return root
    asked = [
        way
        for one in sets
        for way in one.ways
        if way.act == "ask-host" and way.on["product"] == root.on["product"]
    ]
    return root.model_copy(update={"ways": (asked[0],)}) if asked else root


def _is_of(blocked: Blocked, theme: str) -> bool:
    """Whether what keeps a plugin back is a theme that does not move."""
    return any(end.product == theme for end in blocked.leads_to) and not any(
        t.reason.kind == "conflict" for t in blocked.reasons
    )


def _in_any_measure(way: NextAct) -> str:
    """What is equal for acts that only differ in how much."""
    on = {k: v for k, v in way.on.items() if k != "version" or way.act != "ask-host"}
    return " ".join([way.act, *(f"{k}={v}" for k, v in sorted(on.items()))])


def _facts_id(facts: Iterable[Fact]) -> str:
    return "; ".join(f"{f.fact} {f.subject or f.product} {f.object or ''}".strip() for f in facts)
