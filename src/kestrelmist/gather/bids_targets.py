"""What each image of a study is by the BIDS standard, which belong together, and what it is called there."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from ..core.at_place import at_place
from ..core.image import Image
from ..core.progress import Progress
from ..formats.bids_names import in_order, parsed_rest
from ..formats.sidecar import facts_of, repetition_of
from .bids_rules import folder_of

ANATOMICAL = (
    ("flair", "FLAIR"),
    ("t1", "T1w"),
    ("t2\\*|t2star", "T2starw"),
    ("t2", "T2w"),
    ("pd|proton", "PDw"),
    ("angio|tof", "angio"),
    ("swi", "swi"),
)
"""What series are called, and the suffix of their kind."""
MAP = re.compile(r"field ?map|fmap|gre_field|b0 ?map|phase ?diff", re.I)
TASK = re.compile(r"bold|fmri|run|task|rest", re.I)
FIELD_UNITS = ("Hz", "rad/s", "T")
EXTRA = "extra"
"""Folder of images that the standard has no place for."""


@dataclass(frozen=True)
class Source:
    """An image to be converted: what it is called, whose it is, what it seems to be, `open(progress)` that gives it,
    when it was taken (YYYY-MM-DD), where it lies, and its session where somebody said it."""

    name: str
    subject: str
    seems: str
    open: Callable[[Progress], Image]
    date: str = ""
    place: str = ""
    session: str = ""


@dataclass
class Part:
    """A file that is to be written: an image, or what of it has a file of its own.

    `folder` is the data type ("" when the standard has none), `together` is common to parts that have one number of
    run, and `facts` are what the sidecar says besides."""

    source: int
    image: Image
    subject: str
    session: str
    folder: str
    suffix: str
    entities: dict[str, str] = field(default_factory=dict)
    together: str = ""
    facts: dict[str, Any] = field(default_factory=dict)
    doubts: list[str] = field(default_factory=list)

    @property
    def is_echo_planar(self) -> bool:
        """Whether a field map may be meant for it."""
        return self.folder in ("func", "dwi")

    @property
    def where(self) -> str:
        """Its folder below that of the study."""
        session = f"ses-{self.session}" if self.session else ""
        return "/".join(filter(None, ("" if self.folder else EXTRA, f"sub-{self.subject}", session, self.folder)))

    def name(self, run: int = 1) -> str:
        """Its file's name without an ending, of the first run or a later one."""
        entities = {"ses": self.session, **self.entities} if self.session else dict(self.entities)
        if run > 1:
            entities["run"] = str(run)
        middle = [f"{key}-{value}" for key, value in in_order(entities).items()]
        return "_".join([f"sub-{self.subject}", *middle, self.suffix])


def label(text: str) -> str:
    """A BIDS label: letters and digits only."""
    return re.sub(r"[^0-9A-Za-z]", "", text)


def parts_of(images: Sequence[tuple[int, Source, Image, str]]) -> list[Part]:
    """The files of some images, each with the number of its source and its session; those of a subject's session are
    looked at together, so that field maps and single volumes find what they are for."""
    parts: list[Part] = []
    groups: dict[tuple[str, str], list[Part]] = {}
    for number, source, image, session in images:
        own = _first_guess(number, source, image, session)
        groups.setdefault((own.subject, own.session), []).append(own)
    for several in groups.values():
        maps = [part for part in several if part.folder == "fmap"]
        others = [part for part in several if part.folder != "fmap"]
        _pair_single_volumes(others)
        found = [one for part in others for one in _by_echo(part)]
        for n, one_map in enumerate(_maps(maps)):
            parts += _map_parts(one_map, n)
        parts += found
    for part in parts:
        _say_what_is_wanted(part)
    return sorted(parts, key=lambda part: part.source)


def _first_guess(number: int, source: Source, image: Image, session: str) -> Part:
    """What an image is, by its name when that is one of the standard, else by its header and its name."""
    subject = label(source.subject)
    named = parsed_rest(source.name)
    if named is not None and (folder := folder_of(named)):
        entities = dict(named.entities)
        own = label(source.session) or entities.pop("ses", "") or session
        entities.pop("ses", "")
        return Part(number, image, subject, own, folder, named.suffix, entities)
    folder, suffix, entities = _guessed(image)
    part = Part(number, image, subject, session, folder, suffix, entities)
    if not folder:
        part.entities = {"desc": label(image.name) or "image"}
    return part


