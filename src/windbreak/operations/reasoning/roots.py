"""Roots: what the core found to keep a component back, by the name it has here.

The core says which licence state, which hold, which offer keeps a release out; here each is the
licence and the day it ended, the host, whose hold, which rule.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date

from windbreak.core.case.situation import OUT_OF_SCOPE
from windbreak.core.values.reasons import (
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
from windbreak.core.values.roots import Root, RootKind
from windbreak.operations.reasoning.cases import NOT_GIVEN
from windbreak.operations.reasoning.ways import Ways
from windbreak.wording.roots import root_text
from windbreak.wording.words import in_words, listed

_LACKS: dict[str, RootKind] = {
    "ended": "ended",
    "not covered": "not covered",
    "seat free": "no seat",
    "seat elsewhere": "no seat",
    "no seat free": "no seat",
}


class Roots:
    """The roots of one site's components."""

    def __init__(self, ways: Ways) -> None:
        self.ways, self.case = ways, ways.case

    def of(self, product: str, reasons: Iterable[RootReason]) -> dict[str, Root]:
        """The roots of why a product stays, by what is equal for equal ones, each once."""
        roots: dict[str, Root] = {}
        for reason in reasons:
            through = "" if reason.product == product else reason.product
            for root in self._root(reason):
                roots.setdefault(root.id, root.model_copy(update={"through": through}))
        return roots

    def _root(self, end: RootReason) -> Iterator[Root]:
        product, version, ways = end.product, end.version or "", self.ways
        on = {"product": product, **({"version": version} if version else {})}
        words = {"name": self.case.label(product), "version": version}
        match end.reason:
            case LicenceExclusion() if version:
                yield self._of_licence(product, version)
            case HoldExclusion(until=until, reason=why) if version:
                yield self._of_hold(product, version, until, why)
            case OfferExclusion():
                yield self._of_offer(product, version)
            case SoakExclusion(soak_class=soak, over=over):
                text = root_text("soak", soak=soak, day=ways.day(over), **words)
                yield Root(kind="soak", on=on, text=text, ways=(ways.wait(over, product),))
            case ChannelExclusion(channel=channel):
                text = root_text("channel", channel=channel, **words)
                yield Root(kind="channel", on={**on, "channel": channel}, text=text)
            case Unshipped(by=by):
                yield self._unshipped(product, version, by)
            case BundleExclusion(carried_by=carried):
                themes = listed(sorted({self.case.label(c.product) for c in carried}))
                text = root_text("theme only", themes=themes, **words)
                yield Root(kind="unshipped", on={**on, "by": "theme"}, text=text)
            case FromExclusion(needs=needs):
                text = root_text("from", needs=in_words(needs), **words)
                yield Root(kind="from", on=on, text=text)
            case Conflict(facts=facts):
                text = root_text("conflict", **words)
                yield Root(kind="conflict", on={**on, "facts": _facts_id(facts)}, text=text)
            case Trade():
                return
            case _:
                text = root_text("no package" if version else "absent", **words)
                yield Root(kind="package", on=on, text=text)

    def _of_licence(self, product: str, version: str) -> Root:
        right = self.ways.right(product, version)
        if not right.lacks:
            on = {"product": product}
            return Root(kind="no licence", on=on, text=right.text, ways=right.acts)
        first = right.lacks[0]
        on = {"licence": first.licence}
        return Root(kind=_LACKS[first.why], on=on, text=right.text, ways=right.acts)

    def _of_hold(self, product: str, version: str, until: date | None, why: str) -> Root:
        ways, listed = self.ways, self.ways.facts(product)
        on = {"product": product, "version": version}
        words = {"name": self.case.label(product), "version": version, "why": why.rstrip(".")}
        if why == OUT_OF_SCOPE:
            return Root(kind="scope", on=on, text=root_text("scope", **words))
        if version in listed.undecided:
            text, act = root_text("undecided", **words), ways.decide(product, version)
            return Root(kind="undecided", on=on, text=text, ways=(act,))
        if why == NOT_GIVEN:
            text, act = root_text("not given", **words), ways.give(product, version)
            return Root(kind="package", on=on, text=text, ways=(act,))
        if version in listed.refused:
            text, act = root_text("refused", **words), ways.shelve(product, version)
            return Root(kind="package", on=on, text=text, ways=(act,))
        rule = ways.rule(product, why)
        if rule is not None:
            text, act = root_text("rule", where=rule[1], **words), ways.change(*rule)
            return Root(kind="rule", on={"rule": rule[0]}, text=text, ways=(act,))
        words["end"] = f" until {ways.day(until)}" if until else ""
        for hold in ways.holds(product):
            if hold.reason == why and hold.until == until:
                where = " here" if hold.site else ""
                text = root_text("held by", author=hold.author, where=where, **words)
                return Root(kind="hold", on={"hold": hold.id}, text=text, ways=(ways.lift(hold),))
        on = {"product": product, "reason": why}
        return Root(kind="hold", on=on, text=root_text("held", **words))

    def _of_offer(self, product: str, version: str) -> Root:
        host, words = self.ways.host, {"name": self.case.label(product), "version": version}
        if host is None:
            on = {"host": "", "product": product}
            return Root(kind="offer", on=on, text=root_text("no host", **words))
        offers = listed(list(host.offers.get(product, ())))
        key = "offers" if offers else "offers none"
        text = root_text(key, host=host.name, offers=offers, **words)
        act = self.ways.ask_host(product, version)
        return Root(kind="offer", on={"host": host.id, "product": product}, text=text, ways=(act,))

    def _unshipped(self, product: str, version: str, by: str) -> Root:
        words = {"name": self.case.label(product), "version": version}
        if by == product:
            text = root_text("newest" if version else "none", **words)
            return Root(kind="unshipped", on={"by": by}, text=text)
        text = root_text("not carried", carrier=self.case.label(by), **words)
        return Root(kind="unshipped", on={"by": by, "product": product}, text=text)


def _facts_id(facts: Iterable[Fact]) -> str:
    return "; ".join(f"{f.fact} {f.subject or f.product} {f.object or ''}".strip() for f in facts)
