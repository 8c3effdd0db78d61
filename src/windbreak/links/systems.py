"""The content systems there are adapters for."""

from __future__ import annotations

from windbreak.links.millrace import MillraceAgent

SYSTEMS = {"millrace": MillraceAgent}