def _guessed(image: Image) -> tuple[str, str, dict[str, str]]:
    facts, name = facts_of(image), image.name.lower()
    along = {axis.name: axis.size for axis in image.axes}
    phase = facts.get("ImageComponent") == "phase" or image.unit == "rad"
    part = {"part": "phase"} if phase else {}
    if image.modality == "PT":
        return "pet", "pet", {}
    if image.unit in FIELD_UNITS and MAP.search(name):
        return "fmap", "fieldmap", {}
    if "MR" not in (image.modality, facts.get("Modality")):
        return "", label(image.modality) or "image", {}
    if "bValues" in facts or "direction" in along:
        return "dwi", "dwi", part
    if phase and (MAP.search(name) or "time" not in along):
        return "fmap", "phase", {}
    if MAP.search(name):
        return "fmap", "magnitude", {}
    if "time" in along or ("EP" in str(facts.get("ScanningSequence", "")) and TASK.search(name)):
        task = {"task": label(image.name) or "unknown"}
        return "func", "bold" if "time" in along else "sbref", task | part
    if "PhaseEncodingDirection" in facts and "SliceTiming" in facts and TASK.search(name):
        return "func", "sbref", {"task": label(image.name) or "unknown"}
    for words, suffix in ANATOMICAL:
        if re.search(rf"(?:^|[^a-z]){'(?:' + words + ')'}", name):
            return "anat", suffix, part
    return "", "MR", part


def _pair_single_volumes(parts: list[Part]) -> None:
    """A single volume that was taken for a run has the task of that run: of one on its grid the one whose name is most
    alike, or the next one."""
    runs = [part for part in parts if part.suffix == "bold"]
    for part in parts:
        if part.suffix != "sbref" or "task" not in part.entities:
            continue
        fits = [run for run in runs if _one_grid(run.image, part.image)]
        if fits:
            name = part.image.name.casefold()
            best = max(fits, key=lambda run: (_common(run.image.name.casefold(), name), run.source > part.source,
                                              -abs(run.source - part.source)))  # fmt: skip
            part.entities |= {key: best.entities[key] for key in ("task", "acq", "dir", "run") if key in best.entities}
            part.facts["TaskName"] = best.image.name


def _one_grid(a: Image, b: Image) -> bool:
    return a.space.shape == b.space.shape and bool(np.allclose(a.space.spacing, b.space.spacing, rtol=1e-3))


def _common(a: str, b: str) -> int:
    return next((n for n, (x, y) in enumerate(zip(a, b)) if x != y), min(len(a), len(b)))


def _by_echo(part: Part) -> list[Part]:
    """A series of several echoes is a file each."""
    axis = next((n for n, a in enumerate(part.image.axes) if a.name == "echo"), None)
    if axis is None or part.folder not in ("func", "anat"):
        return [part]
    return [
        replace(part, image=image, entities=part.entities | {"echo": str(n)}, facts=part.facts | facts)
        for n, (image, facts) in enumerate(_echoes(part.image, axis), 1)
    ]


def _echoes(image: Image, axis: int) -> list[tuple[Image, dict[str, Any]]]:
    """An image of each echo, and what its sidecar says of it."""
    along, found = image.axes[axis], []
    times = facts_of(image).get("EchoTimes")
    if not (isinstance(times, list) and len(times) == along.size):
        scale = {"ms": 1e-3, "s": 1.0}.get(along.unit)
        times = [round(v * scale, 9) for v in along.values] if scale and along.values else [None] * along.size
    for n, time in enumerate(times):
        found.append((at_place(image, axis, n), {"EchoTime": time} if time else {}))
    return found


# field maps


def _maps(parts: list[Part]) -> list[list[Part]]:
    """Images of one field map each: on one grid, one after another, until one comes that is there already."""
    found: list[list[Part]] = []
    for part in sorted(parts, key=lambda part: part.source):
        if part.suffix in ("phase", "magnitude"):
            fits = [one for one in found if _one_grid(one[0].image, part.image) and _has_room(one, part)]
        else:
            fits = [
                one for one in found if part.suffix not in {p.suffix for p in one} and one[0].entities == part.entities
            ]
        if fits:
            fits[-1].append(part)
        else:
            found.append([part])
    return found


