"""Products, feeds, releases, advisories, packages in hand, and which sites may have them."""

from __future__ import annotations

from collections.abc import Iterable

import peewee

from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.feeds import Feed
from windbreak.core.values.packages import Package, ShelfRight
from windbreak.core.values.products import KnownProduct
from windbreak.core.values.releases import KnownRelease
from windbreak.core.versions.version import parse_version
from windbreak.store.database import Mark
from windbreak.store.documents import Documents, Row, ids


class ProductRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "product"


class FeedRow(Row):
    id = peewee.TextField(primary_key=True)

    class Meta:
        table_name = "feed"


class ReleaseRow(Row):
    id = peewee.TextField(primary_key=True)
    product = peewee.TextField(index=True)
    feed = peewee.TextField()

    class Meta:
        table_name = "release"


class AdvisoryRow(Row):
    id = peewee.TextField(primary_key=True)
    product = peewee.TextField(index=True)
    feed = peewee.TextField()
    withdrawn = peewee.BooleanField(default=False)

    class Meta:
        table_name = "advisory"


class PackageRow(Row):
    id = peewee.TextField(primary_key=True)
    product = peewee.TextField(index=True)
    version = peewee.TextField(null=True)

    class Meta:
        table_name = "package"


class RightRow(Row):
    id = peewee.TextField(primary_key=True)
    site = peewee.TextField(index=True)
    product = peewee.TextField(index=True)
    version = peewee.TextField(null=True)

    class Meta:
        table_name = "shelf_right"


class Products(Documents[KnownProduct]):
    model, value = ProductRow, KnownProduct

    def marks(self, before: KnownProduct | None, after: KnownProduct | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None or before == after else (("product", value.id),)

    def named(self, text: str) -> list[KnownProduct]:
        """The products that a person may mean: by id, slug, name or a folder they lie in; else by
        a part of the name. Reads.
        """
        low = text.lower()
        rows = self.database.ask(
            "SELECT body FROM product WHERE id = ? OR substr(id, instr(id, '/') + 1) = ? "
            "OR lower(json_extract(body, '$.name')) = ? OR EXISTS "
            "(SELECT 1 FROM json_each(body, '$.folders') f WHERE f.value = ?) "
            "ORDER BY id != ?, id LIMIT 20",
            [low, low, low, low, low],
        )
        if not rows:
            part = "".join(f"!{c}" if c in "!%_" else c for c in low)
            rows = self.database.ask(
                "SELECT body FROM product WHERE lower(json_extract(body, '$.name')) LIKE ? "
                "ESCAPE '!' ORDER BY id LIMIT 20",
                [f"%{part}%"],
            )
        products = [KnownProduct.model_validate_json(row[0]) for row in rows]
        return products[:1] if products and products[0].id == low else products


class Feeds(Documents[Feed]):
    model, value = FeedRow, Feed

    def marks(self, before: Feed | None, after: Feed | None) -> Iterable[Mark]:
        value = after or before
        if value is not None:
            yield "feed", value.id
            if before is None or after is None or before.state != after.state:
                yield "feeds", value.id


class Releases(Documents[KnownRelease]):
    model, value = ReleaseRow, KnownRelease

    def marks(self, before: KnownRelease | None, after: KnownRelease | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None or before == after else (("product", value.product),)

    def products_with_releases(self, feed: str | None = None) -> set[str]:
        """The products that releases are known of, of one feed's or any. Reads."""
        where, given = ("WHERE feed = ?", [feed]) if feed else ("", [])
        rows = self.database.ask(f"SELECT DISTINCT product FROM release {where}", given)
        return {str(row[0]) for row in rows}

    def ids_of(self, product: str) -> list[str]:
        """The ids of a product's releases: product@version. Reads."""
        return ids(self.database.ask("SELECT id FROM release WHERE product = ?", [product]))

    def id_of(self, product: str, version: str) -> str:
        """The id a release is kept under: equal versions share one, however they are written."""
        wanted = parse_version(version)
        for id in self.ids_of(product):
            if parse_version(id.partition("@")[2]) == wanted:
                return id
        return f"{product}@{version}"


class Advisories(Documents[KnownAdvisory]):
    model, value = AdvisoryRow, KnownAdvisory

    def marks(self, before: KnownAdvisory | None, after: KnownAdvisory | None) -> Iterable[Mark]:
        if before != after:
            yield from (("product", value.product) for value in (before, after) if value)


class Packages(Documents[Package]):
    model, value = PackageRow, Package

    def marks(self, before: Package | None, after: Package | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None else (("package", value.product),)

    def products(self) -> set[str]:
        """The products that have a package on the shelf. Reads."""
        rows = self.database.ask("SELECT DISTINCT product FROM package")
        return {str(row[0]) for row in rows}


class Rights(Documents[ShelfRight]):
    model, value = RightRow, ShelfRight

    def marks(self, before: ShelfRight | None, after: ShelfRight | None) -> Iterable[Mark]:
        value = after or before
        return () if value is None or before == after else (("right", value.site),)

    def in_hand(self, site: str) -> list[ShelfRight]:
        """What a site may have of the shelf, where a package of the product is in hand. Reads."""
        rows = self.database.ask(
            "SELECT r.body FROM shelf_right r WHERE r.site = ? AND EXISTS "
            "(SELECT 1 FROM package p WHERE p.product = r.product) ORDER BY r.id",
            [site],
        )
        return [ShelfRight.model_validate_json(row[0]) for row in rows]
