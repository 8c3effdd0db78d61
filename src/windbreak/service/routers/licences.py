"""Licences, seats, codes, and the seats that will be asked for."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from pydantic import SecretStr

from windbreak.core.values.basics import Slug, Value, example
from windbreak.core.values.licences import Licence, LicenceChange, NewLicence, NewSeat, Seat
from windbreak.documents.licences import CredentialRow, EntryResult, Forecast, LicenceView
from windbreak.operations.licensing import (
    licence_codes,
    licence_entry,
    licence_forecasts,
    licence_views,
    licensing,
)
from windbreak.operations.views import credentials
from windbreak.service import hanging
from windbreak.service.ready import ready
from windbreak.service.routing import Router
from windbreak.service.signin import Ctx, Who

router = Router("licences")


class NewCode(Value):
    """A code that takes the place of a licence's, or of one site's."""

    model_config = example(code="the new code")

    code: SecretStr
    site: Slug | None = None


@router.get("/licences")
@ready(*hanging.VERDICTS, "site", "run", stands=True)
def list_licences(context: Ctx, who: Who) -> list[LicenceView]:
    """The licences as they stand, those that end first first; codes are masked."""
    return licence_views.views(context)


@router.get("/credentials")
@ready(*hanging.VERDICTS, "site", "run", stands=True)
def list_credentials(context: Ctx, who: Who) -> list[CredentialRow]:
    """Where each credential is used: by product and site, with the state of each; all masked."""
    return credentials.rows(context)


@router.post("/licences", status_code=201)
def add_licence(context: Ctx, who: Who, new: NewLicence) -> Licence:
    """Enter a licence."""
    return licensing.add(context, new, who)


@router.get("/licences/{id}")
def show_licence(context: Ctx, who: Who, id: str) -> LicenceView:
    """One licence as it stands."""
    return licence_views.view(context, id)


@router.patch("/licences/{id}")
def change_licence(context: Ctx, who: Who, id: str, change: LicenceChange) -> Licence:
    """Change what is known of a licence."""
    return licensing.change(context, id, change, who)


@router.delete("/licences/{id}", status_code=204)
def drop_licence(context: Ctx, who: Who, id: str) -> None:
    """Forget a licence that no site holds a seat of."""
    licensing.drop(context, id, who)


@router.post("/licences/{id}/seats", status_code=201)
def seat_site(context: Ctx, who: Who, id: str, new: NewSeat) -> Seat:
    """Allot a seat; a copy rides along where that is permitted."""
    return licensing.seat(context, id, new, who)


@router.delete("/licences/{id}/seats/{site}", status_code=204)
def unseat_site(context: Ctx, who: Who, id: str, site: str) -> None:
    """Take a seat back, with that of the copy that rides along."""
    licensing.unseat(context, id, site, who)


@router.put("/licences/{id}/code")
def rotate_code(context: Ctx, who: Who, id: str, code: NewCode) -> Licence:
    """Put a new code in the place of the old one; nothing is entered on a site yet."""
    return licence_codes.rotate(context, id, code.code.get_secret_value(), code.site, who)


@router.post("/licences/{id}/entries")
def enter_code(
    context: Ctx,
    who: Who,
    id: str,
    site: Annotated[str | None, Query(description="only on this site")] = None,
) -> list[EntryResult]:
    """Enter the code on the sites that hold a seat, through their agents, and read it back."""
    return licence_entry.enter(context, id, who, site)


@router.get("/forecasts")
@ready(*hanging.VERDICTS, "site", "run", stands=True)
def list_forecasts(context: Ctx, who: Who) -> list[Forecast]:
    """Seats that will be asked for by releases that change the form of licence."""
    return licence_forecasts.forecasts(context)
