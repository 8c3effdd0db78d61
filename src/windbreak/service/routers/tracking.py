"""Feeds, recipes, products, releases, advisories, the shelf."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request
from pydantic import Field, SecretStr

from windbreak.core.errors import VersionError
from windbreak.core.explanation.passing import Passed, passed
from windbreak.core.values.advisories import KnownAdvisory
from windbreak.core.values.basics import Slug, Value, example
from windbreak.core.values.feeds import CredentialCheck, Feed, FeedChange, NewFeed, PollResult
from windbreak.core.values.packages import Package, ShelfRight
from windbreak.core.values.products import KnownProduct, ProductChange
from windbreak.core.values.releases import DecideRepublished, KnownRelease, NewRelease
from windbreak.core.versions.version import parse_version
from windbreak.documents.products import Coverage, ProductRow, ProductView
from windbreak.feeds.recipes import Recipe
from windbreak.operations.errors import Refused
from windbreak.operations.tracking import catalogue, credentials, feeds, polling, recipes, shelving
from windbreak.operations.tracking.recipes import TriedRecipe
from windbreak.operations.views import coverage
from windbreak.operations.views import products as product_views
from windbreak.packages.examine import MOST_PACKED
from windbreak.service import hanging
from windbreak.service.ready import ready
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Who

router = Router("tracking")


class NewCredential(Value):
    model_config = example(credential="a token of the maker")

    credential: SecretStr


class RecipeText(Value):
    """A recipe as TOML; ``credential`` only to try it with."""

    model_config = example(text="label = 'Gantry House'")

    text: Annotated[str, Field(max_length=200_000)]
    credential: SecretStr | None = None


class ForSite(Value):
    model_config = example(site="tarnsey-harbour")

    site: Slug


@router.get("/feeds")
@ready(*hanging.CATALOGUE, "licence", "fleet", "night", exact=True)
def list_feeds(context: Ctx, who: Who) -> list[Feed]:
    """The feeds, with their state; credentials are masked."""
    return feeds.listed(context)


@router.post("/feeds", status_code=201)
def register_feed(context: Ctx, who: Who, new: NewFeed) -> Feed:
    """Register a feed."""
    return feeds.register(context, new, who)


@router.post("/feeds/poll")
def poll_feeds(context: Ctx, who: Who) -> list[PollResult]:
    """Look at every feed now, past every cache."""
    return list(polling.poll_many(context, context.store.feeds.all(), fresh=True))


@router.get("/feeds/{id}")
def show_feed(context: Ctx, who: Who, id: str) -> Feed:
    """One feed."""
    return context.store.feeds.get(id).aged(context.clock())


@router.patch("/feeds/{id}")
def change_feed(context: Ctx, who: Who, id: str, change: FeedChange) -> Feed:
    """Change a feed's label, address, origins, reading or interval."""
    return feeds.change(context, id, change, who)


@router.delete("/feeds/{id}", status_code=204)
def drop_feed(context: Ctx, who: Who, id: str) -> None:
    """Read a feed no more; what it told stays known."""
    feeds.drop(context, id, who)


@router.post("/feeds/{id}/poll")
def poll_feed(context: Ctx, who: Who, id: str, fresh: bool = True) -> PollResult:
    """Look at a feed now, past every cache unless told otherwise."""
    return polling.poll(context, id, fresh=fresh)


@router.post("/feeds/{id}/check")
def check_feed(context: Ctx, who: Who, id: str) -> CredentialCheck:
    """Ask the maker what the feed's credential may do."""
    return credentials.check(context, id)


@router.put("/feeds/{id}/credential")
def replace_credential(
    context: Ctx, who: Who, id: str, new: NewCredential, everywhere: bool = False
) -> Feed:
    """Replace the feed's credential; ``everywhere`` also where the old one is used else."""
    secret = new.credential.get_secret_value()
    return credentials.replace(context, id, secret, who, everywhere=everywhere)


@router.post("/recipes/try")
def try_recipe(context: Ctx, who: Who, recipe: RecipeText) -> TriedRecipe:
    """Ask by a recipe and read by it; nothing is kept."""
    secret = recipe.credential.get_secret_value() if recipe.credential else None
    return recipes.try_recipe(context, recipe.text, secret)


