"""What is said of the grid that an image was scanned on (lines, slices, gradients), and what becomes of it on another
one.

Slice times are given along the axis that SliceEncodingDirection names (k where nothing does), the first slice first;
gradient directions along the image's own axes, as .bvec files hold them: the first component changes its sign where i,
j and k are right-handed in the world."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ..core.image import Image
from ..core.space import Space
from .sidecar import facts_of, with_facts

AXES = "ijk"
LINES = (
    "PhaseEncodingDirection",
    "PhaseEncodingAxis",
    "EffectiveEchoSpacing",
    "TotalReadoutTime",
    "BandwidthPerPixelPhaseEncode",
    "ReconMatrixPE",
    "SliceTiming",
    "SliceEncodingDirection",
)
"""What is said of lines and slices of the grid that an image was scanned on."""
GRADIENTS = "bVectors"


def slice_axis(facts: dict[str, Any]) -> int:
    """The axis along which slices were taken: 0 for i, 1 for j, 2 for k."""
    said = str(facts.get("SliceEncodingDirection") or "k")[:1]
    return AXES.index(said) if said in AXES else 2


def on_another_grid(image: Image, space: Space) -> dict[str, str]:
    """The facts of an image that was brought onto another grid: its lines and slices are those of the scan no more, its
    gradients turn with the axes."""
    said = facts_of(image)
    changed: dict[str, Any] = {name: None for name in LINES if name in said}
    if GRADIENTS in said:
        turn = _axes_of(space).T @ _axes_of(image.space)
        changed[GRADIENTS] = _turned(said[GRADIENTS], turn, image.space, space)
    return with_facts(image, **changed) if changed else image.facts


def placed(image: Image, space: Space) -> dict[str, str]:
    """The facts of an image whose voxels lie elsewhere: gradients go with them, and are written otherwise when it has
    been mirrored."""
    said = facts_of(image)
    if GRADIENTS not in said or _right_handed(space) == _right_handed(image.space):
        return image.facts
    return with_facts(image, **{GRADIENTS: _turned(said[GRADIENTS], np.eye(3), image.space, space)})


def reordered(image: Image, order: Sequence[int], flips: Sequence[bool], space: Space) -> dict[str, str]:
    """The facts of an image whose axes were swapped and turned round: `order` gives the old axis of each new one."""
    facts: dict = facts_of(image)
    changed: dict = {}
    given = facts.get("PhaseEncodingDirection")
    if given:
        new = order.index(AXES.index(given[0]))
        changed["PhaseEncodingDirection"] = AXES[new] + ("-" if given.endswith("-") != flips[new] else "")
    if "PhaseEncodingAxis" in facts:
        changed["PhaseEncodingAxis"] = AXES[order.index(AXES.index(facts["PhaseEncodingAxis"]))]
    times = facts.get("SliceTiming")
    if isinstance(times, list):
        new = order.index(slice_axis(facts))
        changed["SliceEncodingDirection"] = AXES[new]
        changed["SliceTiming"] = times[::-1] if flips[new] else times
    if GRADIENTS in facts:
        turn = np.zeros((3, 3))
        for n in range(3):
            turn[n, order[n]] = -1 if flips[n] else 1
        changed[GRADIENTS] = _turned(facts[GRADIENTS], turn, image.space, space)
    return with_facts(image, **changed) if changed else dict(image.facts)


def cut_out(image: Image, first: Sequence[int], shape: Sequence[int]) -> dict[str, str]:
    """The facts of a part of an image that begins at a voxel and has a shape. How many lines the scan had is noted;
    what reaches beyond the image has no slice times."""
    said: dict = facts_of(image)
    changed: dict = {}
    axis = str(said.get("PhaseEncodingDirection") or said.get("PhaseEncodingAxis") or "")[:1]
    if axis and axis in AXES and "ReconMatrixPE" not in said:
        changed["ReconMatrixPE"] = image.space.shape[AXES.index(axis)]
    times, along = said.get("SliceTiming"), slice_axis(said)
    start, count = int(first[along]), int(shape[along])
    if isinstance(times, list) and (start or count != image.space.shape[along]):
        inside = 0 <= start and start + count <= len(times)
        changed["SliceTiming"] = times[start : start + count] if inside else None
    return with_facts(image, **changed) if changed else image.facts


def of_volumes(image: Image, picked: Sequence[int]) -> dict[str, str]:
    """The facts of some volumes of a diffusion series, by their numbers along its directions."""
    said = facts_of(image)
    changed = {
        name: [said[name][n] for n in picked]
        for name in ("bValues", GRADIENTS)
        if isinstance(said.get(name), list) and len(said[name]) > max(picked, default=-1)
    }
    return with_facts(image, **changed) if changed else image.facts


def turned_in_the_world(image: Image, turns: Sequence[np.ndarray]) -> dict[str, str]:
    """The facts of a diffusion series each volume of which was turned in the world, by a matrix (3, 3): its gradient
    has turned with it (A. Leemans and D. K. Jones, Magn. Reson. Med. 61, 2009)."""
    said = facts_of(image)
    if not isinstance(said.get(GRADIENTS), list) or len(said[GRADIENTS]) != len(turns):
        return image.facts
    axes = _axes_of(image.space)
    vectors = [
        _turned([vector], axes.T @ turn @ axes, image.space, image.space)[0]
        for vector, turn in zip(said[GRADIENTS], turns)
    ]
    return with_facts(image, **{GRADIENTS: vectors})


def _axes_of(space: Space) -> np.ndarray:
    """World directions of i, j and k, as columns of length 1."""
    return space.affine[:3, :3] / np.array(space.spacing)


def _right_handed(space: Space) -> bool:
    return bool(np.linalg.det(space.affine[:3, :3]) > 0)


def _turned(vectors: Any, turn: np.ndarray, was: Space, now: Space) -> list:
    """Directions along the axes of another space; `turn` leads from the old components to the new ones."""
    own = np.array(vectors, float) * ((-1 if _right_handed(was) else 1), 1, 1)
    found = own @ turn.T * ((-1 if _right_handed(now) else 1), 1, 1)
    return (np.round(found, 12) + 0.0).tolist()
