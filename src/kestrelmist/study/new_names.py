"""Names of new files, whose places are filled by what is worked on."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ..core.kind import can_lead
from ..core.name_pattern import filled, has_places
from ..core.operation import Operation
from ..formats.bids_names import parsed, parsed_rest
from ..formats.format import image_name
from .given import Given
from .items import ImageRecord
from .open_study import OpenStudy


def with_names(
    operation: Operation, settings: dict[str, Any], inputs: dict[str, tuple[Given, ...]], study: OpenStudy | None = None
) -> dict[str, Any]:
    """Settings with places in the names of new files filled by what the first image is; raises Trouble when that is not
    known."""
    new = [p.name for p in operation.settings if p.role == "new" and has_places(str(settings.get(p.name) or ""))]
    if not new:
        return settings
    first = next((g for given in inputs.values() for g in given if can_lead(g.thing.kind)), None)
    known = {} if first is None else _names_of(first, study)
    return settings | {name: Path(filled(str(settings[name]), known)) for name in new}


def _names_of(given: Given, study: OpenStudy | None) -> dict[str, str]:
    """What the places of a name may be filled with."""
    thing = given.thing
    place = f", {','.join(map(str, thing.place))}" if thing.place else ""
    if given.file is not None:
        name = image_name(given.file)
        named = parsed(name)
        of = (named.rest if named else name) + place
        return {"name": of, "image": of, "subject": named.subject if named else ""}
    record = study.items.get(given.item) if study is not None and given.item is not None else None
    visit = _visit_of(thing.name, record.facts if isinstance(record, ImageRecord) else {})
    return {"name": thing.name + place, "image": thing.name + place, "subject": thing.subject, "visit": visit}


def names_of_record(record: ImageRecord) -> dict[str, str]:
    """What the places of a name may be filled with for an image of the study."""
    visit = _visit_of(record.name, record.facts)
    return {"name": record.name, "image": record.name, "subject": record.subject, "visit": visit}


def _visit_of(name: str, facts: dict[str, str]) -> str:
    said = parsed_rest(name)
    visit = said.entities.get("ses", "") if said is not None else ""
    return visit or facts.get("StudyDate", "") or facts.get("SeriesDate", "")
