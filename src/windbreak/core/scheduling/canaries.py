"""Canaries: the fewest sites whose kinds are those of all, lowest at stake first.

A *kind* is what a site has in common with others: its core, its theme, its runtime, what the theme
carries. A kind that only one site has is tried on no other, so it need not be covered.

    kinds = {"a": {"core 6", "loom 8"}, "b": {"core 6"}, "c": {"loom 8"}}
    canaries(kinds, {"a": 1, "b": 0, "c": 2}).chosen        a alone, for both
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass

_MOST_NODES = 20_000


@dataclass(frozen=True)
class Cover:
    """The sites that were chosen, each with the kinds that it is the first to cover; ``proven``:
    no fewer do, and no others of as many have less at stake.
    """

    chosen: Mapping[str, frozenset[str]]
    kinds: frozenset[str]
    proven: bool


def shared(kinds: Mapping[str, Collection[str]]) -> frozenset[str]:
    """The kinds that two sites have or more."""
    counts = Counter(kind for of_site in kinds.values() for kind in set(of_site))
    return frozenset(kind for kind, count in counts.items() if count > 1)


def canaries(kinds: Mapping[str, Collection[str]], stake: Mapping[str, float]) -> Cover:
    """The canaries among some sites; none where nothing is shared."""
    wanted = shared(kinds)
    of = {site: wanted.intersection(own) for site, own in kinds.items()}
    search = _Search(wanted, _best_of_each(of, stake), stake)
    chosen = search.best if wanted else ()
    left, covered = set(wanted), {}
    for site in sorted(chosen, key=lambda s: (-len(of[s]), stake[s], s)):
        covered[site] = frozenset(of[site] & left)
        left -= of[site]
    return Cover(covered, wanted, search.proven)


def _best_of_each(
    of: Mapping[str, frozenset[str]], stake: Mapping[str, float]
) -> dict[str, frozenset[str]]:
    """Of the sites that cover the same, the one with the least at stake; none that covers less than
    another does at no less stake.
    """
    best: dict[frozenset[str], str] = {}
    for site in sorted(of, key=lambda s: (stake[s], s)):
        best.setdefault(of[site], site)
    return {
        site: own
        for own, site in best.items()
        if own and not any(own < other and stake[best[other]] <= stake[site] for other in best)
    }


class _Search:
    """Branch and bound over the site that covers the kind which the fewest cover."""

    def __init__(
        self, wanted: frozenset[str], of: Mapping[str, frozenset[str]], stake: Mapping[str, float]
    ) -> None:
        self.of, self.stake = of, stake
        self.most = max((len(own) for own in of.values()), default=1)
        self.having = {
            kind: sorted((s for s in of if kind in of[s]), key=lambda s: (-len(of[s]), stake[s], s))
            for kind in wanted
        }
        self.best = self._greedy(wanted)
        self.nodes, self.proven = 0, True
        if wanted:
            self._go(wanted, ())

    def _cost(self, chosen: Iterable[str]) -> tuple[int, float, tuple[str, ...]]:
        ids = tuple(sorted(chosen))
        return len(ids), sum(self.stake[site] for site in ids), ids

    def _greedy(self, wanted: frozenset[str]) -> tuple[str, ...]:
        left, chosen = set(wanted), []
        while left:
            site = min(self.of, key=lambda s: (-len(self.of[s] & left), self.stake[s], s))
            chosen.append(site)
            left -= self.of[site]
        return tuple(chosen)

    def _go(self, left: frozenset[str], chosen: tuple[str, ...]) -> None:
        if not left:
            self.best = min(self.best, chosen, key=self._cost)
            return
        self.nodes += 1
        if self.nodes > _MOST_NODES:
            self.proven = False
            return
        if len(chosen) + -(-len(left) // self.most) > len(self.best):
            return
        kind = min(left, key=lambda k: (len(self.having[k]), k))
        for site in self.having[kind]:
            self._go(left - self.of[site], (*chosen, site))
