"""The form of recipes as a JSON schema (draft 2020-12), for editors that tell what may be written where."""

from __future__ import annotations

from typing import Any

from ...core.operation import Operation, all_operations
from ...core.parameter import Parameter
from .text import FORM, LONGEST, MOST_STEPS

TYPES: dict[type, str] = {bool: "boolean", int: "integer", float: "number"}


def schema() -> dict[str, Any]:
    """The schema of recipes with the operations there are now."""
    able = [o for o in all_operations().values() if o.repeats]
    pointer = {"type": "string", "description": "$Slot, $2.result, either with #labels or @3 behind, or a thing's name"}
    pointers = {"oneOf": [pointer, {"type": "array", "items": pointer}]}
    slot = {
        "type": "object",
        "required": ["kind", "name"],
        "properties": {
            "kind": {"type": "string"},
            "name": {"type": "string", "description": "* stands for anything, {subject} for the subject's own part"},
            "subject": {"type": "string", "description": "whose it was when the recipe was made"},
            "always": {"type": "boolean", "description": "it is that subject's for everybody"},
            "each": {"type": "boolean", "description": "do the steps for each that fits"},
        },
    }
    number = {"type": "number", "exclusiveMinimum": 0}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Recipe",
        "type": "object",
        "required": ["recipe", "steps"],
        "properties": {
            "recipe": {"const": FORM},
            "title": {"type": "string", "maxLength": LONGEST},
            "note": {"type": "string"},
            "expected": {
                "type": "object",
                "additionalProperties": False,
                "properties": dict.fromkeys(("volumes", "repetition_time", "structure"), number),
            },
            "slots": {"type": "object", "additionalProperties": slot},
            "steps": {"type": "array", "maxItems": MOST_STEPS, "items": {"anyOf": [_step(o, pointers) for o in able]}},
        },
    }


def _step(operation: Operation, pointers: dict[str, Any]) -> dict[str, Any]:
    inputs = {p.name: pointers for p in operation.inputs}
    settings = {p.name: _setting(p) for p in operation.settings}
    return {
        "title": operation.title,
        "type": "object",
        "required": ["operation"],
        "additionalProperties": False,
        "properties": {
            "operation": {"const": operation.name},
            "inputs": {"type": "object", "additionalProperties": False, "properties": inputs},
            "settings": {"type": "object", "additionalProperties": False, "properties": settings},
            "skip": {"type": "boolean"},
        },
    }


def _setting(p: Parameter) -> dict[str, Any]:
    """What may stand for a setting: its own type, or text with a unit."""
    told: dict[str, Any] = {"description": (p.help or p.words).partition("\n")[0][:200]}
    if p.choices and not p.many:
        return told | {"enum": [*p.choices, *([] if p.required else [None])]}
    kind = TYPES.get(p.kind.type)
    return told | ({"type": [kind, "string", "null"]} if kind is not None else {})
