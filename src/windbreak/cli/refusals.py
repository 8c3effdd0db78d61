"""That a command is not carried out, with the exit status that says so.

Apart from what is shown, so that ``--help`` need not load it.
"""


class Refusal(Exception):
    """A command is not carried out; ``status`` is the exit status."""

    def __init__(self, text: str, status: int = 1) -> None:
        self.status = status
        super().__init__(text)
