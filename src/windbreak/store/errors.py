"""What the store refuses.

StoreError
  NotFound        nothing of that id is kept
  AlreadyThere    an id is taken
  NewerDatabase   the file was written by a newer version of the program
"""

from __future__ import annotations

from collections.abc import Sequence


class StoreError(Exception):
    """The store can't do what it was asked."""

    code = "store"


class NotFound(StoreError):
    """Nothing of that id is kept."""

    code = "not-found"

    def __init__(self, kind: str, id: object) -> None:
        self.kind, self.id = kind, id
        super().__init__(f"there is no {kind} {id!r}")


class AlreadyThere(StoreError):
    """An id is taken."""

    code = "already-there"

    def __init__(self, kind: str, id: object) -> None:
        self.kind, self.id = kind, id
        super().__init__(f"there is a {kind} {id!r} already")


class NewerDatabase(StoreError):
    """The file was written by a newer version of the program."""

    code = "newer-database"

    def __init__(self, at: int, newest: int, unknown: Sequence[str] = ()) -> None:
        named = f" ({', '.join(unknown)} is not known here)" if unknown else ""
        super().__init__(
            f"the database is at migration {at}, this program knows {newest}{named}: "
            "start the newer program, or restore a backup made by this one"
        )
