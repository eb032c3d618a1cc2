"""The JSON Schema of survey.json, made from the dataclasses that it holds.

python -m lumet.project.schema > docs/survey.schema.json
"""

import json
import types
from dataclasses import MISSING, fields, is_dataclass
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

from lumet.project.surveyfile import FORMAT, Survey


def survey_schema() -> dict[str, Any]:
    """Return the schema."""
    definitions: dict[str, Any] = {}
    whole = _object(Survey, definitions)
    whole["properties"] = {"format": {"const": FORMAT}, **whole["properties"]}
    whole["required"] = ["format", *whole["required"]]
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "survey.json: what Lumet found in a database, and inferred from it",
        **whole,
        "$defs": dict(sorted(definitions.items())),
    }


def _object(owner: Any, definitions: dict[str, Any]) -> dict[str, Any]:
    hints = get_type_hints(owner)
    required = [
        item.name
        for item in fields(owner)
        if item.default is MISSING and item.default_factory is MISSING
    ]
    first = (owner.__doc__ or "").split("\n\n")[0]
    return {
        "type": "object",
        "description": " ".join(first.split()),
        "properties": {
            item.name: _type(hints[item.name], definitions) for item in fields(owner)
        },
        "required": required,
        "additionalProperties": False,
    }


def _type(hint: Any, definitions: dict[str, Any]) -> dict[str, Any]:
    plain = {str: "string", bool: "boolean", int: "integer", float: "number"}
    origin, arguments = get_origin(hint), get_args(hint)
    if hint in plain:
        return {"type": plain[hint]}
    if origin is Literal:
        return {"enum": list(arguments)}
    if origin is tuple:
        return {"type": "array", "items": _type(arguments[0], definitions)}
    if origin is dict:
        return {
            "type": "object",
            "additionalProperties": _type(arguments[1], definitions),
        }
    if origin in (Union, types.UnionType):
        return {"anyOf": [_type(each, definitions) for each in arguments]}
    if hint is type(None):
        return {"type": "null"}
    if is_dataclass(hint):
        name = hint.__name__  # type: ignore[union-attr]
        if name not in definitions:
            definitions[name] = {}
            definitions[name] = _object(hint, definitions)
        return {"$ref": f"#/$defs/{name}"}
    return {}  # anything


if __name__ == "__main__":
    print(json.dumps(survey_schema(), indent=1))
