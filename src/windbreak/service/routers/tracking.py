"""Feeds, products, releases, the shelf."""

from __future__ import annotations

from fastapi import APIRouter, Request
from pydantic import SecretStr

from windbreak.core.fleet import Value, example
from windbreak.core.tracking import (
    CredentialCheck,
    Feed,
    KnownProduct,
    KnownRelease,
    NewFeed,
    Package,
    PollResult,
    ProductChange,
)
from windbreak.operations import policy, tracking
from windbreak.operations.errors import Refused
from windbreak.packages.examine import MOST_PACKED
from windbreak.service.signin import Ctx, Who

router = APIRouter(tags=["tracking"])


class NewCredential(Value):
    model_config = example(credential="a token of the maker")

    credential: SecretStr


@router.get("/feeds")
def list_feeds(context: Ctx, who: Who) -> list[Feed]:
    """The feeds, with their state; credentials are masked."""
    return context.store.feeds.all()


@router.post("/feeds", status_code=201)
def register_feed(
    context: Ctx,
    who: Who,
    new: NewFeed,
) -> Feed:
    """Register a feed."""
    return tracking.register(context, new, who)


@router.get("/feeds/{id}")
def show_feed(context: Ctx, who: Who, id: str) -> Feed:
    """One feed."""
    return context.store.feeds.get(id)


@router.post("/feeds/{id}/poll")
def poll_feed(context: Ctx, who: Who, id: str, fresh: bool = True) -> PollResult:
    """Look at a feed now, past every cache unless told otherwise."""
    return tracking.poll(context, id, fresh=fresh)


@router.post("/feeds/{id}/check")
def check_feed(context: Ctx, who: Who, id: str) -> CredentialCheck:
    """Ask the maker what the feed's credential may do."""
    return tracking.check_credential(context, id)


@router.put("/feeds/{id}/credential")
def replace_credential(context: Ctx, who: Who, id: str, said: NewCredential) -> Feed:
    """Put another credential in the place of the feed's."""
    return tracking.replace_credential(context, id, said.credential.get_secret_value(), who)


@router.get("/products")
def list_products(context: Ctx, who: Who) -> list[KnownProduct]:
    """The products of the catalogue."""
    return context.store.products.all()


@router.get("/products/{kind}/{slug}")
def show_product(context: Ctx, who: Who, kind: str, slug: str) -> KnownProduct:
    """One product."""
    return context.store.products.get(f"{kind}/{slug}")


@router.patch("/products/{kind}/{slug}")
def change_product(
    context: Ctx, who: Who, kind: str, slug: str, change: ProductChange
) -> KnownProduct:
    """Set what a person knows of a product."""
    return tracking.change_product(context, f"{kind}/{slug}", change, who)


@router.get("/products/{kind}/{slug}/releases")
def list_releases(context: Ctx, who: Who, kind: str, slug: str) -> list[KnownRelease]:
    """The known releases of a product, newest first."""
    product = context.store.products.get(f"{kind}/{slug}")
    found = context.store.releases.all(product=product.id)
    return sorted(found, key=lambda r: r.to_case().parsed.key, reverse=True)


@router.get("/shelf")
def list_shelf(context: Ctx, who: Who) -> list[Package]:
    """The packages in hand."""
    return sorted(context.store.packages.all(), key=lambda p: (p.product, p.kept_at))


@router.post("/shelf", status_code=201)
async def put_on_shelf(context: Ctx, who: Who, request: Request) -> Package:
    """Put an archive on the shelf; the body is the archive itself."""
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > MOST_PACKED:
            raise Refused("wrong-archive", f"the archive is larger than {MOST_PACKED} bytes")
    return policy.put_on_shelf(context, bytes(body), who)
