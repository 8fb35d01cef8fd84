"""A picture of the Solid view, written without a window."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap
from ..core.operation import operation
from ..core.overlap import apart
from ..core.parameter import Between, NewPath, Unit
from ..core.progress import Progress, silent
from ..core.table import Column, Table
from ..scene.first_look import first_look
from ..scene.painting import painter_for, write_page
from ..scene.primitives import Page
from ..scene.solid import Camera, Solid, bodies_of_image, bodies_of_labels, messages
from .picture import size_of

Angle = Annotated[float, Unit("deg"), Between(-360, 360)]
PATIENCE = 600.0
"""Seconds that a picture may take."""


@operation(
    "report",
    "Picture of the solid view",
    name="solid-picture",
    keywords="3d three-dimensional surface rendering mesh screenshot labels scene",
    called={
        "others": "More label maps",
        "turn": "Turned by",
        "tilt": "From above",
        "outline": "Outline of the subject",
    },
    group="Pictures",
)
def solid_picture(
    image: Image,
    labels: LabelMap | None = None,
    others: list[LabelMap] | None = None,
    *,
    to: NewPath,
    size: str = "900x700",
    turn: Angle = 35.0,
    tilt: Annotated[float, Unit("deg"), Between(-89, 89)] = 22.0,
    zoom: Annotated[float, Between(0.1, 20)] = 1.0,
    outline: bool = True,
    progress: Progress = silent(),
) -> Table:
    """Write a picture of labels as surfaces inside the pale outline of the subject, or of a height map as a surface.

    Parameters
    ----------
    others : label maps
        Drawn in the same scene.
    to : path
        A new file: .png, .jpg, .tif, .svg or .pdf.
    size : text
        Width and height in pixels.
    turn : degrees
        Round the up axis; 0 looks from the front.
    tilt : degrees
        Above the horizon.
    zoom : number
        2 is twice as near.
    outline : bool
        Draw the outline of the subject.

    Returns
    -------
    Table
        The surfaces with their numbers of triangles.

    Raises
    ------
    Trouble
        When there is nothing to be seen, maps lie in other worlds, or the file cannot be written.
    """
    painter_for(to)
    if to.exists():
        raise Trouble("There is something of this name already", "name a new file", to)
    width, height = size_of(size)
    things: dict[int | str, Any] = {}
    maps = [one for one in (labels, *(others or ())) if one is not None]
    for one in maps:
        here, there = one.space.world, image.space.world
        if here.id and there.id and not here.is_one_with(there):
            raise apart(one.name, here, image.name, there)
    bodies = [bodies_of_image("image", image, first_look(image))] if outline else []
    things["image"] = image
    for n, one in enumerate(maps):
        things[f"labels {n}"] = one
        bodies += bodies_of_labels(f"labels {n}", one)
    scene = Solid(tuple(bodies), Camera(turn, tilt, zoom))
    pixels, triangles = rendered(scene, things, width, height, progress)
    write_page(Page(pixels, title=image.name), to)
    table = Table(f"Solid view of {image.name}", [Column("surface"), Column("triangles"), Column("file")])
    for body in bodies:
        named = things[body.thing].table.get(body.part) if body.part else None
        name = named.name if named is not None else image.name
        table.rows.append((name, triangles.get(body.key, 0), to.name))
    return table


def rendered(
    scene: Solid, things: dict[int | str, Any], width: int, height: int, progress: Progress
) -> tuple[np.ndarray, dict[tuple, int]]:
    """The picture of a scene, uint32 (height, width), and the triangles of each body, drawn by the Solid view's own
    process: a broken driver takes that down alone.

    Raises Trouble when it ends before it has drawn.
    """
    from ..scene.solid_process import SolidProcess

    process = SolidProcess()
    triangles: dict[tuple, int] = {}
    try:
        for one in messages(scene, things.__getitem__):
            progress.at(0.3, "Working out surfaces")
            process.send(*one)
        camera = scene.camera
        process.send("view", 1, width, height, camera.turn, camera.tilt, camera.zoom)
        waited = 0.0
        while True:
            progress.at(0.7, "Drawing")
            if not process.pipe.poll(0.1):
                waited += 0.1
                if waited > PATIENCE:
                    raise Trouble("The picture takes too long", "ask for fewer pixels, or fewer labels")
                continue
            word, *rest = process.pipe.recv()
            if word == "surface":
                triangles[tuple(rest[0])] = rest[1]
            elif word == "picture":
                _, wide, high, data = rest
                rgb = np.frombuffer(data, np.uint8).reshape(high, wide, 3).astype(np.uint32)
                return (0xFF000000 | rgb[..., 0] << 16 | rgb[..., 1] << 8 | rgb[..., 2]).astype(np.uint32), triangles
    except (EOFError, OSError) as error:
        raise Trouble(
            "The picture could not be drawn on this machine", "try again, or see what `bench` says"
        ) from error
    finally:
        process.close()
