"""Errands: work that only a person can do, with a due date, made by runs or by hand."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from windbreak.core.values.basics import Day, ProductId, Slug, Value, example

ErrandKind = Literal["migrate", "regenerate", "restart", "register", "review", "runtime", "other"]
BroughtKind = Literal[ErrandKind, "breaking", "came"]


class Brought(Value):
    """What a move of a plan brings with it, beside its step. ``by`` whom it is done: the run
    itself, a person (then it becomes an errand), or nobody: it is to be read.
    """

    step: int
    product: ProductId
    version: str
    kind: BroughtKind
    by: Literal["run", "person", "nobody"]
    text: str
    blocking: bool = False
    due_days: int | None = None

    @property
    def key(self) -> str:
        return f"{self.product} {self.version} {self.kind} {self.text}"


class Errand(Value):
    """Work for a person. A ``blocking`` one keeps the run that waits for it; others have a day.

    ``closed_by`` None: open. ``how``: in the words of who did it, or what was read back.
    """

    id: int
    site: Slug
    kind: ErrandKind
    text: str
    product: ProductId | None = None
    version: str | None = None
    step: int | None = None
    run: int | None = None
    due: Day | None = None
    blocking: bool = False
    made_at: datetime
    closed_at: datetime | None = None
    closed_by: str | None = None
    how: str = ""


class NewErrand(Value):
    model_config = example(site="tarnsey-harbour", text="tell them about the new editor")

    site: Slug
    text: Annotated[str, Field(min_length=1, max_length=500)]
    due: Day | None = None


class ErrandDone(Value):
    model_config = example(how="chosen with the client on the phone")

    how: str = ""
