"""Surfaces: names, colours, unit and world in their row, corners and triangles as files."""

from __future__ import annotations

import json
import shutil
from typing import Any

import numpy as np

from ...core.errors import Trouble
from ...core.progress import Progress
from ...core.safe_write import write_trouble
from ...core.space import Space
from ...core.surface.surface import COLOUR, Surface, Surfaces
from ...core.world import World
from ..items import Record
from ..open_study import OpenStudy
from ..store import STORES, Prepared, Store, hash_of, side_folder


class SurfaceStore(Store):
    """Keeps surfaces; they lie in the world of the image that they are of, and move with it."""

    kind, folder = "surfaces", "surfaces"

    def prepare(self, study: OpenStudy, thing: Surfaces, progress: Progress) -> Prepared:
        side = side_folder(study)
        try:
            for n, one in enumerate(thing.parts):
                np.save(side / f"corners-{n}.npy", one.corners)
                np.save(side / f"triangles-{n}.npy", one.triangles)
        except OSError as error:
            shutil.rmtree(side, ignore_errors=True)
            raise write_trouble(error, study.folder) from error
        facts = {
            "parts": [{"name": one.name, "colour": one.colour} for one in thing.parts],
            "unit": thing.unit,
            "world": thing.world.as_dict(),
            "triangles": thing.triangles,
        }
        return Prepared(self.kind, thing.name, thing.subject, None, thing.content_hash(), facts, None, side)

    def is_of_image(self, thing: Surfaces) -> bool:
        return True

    def identity(self, study: OpenStudy, record: Record) -> str:
        moved = record.body.get("moved")
        return f"{record.hash}:{hash_of(json.dumps(moved))}" if moved else record.hash

    def open(self, study: OpenStudy, record: Record) -> Surfaces:
        home, body = study.folder / self.folder / str(record.id), record.body
        parts = []
        try:
            for n, row in enumerate(body["parts"]):
                corners, triangles = (np.load(home / f"{what}-{n}.npy") for what in ("corners", "triangles"))
                parts.append(Surface(corners, triangles, row.get("name", ""), row.get("colour", COLOUR)))
            world = World.from_dict(body["world"])
            found = Surfaces(tuple(parts), record.name, record.subject, body.get("unit", "mm"), world)
        except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
            raise Trouble(
                f"The triangles of “{record.name}” are no longer there, or damaged", "make the surface anew", home
            ) from error
        return found.carried(np.array(body["moved"])) if body.get("moved") else found

    def moved(self, study: OpenStudy, record: Record, was: Space, now: Space) -> dict[str, Any]:
        before = np.array(record.body.get("moved") or np.eye(4))
        after = now.affine @ np.linalg.inv(was.affine) @ before
        return {"body.moved": after.tolist(), "body.unit": now.unit, "body.world": now.world.as_dict()}


STORES.add("surfaces", SurfaceStore())
