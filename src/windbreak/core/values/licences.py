"""Licences and the seats they give."""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Literal

from pydantic import Field, SecretStr, model_validator

from windbreak.core.values.basics import Day, ProductId, RangeText, Slug, Value, example

LicenceForm = Literal["per-site code", "seats", "account", "membership", "through a theme"]


SEATED: tuple[LicenceForm, ...] = ("per-site code", "seats")


class NewLicence(Value):
    """A licence as it is entered. It covers ``products``, or all of a ``maker``.

    ``code`` is the one code of all seats; a "per-site code" licence has one for each seat
    instead. ``seats`` None means without limit. ``riding``: one copy (staging or development) may
    ride along with each live seat. ``through`` is the theme of the form "through a theme".
    ``client``: whose own it is; it is good for that client's sites and no others.
    """

    model_config = example(
        id="breakwater",
        label="Breakwater 5",
        form="per-site code",
        products=["theme/breakwater", "plugin/breakwater-keel"],
        seats=15,
        covers_until="2027-08-31",
        bought_by="saltgrass",
    )

    id: Slug
    label: Annotated[str, Field(min_length=1, max_length=120)]
    form: LicenceForm
    products: tuple[ProductId, ...] = ()
    maker: str | None = None
    range: RangeText = "*"
    through: ProductId | None = None
    client: str | None = None
    code: SecretStr | None = None
    seats: Annotated[int, Field(ge=0, le=100_000)] | None = None
    riding: bool = True
    covers_until: Day | None = None
    expires: Day | None = None
    bought_by: str = ""
    renewal: str = ""

    @model_validator(mode="after")
    def _is_whole(self) -> NewLicence:
        if not self.products and not self.maker:
            raise ValueError("a licence covers products, or all of a maker; name one of them")
        if (self.form == "through a theme") != (self.through is not None):
            raise ValueError(
                "`through` names the theme of the form 'through a theme', and only of it"
            )
        return self


class LicenceChange(Value):
    """What may be changed of a licence; None leaves it as it is."""

    model_config = example(seats=17, covers_until="2028-08-31")

    label: str | None = None
    products: tuple[ProductId, ...] | None = None
    range: RangeText | None = None
    seats: Annotated[int, Field(ge=0, le=100_000)] | None = None
    riding: bool | None = None
    client: str | None = None
    covers_until: Day | None = None
    expires: Day | None = None
    bought_by: str | None = None
    renewal: str | None = None


class Licence(Value):
    """A licence that is kept. ``code`` is masked; ``former`` is the one it took the place of."""

    id: Slug
    label: str
    form: LicenceForm
    products: tuple[ProductId, ...] = ()
    maker: str | None = None
    range: RangeText = "*"
    through: ProductId | None = None
    client: str | None = None
    code: str | None = None
    former: str | None = None
    seats: int | None = None
    riding: bool = True
    covers_until: Day | None = None
    expires: Day | None = None
    bought_by: str = ""
    renewal: str = ""
    set_up_by: str | None = None
    made_at: datetime

    @property
    def seated(self) -> bool:
        """Whether its right is a seat's."""
        return self.form in SEATED

    def good_for(self, client: str) -> bool:
        """Whether sites of a client may have it."""
        return self.client is None or self.client.casefold() == client.casefold()

    def ended(self, day: date) -> bool:
        return self.expires is not None and self.expires < day


class NewSeat(Value):
    """A share of a licence for a site; ``code`` is its own, for the form "per-site code"."""

    model_config = example(site="tarnsey-harbour", code="the code of this site")

    site: Slug
    code: SecretStr | None = None


class Seat(Value):
    """One site's share of a licence. A ``riding`` seat is a copy's, and is not counted.

    ``code`` and ``entered`` are masked: the seat's own code, and the one that was last entered
    on the site through its agent.
    """

    licence: Slug
    site: Slug
    since: datetime
    riding: bool = False
    code: str | None = None
    former: str | None = None
    entered: str | None = None
    entered_at: datetime | None = None

    @property
    def id(self) -> str:
        return f"{self.licence} {self.site}"
