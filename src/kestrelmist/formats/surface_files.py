"""Files of surfaces: STL, OBJ, PLY, binary glTF and VTP."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ..core.progress import Progress
from ..core.safe_write import written_whole
from ..core.surface.surface import Surfaces
from .format import Format, register
from .surfaces.obj import read_obj
from .surfaces.read import read_surfaces
from .surfaces.vtp import read_vtp, vtp
from .surfaces.write import glb, obj, ply, stl

WRITERS: dict[str, Callable[[Surfaces], bytes]] = {".stl": stl, ".obj": obj, ".ply": ply, ".glb": glb, ".vtp": vtp}


def write_surfaces(path: Path, several: Surfaces, progress: Progress | None = None) -> None:
    """Write surfaces in the format that the name ends in."""
    with written_whole(path) as stream:
        stream.write(WRITERS[path.suffix.lower()](several))


register(Format("OBJ", (".obj",), read_obj, write_surfaces, holds=("surfaces",), listed=False))
for name, ending in (("STL", ".stl"), ("PLY", ".ply"), ("binary glTF", ".glb")):
    register(Format(name, (ending,), read_surfaces, write_surfaces, holds=("surfaces",), listed=False))
register(Format("VTP", (".vtp",), read_vtp, write_surfaces, holds=("surfaces",), listed=False))
