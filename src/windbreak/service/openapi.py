"""The service's OpenAPI document: ``python -m windbreak.service.openapi`` prints it."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

from windbreak.operations.context import open_context
from windbreak.service.app import create_app


def document() -> str:
    """The OpenAPI of all routes, as JSON with sorted keys."""
    with tempfile.TemporaryDirectory() as folder:
        context = open_context(Path(folder))
        try:
            app = create_app(context, drive=False)
            return json.dumps(app.openapi(), indent=1, sort_keys=True)
        finally:
            context.store.close()
            context.http.close()


if __name__ == "__main__":
    print(document())
