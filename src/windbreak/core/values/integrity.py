"""What stands in the folders of a site beside or otherwise than its packages hold it."""

from __future__ import annotations

from datetime import datetime

from windbreak.core.values.basics import ProductId, Slug, Value, VersionText


class ComponentFiles(Value):
    """A component's files held against the pristine package of its version.

    ``known`` is False where nobody can tell: ``why`` says what was wanting. Files are paths within
    its folder: ``changed`` in place, ``added`` (translations, uploads), ``missing``. ``sums`` is
    the SHA-256 of what was changed, by path, where its agent tells it.
    """

    product: ProductId
    version: VersionText
    known: bool
    why: str = ""
    changed: tuple[str, ...] = ()
    added: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    sums: dict[str, str] = {}

    @property
    def pristine(self) -> bool:
        return self.known and not (self.changed or self.added or self.missing)


class Integrity(Value):
    """The components of a site as their files were looked at last; ``id`` is the site's."""

    id: Slug
    looked_at: datetime
    components: tuple[ComponentFiles, ...] = ()

    def of(self, product: str, version: str | None) -> ComponentFiles | None:
        """What was seen of a component, while it is at the version that was looked at."""
        return next(
            (c for c in self.components if (c.product, c.version) == (product, version)), None
        )
