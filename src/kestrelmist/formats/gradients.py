"""Diffusion gradients beside a NIfTI file: .bval and .bvec (bids-specification, "Diffusion imaging data")."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np

from ..core.axis import Axis
from ..core.caveat import NOTED, SIDECAR_CONTRADICTS, Caveat
from ..core.image import Image
from .sidecar import KEY, LARGEST, beside, facts_of

ALONG = ("time", "direction")
"""What the fourth axis of a NIfTI file may have been taken for."""


def take_in_gradients(image: Image, path: Path) -> None:
    """Make the volumes of a series those of its gradients, when they lie beside the file; a caveat says what cannot be
    taken over."""
    files = {ending: beside(path, ending) for ending in (".bval", ".bvec")}
    if not image.axes or not files[".bval"].is_file():
        if image.axes and files[".bvec"].is_file():
            image.caveats.append(Caveat(NOTED, f"“{files['.bvec'].name}” has no .bval beside it, so it is left out"))
        return
    count = image.axes[0].size
    try:
        strengths = _numbers(files[".bval"]).ravel()
        vectors = _numbers(files[".bvec"]) if files[".bvec"].is_file() else None
    except (OSError, ValueError):
        image.caveats.append(Caveat(NOTED, "The .bval and .bvec beside the file cannot be read, so they are left out"))
        return
    if vectors is not None and vectors.shape == (count, 3) and count != 3:
        vectors = vectors.T  # a row a volume, as some write it
    if (
        image.axes[0].name not in ALONG
        or strengths.size != count
        or (vectors is not None and vectors.shape != (3, count))
    ):
        told = strengths.size if strengths.size != count else "×".join(map(str, getattr(vectors, "shape", ())))
        said = f"The file has {count} volumes, and its gradients are {told}: they are left out"
        image.caveats.append(Caveat(SIDECAR_CONTRADICTS, said))
        return
    facts = facts_of(image) | {"bValues": strengths.tolist()}
    if vectors is None:
        image.caveats.append(Caveat(NOTED, "There is no .bvec beside the file: the directions are not known"))
    else:
        facts["bVectors"] = vectors.T.tolist()
    image.facts[KEY] = json.dumps(facts)
    labels = tuple(f"b {b:g}" for b in strengths)
    image.axes = (Axis("direction", count, labels=labels), *image.axes[1:])


def _numbers(path: Path) -> np.ndarray:
    """Rows of numbers; raises ValueError when there are none, or not as many in each row."""
    if path.stat().st_size > LARGEST:
        raise ValueError("too large")
    rows = [[float(word) for word in line.replace(",", " ").split()] for line in path.read_text().splitlines()]
    found = np.array([row for row in rows if row], float)
    if not found.size or not np.isfinite(found).all():
        raise ValueError("no numbers")
    return found


def gradient_texts(image: Image) -> dict[str, str]:
    """What .bval and .bvec say of a diffusion series, by their endings; nothing when the image is none, or has other
    volumes than gradients are known of."""
    facts, axis = facts_of(image), next((a for a in image.axes if a.name == "direction"), None)
    strengths, vectors = facts.get("bValues"), facts.get("bVectors")
    if axis is None or not isinstance(strengths, list) or len(strengths) != axis.size:
        return {}
    texts = {".bval": " ".join(f"{b:.10g}" for b in strengths) + "\n"}
    if isinstance(vectors, list) and len(vectors) == axis.size:
        texts[".bvec"] = "".join(" ".join(f"{v[n]:.8g}" for v in vectors) + "\n" for n in range(3))
    return texts
