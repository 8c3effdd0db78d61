"""Explaining: what keeps a component back as it is called here, and what somebody can do about it.

The core says why in the field's terms, and which acts would change it. Here each reason is led to
its root by name (``roots``), each act becomes an operation with a command and a page (``ways``),
and a component's sentence is put together of them, each told once.

Source of the rules: docs/reasoning.md, "Roots, and acts as they are done here".
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from windbreak.core.case.situation import Case
from windbreak.core.values.roots import Root
from windbreak.core.values.sites import Site
from windbreak.core.values.verdicts import ActSet, Answer, Blocked, Verdict
from windbreak.core.versions.version import parse_version
from windbreak.operations.reasoning.answers import Reasoned
from windbreak.operations.reasoning.cases import Ground
from windbreak.operations.reasoning.roots import Roots
from windbreak.operations.reasoning.ways import Ways
from windbreak.wording.reasons import head

_TOLD_BY_FACTS = ("conflict", "offer")  # roots that the facts before them have told


def explained(ground: Ground, site: Site, reasoned: Reasoned) -> Reasoned:
    """What was reasoned about a site, told with the names of what is here."""
    answer = _Site(Ways(ground, site, reasoned.case)).answer(reasoned.answer)
    return replace(reasoned, answer=answer)


class _Site:
    """One site as its answer is told."""

    def __init__(self, ways: Ways) -> None:
        self.ways, self.roots = ways, Roots(ways)
        self.case: Case = ways.case

    def answer(self, answer: Answer) -> Answer:
        by_product = {
            v.product: v if v.blocked is None else self._verdict(v, v.blocked)
            for v in answer.verdicts
        }
        verdicts = [self._nearer(v, by_product) for v in by_product.values()]
        return answer.model_copy(update={"verdicts": tuple(verdicts)})

    # One component.

    def _verdict(self, verdict: Verdict, blocked: Blocked) -> Verdict:
        roots = self.roots.of(verdict.product, blocked.leads_to)
        apart = self.roots.of(verdict.product, blocked.apart.leads_to) if blocked.apart else {}
        sets = self.ways.sets(verdict, blocked)
        direct = {way.label for root in roots.values() for way in root.ways}
        sets = tuple(
            sorted(sets, key=lambda way_set: not any(w.label in direct for w in way_set.ways))
        )
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
        theme = next((t for t in self.case.carriers(verdict.product) if _is_of(blocked, t)), None)
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
        for theme in (t for t in self.case.carriers(verdict.product) if t in every):
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

    def _carried(self, theme: str, version: str, plugin: str) -> str | None:
        for release in self.case.releases_of[theme]:
            if release.version == version:
                return release.bundles.get(plugin)
        return None


def _with_ways(root: Root, sets: Iterable[ActSet]) -> Root:
    """A root with the measure in which its act would help: the host's newer release, not its
    newest.
    """
    if root.kind != "offer":
        return root
    asked = [
        way
        for act_set in sets
        for way in act_set.ways
        if way.act == "ask-host" and way.on["product"] == root.on["product"]
    ]
    return root.model_copy(update={"ways": (asked[0],)}) if asked else root


def _is_of(blocked: Blocked, theme: str) -> bool:
    """Whether what keeps a plugin back is a theme that does not move."""
    return any(end.product == theme for end in blocked.leads_to) and not any(
        t.reason.kind == "conflict" for t in blocked.reasons
    )
