"""Whether counts, times and widths are what the task expects, and whether headers say what steps need."""

from __future__ import annotations

import json
import re
import shutil
from collections import Counter
from statistics import median
from typing import Any

from ....core.caveat import SIDECAR_CONTRADICTS
from ....core.digits import plain
from ....core.errors import Trouble
from ....core.left_out import Found
from ....core.memory import free_bytes
from ....core.operation import find_operation
from ....core.parameter import SMOOTHING
from ....formats.sidecar import KEY as SIDECAR
from ...items import ImageRecord
from ...used import shown
from ..mends import ExpectNumber, PlanMend, SetStep, TypeIt
from ..needs import bytes_of, memory_for
from ..plan_notice import LOOK, WRONG, Looked, PlanNotice, plan_check
from .slots import LEAVE_OUT

FROM_FILES = re.compile(r"header|sidecar|series|echo times")
"""Words of whence what a file says is found, and not what the program would choose."""
APART = 0.005
"""By which share two times may differ and be called the same."""


@plan_check
def number_of_volumes(looked: Looked) -> list[PlanNotice]:
    """Series with another number of volumes than the task expects, or than the others have."""
    counts = {u.key: r.axes[0].size for u in looked.whole if (r := looked.series(u)) is not None}
    if not counts:
        return []
    wanted = looked.recipe.expected.volumes
    usual = wanted or Counter(counts.values()).most_common(1)[0][0]
    whose = "the task expects" if wanted else "the others have"
    found = []
    for unit in looked.whole:
        count = counts.get(unit.key)
        if count is not None and count != usual:
            sentence = f"{unit.words}: {count} volumes, {whose} {usual}."
            found.append(PlanNotice("number of volumes", LOOK, sentence, unit.key, (LEAVE_OUT,)))
    return found


@plan_check
def time_between_volumes(looked: Looked) -> list[PlanNotice]:
    """Series with another repetition time than the task expects, or than the others have; none at all."""
    times = {u.key: _step_of(r) for u in looked.whole if (r := looked.series(u)) is not None}
    known = [t for t in times.values() if t]
    wanted = looked.recipe.expected.repetition_time
    usual = wanted or (median(known) if known else None)
    if usual is None:
        return []
    whose = "the task expects" if wanted else "the others have"
    found = []
    for unit in looked.whole:
        if unit.key not in times:
            continue
        seconds = times[unit.key]
        if seconds is None:
            sentence = f"{unit.words}: the time between its volumes is not known, {whose} {usual:.4g} s."
        elif abs(seconds - usual) <= APART * usual:
            continue
        else:
            sentence = f"{unit.words}: {seconds:.4g} s between volumes, {whose} {usual:.4g} s."
        mends: list[PlanMend] = [LEAVE_OUT]
        if wanted and seconds:
            mends.append(ExpectNumber(f"Expect {seconds:.4g} s", "repetition_time", float(f"{seconds:.6g}")))
        found.append(PlanNotice("time between volumes", LOOK, sentence, unit.key, tuple(mends)))
    return found


def _step_of(record: ImageRecord) -> float | None:
    axis = next((a for a in record.axes if a.name == "time"), None)
    step = axis.step if axis is not None else None
    return None if step is None or axis is None else step * {"ms": 1e-3, "min": 60.0}.get(axis.unit, 1.0)


@plan_check
def settings_complete(looked: Looked) -> list[PlanNotice]:
    """Steps whose settings are wrong, or lack one that is needed: nobody can be run."""
    found = []
    for n, step in enumerate(looked.recipe.steps):
        about = find_operation(step.operation)
        number = looked.number(n)
        try:
            about.checked(step.settings)
        except Trouble as trouble:
            ask = TypeIt("Type it…", number)
            found.append(PlanNotice("settings complete", WRONG, f"Step {number}: {trouble}", "", (ask,)))
    return found