@router.put("/recipes/{name}")
def put_recipe(context: Ctx, who: Who, name: Slug, recipe: RecipeText) -> Recipe:
    """Keep a recipe under a name."""
    return recipes.put_recipe(context, name, recipe.text, who)


@router.get("/products")
@ready(*hanging.FLEET, stands=True)
def list_products(context: Ctx, who: Who) -> list[ProductRow]:
    """The products across the fleet, what wants attention first."""
    return product_views.products(context)


@router.get("/products/{kind}/{slug}")
@ready(*hanging.FLEET)
def show_product(context: Ctx, who: Who, kind: str, slug: str) -> ProductView:
    """One product across the fleet."""
    return product_views.product(context, f"{kind}/{slug}")


@router.patch("/products/{kind}/{slug}")
def change_product(
    context: Ctx, who: Who, kind: str, slug: str, change: ProductChange
) -> KnownProduct:
    """Set what a person knows of a product."""
    return catalogue.change_product(context, f"{kind}/{slug}", change, who)


@router.get("/products/{kind}/{slug}/releases")
def list_releases(context: Ctx, who: Who, kind: str, slug: str) -> list[KnownRelease]:
    """The known releases of a product, newest first."""
    product = context.store.products.get(f"{kind}/{slug}")
    releases = context.store.releases.all(product=product.id)
    return sorted(releases, key=lambda r: parse_version(r.version).key, reverse=True)


@router.get("/products/{kind}/{slug}/passed")
def show_passed(
    context: Ctx,
    who: Who,
    kind: str,
    slug: str,
    start: Annotated[str, Query(description="the version a move starts from")],
    end: Annotated[str, Query(description="the version it goes to")],
) -> Passed:
    """What a move passes: changes, form of licence, tasks and watch items of every release."""
    product = context.store.products.get(f"{kind}/{slug}")
    releases = context.store.releases.all(product=product.id)
    try:
        return passed(product.id, releases, parse_version(start), parse_version(end))
    except VersionError as error:
        raise Refused("bad-version", str(error)) from None


@router.post("/products/{kind}/{slug}/releases/{version}/decision")
def decide_release(
    context: Ctx, who: Who, kind: str, slug: str, version: str, choice: DecideRepublished
) -> KnownRelease:
    """Say which package of a version that came twice is right."""
    return catalogue.decide(context, f"{kind}/{slug}", version, choice, who)


@router.post("/releases", status_code=201)
def type_in_release(context: Ctx, who: Who, new: NewRelease) -> KnownRelease:
    """Type in a release that no feed tells of."""
    return catalogue.type_in(context, new, who)


@router.get("/advisories")
def list_advisories(context: Ctx, who: Who) -> list[KnownAdvisory]:
    """The published weaknesses of products of ours."""
    return context.store.advisories.all()


@router.get("/coverage")
@ready(*hanging.VERDICTS, stands=True)
def show_coverage(context: Ctx, who: Who) -> Coverage:
    """Which components feeds cover, and what none covers."""
    return coverage.coverage(context)


@router.get("/shelf")
def list_shelf(context: Ctx, who: Who) -> list[Package]:
    """The packages in hand."""
    return sorted(context.store.packages.all(), key=lambda p: (p.product, p.kept_at))


@router.post("/shelf", status_code=201)
async def put_on_shelf(
    context: Ctx,
    who: Who,
    request: Request,
    site: Annotated[
        list[str] | None, Query(description="sites that may have it; may be given several times")
    ] = None,
) -> Package:
    """Put an archive on the shelf; the body is the archive itself."""
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > MOST_PACKED:
            raise Refused("wrong-archive", f"the archive is larger than {MOST_PACKED} bytes")
    return shelving.put_on_shelf(context, bytes(body), who, tuple(site or ()))


@router.delete("/shelf/{id}", status_code=204)
def drop_package(context: Ctx, who: Who, id: str) -> None:
    """Take a package from the shelf, unless it is kept for going back."""
    shelving.drop(context, id, who)


@router.post("/shelf/{id}/rights", status_code=201)
def give_package(context: Ctx, who: Who, id: str, to: ForSite) -> ShelfRight:
    """Let a site have a package of the shelf."""
    return shelving.give(context, id, to.site, who)
