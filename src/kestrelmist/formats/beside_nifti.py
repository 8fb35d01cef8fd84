"""Writing what lies beside a NIfTI file: its sidecar, and the gradients of a diffusion series."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from types import MappingProxyType
from typing import Any

from ..core.image import Image
from ..core.safe_write import written_whole
from .gradients import gradient_texts
from .sidecar import HIDDEN, UNIT, beside, facts_of


def write_sidecar(nifti: Path, image: Image, more: Mapping[str, Any] = MappingProxyType({})) -> list[Path]:
    """Write what is known beside a NIfTI file: .json, and for diffusion series .bval and .bvec; `more` is to be said
    besides. Returns what was written."""
    texts = {}
    shown = {k: v for k, v in (facts_of(image) | dict(more)).items() if k not in HIDDEN}
    if image.unit and UNIT not in shown:
        shown[UNIT] = image.unit
    if shown:
        texts[".json"] = json.dumps(shown, indent=2, ensure_ascii=False) + "\n"
    texts |= gradient_texts(image)
    written = []
    for ending, text in texts.items():
        path = beside(nifti, ending)
        with written_whole(path) as stream:
            stream.write(text.encode())
        written.append(path)
    return written