def _has_room(one: list[Part], part: Part) -> bool:
    """Whether an image of this kind is still missing: there may be two phases, and two magnitudes, of other echoes."""
    there = [p for p in one if p.suffix == part.suffix]
    if not there:
        return any(p.suffix in ("phase", "magnitude", "fieldmap") for p in one)
    times = {facts_of(p.image).get("EchoTime") for p in (*there, part)}
    return len(there) == 1 and len(times) == 2 and not any(_echo_axis(p.image) is not None for p in (*there, part))


def _echo_axis(image: Image) -> int | None:
    return next((n for n, axis in enumerate(image.axes) if axis.name == "echo" and axis.size > 1), None)


def _map_parts(one: list[Part], number: int) -> list[Part]:
    """The files of one field map: magnitudes and phases of single echoes, or a difference, or a map in Hz."""
    together = f"map {number}"
    if all(part.suffix not in ("phase", "magnitude") for part in one):
        return [replace(part, together=together) for part in one]  # named as the standard names them
    is_map = any(part.suffix == "fieldmap" for part in one)
    made: dict[str, list[Part]] = {"phase": [], "magnitude": []}
    for part in one:
        if part.suffix not in made:
            made.setdefault("", []).append(part)
            continue
        axis = _echo_axis(part.image)
        several = [(part.image, {})] if axis is None else _echoes(part.image, axis)
        made[part.suffix] += [replace(part, image=image, facts=part.facts | facts) for image, facts in several]
    for parts in (made["phase"], made["magnitude"]):
        parts.sort(key=lambda p: _echo_time(p) or 0.0)
    magnitudes, phases = made["magnitude"], made["phase"]
    for n, part in enumerate(magnitudes, 1):
        part.suffix = "magnitude" if is_map else f"magnitude{n}"
    if len(phases) == 1 and _is_difference(phases[0], magnitudes):
        phases[0].suffix = "phasediff"
        phases[0].facts |= _both_echoes(phases[0], magnitudes)
    else:
        for n, part in enumerate(phases, 1):
            part.suffix = f"phase{n}"
    return [replace(part, together=together) for part in (*magnitudes, *phases, *made.get("", []))]


def _echo_time(part: Part) -> float | None:
    time = part.facts.get("EchoTime") or facts_of(part.image).get("EchoTime")
    return float(time) if isinstance(time, (int, float)) else None


def _is_difference(phase: Part, magnitudes: list[Part]) -> bool:
    facts = facts_of(phase.image)
    two = len({_echo_time(part) for part in magnitudes}) == 2
    return "diff" in phase.image.name.lower() or {"EchoTime1", "EchoTime2"} <= set(facts) or two


def _both_echoes(phase: Part, magnitudes: list[Part]) -> dict[str, float]:
    facts = facts_of(phase.image)
    if {"EchoTime1", "EchoTime2"} <= set(facts):
        return {}
    times = sorted({time for part in magnitudes if (time := _echo_time(part))})
    if len(times) == 1 and (own := _echo_time(phase)) and own != times[0]:
        times = sorted((times[0], own))  # a scanner gives the difference the time of its second echo
    return {"EchoTime1": times[0], "EchoTime2": times[1]} if len(times) == 2 else {}


def _say_what_is_wanted(part: Part) -> None:
    """What the standard wants of a sidecar, where it can be told; and a doubt where it cannot."""
    facts = facts_of(part.image) | part.facts
    if part.folder == "func" and "task" in part.entities:
        part.facts.setdefault("TaskName", part.facts.get("TaskName") or facts.get("TaskName") or part.image.name)
    if part.suffix == "bold" and not facts.get("RepetitionTime"):
        step = repetition_of(part.image)
        if step:
            part.facts["RepetitionTime"] = step
        else:
            part.doubts.append("its repetition time is not known, which the standard wants")
    wanted = {"phasediff": ("EchoTime1", "EchoTime2"), "phase1": ("EchoTime",), "phase2": ("EchoTime",)}
    missing = [name for name in wanted.get(part.suffix, ()) if name not in facts]
    if missing:
        part.doubts.append(f"{' and '.join(missing)} are not known, which the standard wants")
    if part.suffix == "fieldmap":
        part.facts["Units"] = part.image.unit
