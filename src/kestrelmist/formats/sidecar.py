"""What lies beside a NIfTI file: how it was taken, as JSON by the names of the BIDS standard (bids-specification,
"Magnetic Resonance Imaging")."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import Any

from ..core.axis import Axis
from ..core.caveat import NOTED, SIDECAR_CONTRADICTS, Caveat
from ..core.errors import Trouble
from ..core.image import Image

KEY = "Acquisition"
"""Fact of an image under which these facts are kept, as JSON."""
HIDDEN = ("bValues", "bVectors", "EchoTimes")
"""Facts that go into files of their own or that no sidecar has a name for."""
UNIT = "Units"
LARGEST = 8 << 20
"""Bytes; what is larger is no sidecar."""
LONGEST = 300
"""Digits of a number."""
CLOSE = 1e-3
"""Share by which two repetition times may differ and be the same."""


def base_of(path: Path) -> Path:
    """The path without .nii, .nii.gz, .nii.bz2 or .hdr."""
    name = path.name
    for ending in (".gz", ".bz2"):
        if name.lower().endswith(f".nii{ending}"):
            name = name[: -len(ending)]
    return path.with_name(name[:-4] if name.lower().endswith((".nii", ".hdr")) else name)


def beside(path: Path, ending: str) -> Path:
    """What lies beside a NIfTI file under an ending."""
    return base_of(path).with_name(base_of(path).name + ending)


def facts_of(image: Image) -> dict[str, Any]:
    """How an image was taken, by the names that BIDS uses; empty when nobody knows."""
    try:
        found = json.loads(image.facts.get(KEY, "{}"))
    except ValueError:
        return {}
    return found if isinstance(found, dict) else {}


def with_facts(image: Image, **changed: Any) -> dict[str, str]:
    """The facts of an image with some of how it was taken changed; None takes one away."""
    kept = {k: v for k, v in (facts_of(image) | changed).items() if v is not None}
    return {**image.facts, KEY: json.dumps(kept)}


def number_of(image: Image, name: str) -> float | None:
    """A number above 0 of how an image was taken, None when it is not said.

    Raises
    ------
    Trouble
        When what is said is no such number.
    """
    value = facts_of(image).get(name)
    if value is None:
        return None
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not 0 < value < float("inf"):
        raise Trouble(
            f"“{image.name}” is said to have a {name} of {str(value)[:40]}, which is no number above 0", "give it"
        )
    return float(value)


def repetition_of(image: Image) -> float | None:
    """Repetition time in s: from the times of the series, else from how it was taken."""
    axis = image.axes[0] if image.axes else None
    if axis is not None and axis.unit == "s" and axis.step:
        return float(axis.step)
    return number_of(image, "RepetitionTime")


def take_in_sidecar(image: Image, path: Path, times_sure: bool = True) -> None:
    """Give an image what lies beside its file, with a caveat where it says something else than the file or cannot be
    read. A repetition time goes before that of a file that names no unit of time."""
    file = beside(path, ".json")
    if not file.is_file():
        return
    try:
        if file.stat().st_size > LARGEST:
            raise ValueError("too large")
        found = json.loads(file.read_bytes(), parse_int=_whole)
        if not isinstance(found, dict):
            raise ValueError("no list of names and values")
    except (OSError, ValueError, RecursionError):
        image.caveats.append(
            Caveat(NOTED, f"“{file.name}” beside the file cannot be read, so nothing is taken from it")
        )
        return
    image.unit = image.unit or (found.pop(UNIT) if isinstance(found.get(UNIT), str) else "")
    found.pop(UNIT, None)
    found, odd = _sensible(found)
    beyond = [name for name, value in found.items() if not _holds_numbers(value)]
    found, odd = {k: v for k, v in found.items() if k not in beyond}, odd + beyond
    if odd:
        said = f"{', '.join(odd)} in the sidecar cannot be what is said, and is left out"
        image.caveats.append(Caveat(SIDECAR_CONTRADICTS, said))
    if not found:
        return
    image.facts[KEY] = json.dumps(found)
    repeat = found.get("RepetitionTime")
    if image.axes and image.axes[0].name == "time" and isinstance(repeat, (int, float)) and 0 < repeat < 1e6:
        first = image.axes[0]
        if (first.step is None and not first.values) or not times_sure:
            image.axes = (Axis.even("time", first.size, float(repeat), "s"), *image.axes[1:])
        elif first.unit == "s" and first.step and abs(first.step - repeat) > CLOSE * repeat:
            said = f"The file gives a repetition time of {first.step:.5g} s, its sidecar {repeat:.5g} s"
            image.caveats.append(Caveat(SIDECAR_CONTRADICTS, said))
    times = found.get("SliceTiming")
    slices = image.space.shape["ijk".index(str(found.get("SliceEncodingDirection") or "k")[0])]
    if isinstance(times, list) and len(times) != slices:
        said = f"The file has {slices} slices, and its sidecar the times of {len(times)}"
        image.caveats.append(Caveat(SIDECAR_CONTRADICTS, said))


def _whole(text: str) -> int | float:
    """A whole number; infinite when it is longer than any that counts something."""
    return int(text) if len(text) < LONGEST else float("inf")


def _holds_numbers(value: Any) -> bool:
    """Whether all numbers in what a sidecar says are finite."""
    if isinstance(value, dict):
        return all(map(_holds_numbers, value.values()))
    if isinstance(value, list):
        return all(map(_holds_numbers, value))
    if isinstance(value, int):
        return abs(value) < 10**LONGEST
    return not isinstance(value, float) or math.isfinite(value)


def sensible_facts(found: dict[str, Any]) -> dict[str, Any]:
    """Facts that were written by this program, with those that no sidecar has a name for; without what cannot be."""
    kept, _ = _sensible(found)
    kept |= {k: found[k] for k in ("bValues", "EchoTimes") if _are_times(found.get(k))}
    vectors = found.get("bVectors")
    if isinstance(vectors, list) and all(_are_times(v) and len(v) == 3 for v in vectors):
        kept["bVectors"] = vectors
    return {str(k): v for k, v in kept.items() if _holds_numbers(v)}


def _sensible(found: dict[str, Any]) -> tuple[dict[str, Any], list[str]]:
    """What other parts of the program rely on, without what cannot be; and the names of that."""
    kept = {k: v for k, v in found.items() if k not in HIDDEN}
    along = kept.get("SliceEncodingDirection")
    if along in ("i-", "j-", "k-") and isinstance(kept.get("SliceTiming"), list):  # the last slice comes first
        kept["SliceTiming"] = kept["SliceTiming"][::-1]
        kept["SliceEncodingDirection"] = along[0]
    wrong = [
        name
        for name, right in (
            ("PhaseEncodingDirection", lambda v: v in ("i", "j", "k", "i-", "j-", "k-")),
            ("PhaseEncodingAxis", lambda v: v in ("i", "j", "k")),
            ("SliceEncodingDirection", lambda v: v in ("i", "j", "k", "i-", "j-", "k-")),
            ("SliceTiming", _are_times),
        )
        if name in kept and not right(kept[name])
    ]
    return {k: v for k, v in kept.items() if k not in wrong}, wrong


def _are_times(value: Any) -> bool:
    return isinstance(value, list) and all(
        isinstance(v, (int, float)) and not isinstance(v, bool) and math.isfinite(v) for v in value
    )