@plan_check
def what_headers_say(looked: Looked) -> list[PlanNotice]:
    """Settings that a step takes from sidecars or headers and that are not there, or that contradict what was typed."""
    found = []
    for n, step in enumerate(looked.recipe.steps):
        about = find_operation(step.operation)
        left = [p for p in about.settings if p.left_out is not None and p.left_out.find is not None]
        if not left:
            continue
        try:
            settings = about.checked(step.settings)
        except Trouble:
            continue  # said by the recipe itself
        for unit in looked.whole:
            try:
                given = looked.given(unit, about, step.inputs) | settings
                if about.lead is not None and given.get(about.lead.name) is None:
                    continue  # it is not of a slot
                told = about.found(given | {p.name: None for p in left})
            except Trouble as trouble:
                found.append(PlanNotice("what headers say", WRONG, f"{unit.words}: {trouble}", unit.key, (LEAVE_OUT,)))
                continue
            for p in left:
                one, typed = told.get(p.name), settings.get(p.name)
                if isinstance(one, str) and typed is None and p.counts(settings):
                    sentence = f"{unit.words}: “{about.title}” finds no {p.said}: {one}"
                    ask = TypeIt("Type it…", looked.number(n))
                    found.append(PlanNotice("what headers say", WRONG, sentence, unit.key, (LEAVE_OUT, ask)))
                elif (
                    isinstance(one, Found)
                    and typed is not None
                    and FROM_FILES.search(one.whence)
                    and _contradict(typed, one.value)
                ):
                    sentence = (
                        f"{unit.words}: “{about.title}” is given {shown(typed, p)} as {p.said}, and"
                        f" {shown(one.value, p)} stands {one.whence.replace('from', 'in', 1)}."
                    )
                    mend = SetStep("Take what each says", looked.number(n), p.name)
                    found.append(PlanNotice("what headers say", LOOK, sentence, unit.key, (mend, LEAVE_OUT)))
    return found


def _contradict(typed: Any, found: Any) -> bool:
    if isinstance(typed, (int, float)) and isinstance(found, (int, float)):
        return abs(typed - found) > APART * max(abs(typed), abs(found))
    return typed != found


@plan_check
def times_agree(looked: Looked) -> list[PlanNotice]:
    """Series whose sidecar gives another repetition time than their own header."""
    found = []
    for unit in looked.whole:
        record = looked.series(unit)
        header = None if record is None else _step_of(record)
        said = None if record is None else _said(record)
        if header and said and abs(header - said) > APART * header:
            sentence = f"{unit.words}: {said:.4g} s in the sidecar, {header:.4g} s between volumes in the header."
            found.append(PlanNotice("times agree", LOOK, sentence, unit.key, (LEAVE_OUT,)))
            continue
        images = (one.record for one in unit.filled.values() if isinstance(one.record, ImageRecord))
        for image in images:
            if any(c.code == SIDECAR_CONTRADICTS for c in image.caveats):
                sentence = f"{unit.words}: the sidecar of “{image.name}” contradicts its header."
                found.append(PlanNotice("times agree", LOOK, sentence, unit.key, (LEAVE_OUT,)))
    return found


def _said(record: ImageRecord) -> float | None:
    try:
        value = json.loads(record.facts.get(SIDECAR) or "{}").get("RepetitionTime")
    except (ValueError, AttributeError):  # files may hold anything
        return None
    return float(value) if isinstance(value, (int, float)) and value > 0 else None


@plan_check
def width_of_smoothing(looked: Looked) -> list[PlanNotice]:
    """Smoothing that is wider than the structure of interest."""
    structure = looked.recipe.expected.structure
    if structure is None:
        return []
    found = []
    for n, step in enumerate(looked.recipe.steps):
        about = find_operation(step.operation)
        widths = [p for p in about.settings if p.role == SMOOTHING]
        used = [p for p in widths if step.settings.get(p.name) is not None] or widths[:1]
        for p in used[-1:]:
            width = step.settings.get(p.name, p.default)
            each = width if isinstance(width, (list, tuple)) else [width]
            if not all(isinstance(one, (int, float)) for one in each) or max(each) <= structure:
                continue
            small = plain(structure)
            sentence = f"“{about.title}” with {plain(max(each))} mm is wider than what is looked at ({small} mm)."
            value = [min(one, structure) for one in each] if each is width else structure
            mend = SetStep(f"Make it {small} mm", looked.number(n), p.name, value)
            found.append(PlanNotice("width of smoothing", LOOK, sentence, "", (mend,)))
    return found


@plan_check
def room_for_it(looked: Looked) -> list[PlanNotice]:
    """Disk and memory that it needs and that are not there."""
    found = []
    needed = sum(bytes_of(looked.recipe, unit, looked) for unit in looked.whole)
    free = shutil.disk_usage(looked.study.folder).free
    if needed > 0.95 * free:
        sentence = f"About {needed / 1e9:.1f} GB will be written, and {free / 1e9:.1f} GB are free on this disk."
        found.append(PlanNotice("room for it", LOOK, sentence))
    most, memory = 0, free_bytes()
    for unit in looked.whole:
        for one in unit.filled.values():
            if isinstance(one.record, ImageRecord):
                most = max(most, memory_for(one.record, True))
    if most > 0.7 * memory:
        sentence = f"One step may take {most / 1e9:.1f} GB of memory, and {memory / 1e9:.1f} GB are free."
        found.append(PlanNotice("room for it", LOOK, sentence))
    return found
