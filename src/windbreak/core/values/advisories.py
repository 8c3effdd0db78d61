"""Advisories: published weaknesses of ranges of versions."""

from __future__ import annotations

from windbreak.core.values.basics import Day, ProductId, RangeText, Severity, Slug, Value


class KnownAdvisory(Value):
    """A published weakness, matched to a product of ours. ``aliases`` are its other names."""

    id: str
    product: ProductId
    affected: RangeText
    severity: Severity
    summary: str = ""
    aliases: tuple[str, ...] = ()
    feed: Slug
    published: Day | None = None
    withdrawn: bool = False

    @property
    def key(self) -> str:
        """One advisory may speak of several products."""
        return f"{self.id} {self.product}"
