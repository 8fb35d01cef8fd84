"""Run an operation on a study, for all three doors: window, command line, Python.

A call is settled first (names looked up, numbers checked), computed then (anywhere, a worker thread included), and
kept last (catalogue, journal, logbook). The window does the three apart; `run` does them in a row.
"""

from __future__ import annotations

import re
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.operation import Operation
from ..core.patch import LabelEdit
from ..core.progress import Progress, silent
from ..core.table import Table
from ..operations import find_operation
from .logbook import Step
from .study import ImageRecord, Study


@dataclass
class Call:
    """An operation with everything it needs."""

    operation: Operation
    settings: dict[str, Any]
    arguments: dict[str, Any] = field(default_factory=dict)
    record: ImageRecord | None = None
    seconds: float = 0.0
    frame: str = ""

    def compute(self, progress: Progress):
        """Do the work; touches nothing but memory. Images are read from disk here, not before."""
        started = time.monotonic()
        for value in self.arguments.values():
            if isinstance(value, Image) and not value.axes and not value.levels:
                value.fetch(progress.part(0.0, 0.1))
        result = self.operation(progress, **self.arguments, **self.settings)
        self.seconds = time.monotonic() - started
        return result


def settle(study: Study, name: str, given: dict[str, Any]) -> Call:
    """Look up the inputs and check the settings; raises Trouble when something is missing or wrong.

    `image` in `given` names an image of the study; its label map comes with it. When the study holds one image only,
    it need not be named. `frame` picks one volume of a series: places along its axes, counted from 1.
    """
    operation = find_operation(name)
    given = dict(given)
    wanted = given.pop("image", None)
    given.pop("labels", None)
    frame = given.pop("frame", None)
    call = Call(operation, operation.checked(given))
    if operation.inputs:
        records = study.records()
        if wanted is None and len(records) != 1:
            names = ", ".join(f"{r.subject}/{r.name}" for r in records) or "none yet"
            raise Trouble(f"“{operation.title}” needs an image", f"choose one of: {names}", study.folder)
        call.record = study.find(records[0].id if wanted is None else wanted)
        for p in operation.inputs:
            call.arguments[p.name] = study.image(call.record.id) if p.kind is Image else study.labels(call.record.id)
            if p.kind is Image and frame is not None:
                call.arguments[p.name] = picked(call.arguments[p.name], frame)
                call.frame = frame.strip() if isinstance(frame, str) else ",".join(str(v) for v in np.ravel(frame))
    return call


def picked(image: Image, frame) -> Image:
    """One volume of a series by its places along the axes, "3" or "3,1", counted from 1; raises Trouble when there is none."""
    sizes = [a.size for a in image.axes]
    wanted = f"give {' and '.join(f'a {a.name} from 1 to {a.size}' for a in image.axes) or 'none: it is a single volume'}"
    try:
        places = [int(v) - 1 for v in (re.split(r"[,;\s]+", str(frame).strip()) if isinstance(frame, str) else np.ravel(frame))]
    except ValueError:
        raise Trouble(f"“{frame}” is no place in “{image.name}”", wanted) from None
    if len(places) != len(sizes) or any(not 0 <= n < size for n, size in zip(places, sizes)):
        raise Trouble(f"“{frame}” is no place in “{image.name}”", wanted)
    return image.frame(tuple(places))


def keep(study: Study, call: Call, result, progress: Progress | None = None, applied: bool = False):
    """Keep what a call made, and write the logbook.

    Returns
    -------
    What a person asked for: ids of new images (a list), a Table, a LabelEdit that has been applied, or what the
    operation returned.
    """
    outputs: dict[str, Any] = {}
    kept, reports = result, []
    if isinstance(result, Image) or (isinstance(result, list) and all(isinstance(r, Image) for r in result)):
        images = [result] if isinstance(result, Image) else result
        progress, kept = progress or silent(), []
        reports = [image.origin.report for image in images if image.origin.report is not None]
        for n, image in enumerate(images):
            image.subject = image.subject or (call.record.subject if call.record else "")
            kept.append(study.add_image(image, progress.part(n / len(images), (n + 1) / len(images))))
            record = study.find(kept[-1])
            outputs[f"image {n + 1}"] = {"name": record.name, "hash": record.hash}
    elif isinstance(result, LabelEdit):
        study.keep_edit(call.record.id, result, applied, step_of(call, result))
        return kept
    elif isinstance(result, Table):
        outputs["table"] = {"name": result.title, "rows": len(result.rows)}
    if study.read_only:
        return kept
    log_id = study.logbook.write(step_of(call, result, outputs))
    for table in [result] if isinstance(result, Table) else reports:
        study.keep_table(table, log_id)
    return kept


def run(study: Study, name: str, given: dict[str, Any], progress: Progress | None = None):
    """Settle, compute and keep in a row."""
    progress = progress or silent()
    call = settle(study, name, given)
    return keep(study, call, call.compute(progress.part(0.0, 0.8)), progress.part(0.8, 1.0))


def step_of(call: Call, result, outputs: dict | None = None) -> Step:
    """A call's line in the logbook."""
    if isinstance(result, LabelEdit):
        outputs = {"labels": {"name": result.title, "voxels": result.patch.voxels if result.patch else 0}}
    settings = _plain(call) | ({"frame": call.frame} if call.frame else {})
    return Step(call.operation.name, call.operation.title, settings, _inputs_of(call), outputs or {}, call.seconds)


def _inputs_of(call: Call) -> dict:
    """Inputs by name and content hash, for the logbook."""
    found = {}
    if call.record:
        for p in call.operation.inputs:
            value = call.arguments.get(p.name)
            found[p.name] = ({"name": value.name} if isinstance(value, LabelMap) else
                             {"name": call.record.name, "subject": call.record.subject, "hash": call.record.hash})
    return found


def _plain(call: Call) -> dict:
    """Settings as the logbook writes them; secrets are left out."""
    secret = {p.name for p in call.operation.settings if p.role == "secret"}
    return {k: list(v) if isinstance(v, tuple) else str(v) if isinstance(v, Path) else v for k, v in call.settings.items() if k not in secret}
