"""What a step brings with it, in words."""

from __future__ import annotations

from windbreak.core.values.errands import Brought

_RUN = {
    "migrate": "The run follows its migration to the end",
    "regenerate": "The run has it made anew",
    "register": "The run enters the code",
    "restart": "The run restarts it",
}


def brought_text(bring: Brought) -> str:
    """``The run follows its migration to the end: Move orders to the new tables.``"""
    match bring.by:
        case "run":
            return f"{_RUN.get(bring.kind, 'The run does it')}: {bring.text}."
        case "person":
            if bring.blocking:
                return f"Errand, and the run waits for it: {bring.text}."
            due = f" within {bring.due_days} days" if bring.due_days else ""
            return f"Errand{due}: {bring.text}."
        case "nobody":
            return f"To read: {bring.text}"
