"""Transforms: their numbers and two worlds in their row, the shifts of displacement fields as files."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import numpy as np

from ...core.errors import Trouble
from ...core.mapping import Mapping
from ...core.mapping_kinds import mapping_from
from ...core.progress import Progress
from ...core.safe_write import write_trouble
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store, side_folder


class TransformStore(Store):
    """Keeps mappings of every kind; arrays are mapped into memory when they are opened."""

    kind, folder = "transform", "transforms"

    def prepare(self, study: OpenStudy, thing: Mapping, progress: Progress) -> Prepared:
        facts, arrays = thing.facts()
        side = side_folder(study) if arrays else None
        try:
            for n, array in enumerate(arrays):
                assert side is not None
                np.save(side / _file(n), array)
        except OSError as error:
            assert side is not None
            shutil.rmtree(side, ignore_errors=True)
            raise write_trouble(error, study.folder) from error
        facts |= {"arrays": len(arrays)} if arrays else {}
        name = thing.name or "Transform"
        return Prepared("transform", name, thing.subject, None, thing.content_hash(), facts, None, side)

    def only(self, things: list[Any], path: Path | None, name: str = "") -> Mapping:
        found: Mapping = super().only(things, path, name)
        return found if path is None or found.name else found.named(path.stem)

    def open(self, study: OpenStudy, record: Record) -> Mapping:
        home = study.folder / self.folder / str(record.id)
        arrays = []
        for n in range(int(record.body.get("arrays", 0))):
            try:
                arrays.append(np.load(home / _file(n), mmap_mode="r"))
            except (OSError, ValueError) as error:
                raise Trouble(
                    f"The numbers of “{record.name}” are no longer there, or damaged", "open the transform again", home
                ) from error
        return mapping_from(record.body, arrays, record.name, record.subject)


def _file(n: int) -> str:
    return f"numbers-{n}.npy"


STORES.add("transform", TransformStore())
