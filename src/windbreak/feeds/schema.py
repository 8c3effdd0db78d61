"""The release feed as a JSON Schema, from the models: ``python -m windbreak.feeds.schema``."""

from __future__ import annotations

import json
from typing import Any

from windbreak.core.values.releases import ReleaseFacts


def schema() -> dict[str, Any]:
    """A schema (2020-12) of a whole document; keys that are not named are JSON Feed's own."""
    document = ReleaseFacts.model_json_schema(by_alias=True, ref_template="#/$defs/{model}")
    parts = document.pop("$defs", {})
    parts["ReleaseFacts"] = {**document, "patternProperties": {"^_": {}}}
    text = {"type": "string"}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Release feed",
        "description": "JSON Feed 1.1 whose items carry a _release object.",
        "type": "object",
        "required": ["version", "items"],
        "properties": {
            "version": {"type": "string", "pattern": "^https://jsonfeed.org/version/1"},
            "title": text,
            "next_url": text,
            "_release": {
                "type": "object",
                "properties": {
                    "headline": {"type": "object", "additionalProperties": text},
                    "withdrawn": {"type": "object", "additionalProperties": text},
                    "credential": {
                        "type": "object",
                        "properties": {
                            "check_url": text,
                            "needs": {"type": "array", "items": text},
                        },
                    },
                },
            },
            "items": {
                "type": "array",
                "items": {
                    "type": "object",
                    "properties": {
                        "date_published": text,
                        "title": text,
                        "content_text": text,
                        "attachments": {
                            "type": "array",
                            "items": {
                                "type": "object",
                                "required": ["url"],
                                "properties": {
                                    "url": text,
                                    "size_in_bytes": {"type": "integer", "minimum": 0},
                                    "_sha256": text,
                                },
                            },
                        },
                        "_release": {"$ref": "#/$defs/ReleaseFacts"},
                    },
                },
            },
        },
        "$defs": parts,
    }


if __name__ == "__main__":
    print(json.dumps(schema(), indent=1))
