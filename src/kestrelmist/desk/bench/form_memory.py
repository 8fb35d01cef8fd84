"""Settings that were used last, which come back when a form is opened again."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ...core.errors import Trouble
from ...core.operation import Operation
from ...study.study import Study
from .form_fields import FormField

KEY = "settings of forms"
"""Under which the study remembers them, by operation."""


def kept_of(operation: Operation, fields: Mapping[str, FormField], settings: dict[str, Any]) -> dict[str, Any]:
    """Of settings those that a form would be given again, as YAML holds them."""
    written = operation.written(settings)
    return {name: value for name, value in written.items() if name in fields and fields[name].put is not None}


def remember(study: Study, operation: Operation, fields: Mapping[str, FormField], settings: dict[str, Any]) -> None:
    """Keep the settings that were used."""
    if study.read_only:
        return
    known = study.catalogue.recall(KEY, {})
    known = dict(known) if isinstance(known, dict) else {}
    known[operation.name] = [operation.version, kept_of(operation, fields, settings)]
    try:
        study.catalogue.remember(KEY, known)
    except Trouble:
        pass  # a form that begins as usual is no reason to stop anyone


def remembered(study: Study, operation: Operation, fields: Mapping[str, FormField]) -> dict[str, Any]:
    """The settings that were used last, in their types; nothing where they are of another version, or damaged."""
    known = study.catalogue.recall(KEY, {})
    entry = known.get(operation.name) if isinstance(known, dict) else None
    if (
        not isinstance(entry, list)
        or len(entry) != 2
        or entry[0] != operation.version
        or not isinstance(entry[1], dict)
    ):
        return {}
    there = {p.name: p for p in operation.settings}
    found = {}
    for name, value in entry[1].items():
        if name in there and name in fields and fields[name].put is not None:
            try:
                found[name] = there[name].checked(value)
            except Trouble:  # as it was allowed once
                continue
    return found


def last_used(study: Study, operation: Operation, name: str) -> dict[str, Any]:
    """A setting of an operation as it was used last, for a button that runs it without a form; nothing where it never
    was."""
    known = study.catalogue.recall(KEY, {})
    entry = known.get(operation.name) if isinstance(known, dict) else None
    if not isinstance(entry, list) or len(entry) != 2 or entry[0] != operation.version:
        return {}
    kept = entry[1].get(name) if isinstance(entry[1], dict) else None
    setting = next((p for p in operation.settings if p.name == name), None)
    if kept is None or setting is None:
        return {}
    try:
        return {name: setting.checked(kept)}
    except Trouble:  # as it was allowed once
        return {}


def fill(fields: Mapping[str, FormField], settings: dict[str, Any]) -> None:
    """Put settings into a form."""
    for name, value in settings.items():
        put = fields[name].put
        if put is not None:
            put(value)


def usual(operation: Operation, fields: Mapping[str, FormField]) -> dict[str, Any]:
    """What a form begins with where nothing was used before."""
    there = {p.name: p for p in operation.settings if not p.required}
    return {name: there[name].default for name, field in fields.items() if name in there and field.put is not None}
