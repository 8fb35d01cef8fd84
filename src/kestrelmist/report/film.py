"""Films: a scene that turns, a series in time, a way through slices, a fade, a path of the crosshair."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from typing import Annotated, Any, Literal

import numpy as np

from ..core.axis import Axis
from ..core.errors import Trouble
from ..core.geometry.marks import Marks
from ..core.image import Image
from ..core.kernel import used_here
from ..core.labels import LabelMap
from ..core.left_out import SeenFrom
from ..core.operation import operation
from ..core.overlap import require_overlap
from ..core.parameter import Between, ImageValue, Millimetres, NewPath, Unit
from ..core.progress import Progress, silent
from ..core.safe_write import require_new
from ..core.surface.surface import Surfaces
from ..core.table import Column, Table
from ..scene.compare import Comparison
from ..scene.first_look import first_look, over_look, over_opacity
from ..scene.layer_type import Drawn
from ..scene.painters.raster import RasterPainter, rgb_of
from ..scene.pieces import crosshair
from ..scene.primitives import Page, Primitive, Words, paint
from ..scene.solid.eye import Camera
from ..scene.solid.figure import cube, scale
from ..scene.solid.rendering import drawing
from ..scene.view import View, fitted
from .film_files import film_file, require_film
from .made_how import Facts, caption_of, facts_of_scene
from .numbers import numbers_of
from .picture import PLANES, ranged, size_of
from .plane_page import OVER, USUAL, More, PlaneLayers
from .scene_choice import AS_USUAL, CALLED, RARE, Given, SceneChoice, require_seen, scene_for

MOST = 20_000
"""Frames of a film."""
Through = Literal["", "time", "axial", "coronal", "sagittal", "fade", "path"]


@operation(
    "report",
    "Film",
    name="film",
    keywords="movie video animation turn rotate spin turntable fly through fade cine mp4 gif apng time lapse slices",
    takes="series",
    called=CALLED
    | {
        "over": "Over it",
        "turn": "Turned by",
        "axis": "Round",
        "through": "Through",
        "seconds": "Long",
        "rate": "Frames a second",
        "at": "Position",
        "over_low": "Over: from",
        "over_high": "Over: to",
        "over_colours": "Over: colours",
        "low": "From value",
        "high": "To value",
        "written": "Letters and bars",
        "left_on_left": "Left on left",
        "replace_file": "In place of another",
    },
    rare=(
        "axis tilt zoom rate loop plane at path low high colours over_low over_high over_colours opacity slices "
        f"written left_on_left image_as replace_file {RARE}"
    ),
    group="Pictures",
)
def film(
    image: Image,
    labels: LabelMap | None = None,
    over: Annotated[list[Image] | None, SeenFrom("image")] = None,
    surfaces: list[Surfaces] | None = None,
    marks: list[Marks] | None = None,
    *,
    to: NewPath,
    turn: Annotated[float, Unit("deg"), Between(-36000, 36000)] = 360.0,
    through: Through = "",
    seconds: Annotated[float, Unit("s"), Between(0.04, 3600)] = 4.0,
    rate: Annotated[float, Between(1, 60)] = 25.0,
    size: str = "1280x720",
    axis: Literal["up", "right", "towards"] = "up",
    tilt: Annotated[float, Unit("deg"), Between(-90, 90)] = 15.0,
    zoom: Annotated[float, Between(0.1, 50)] = 1.0,
    choice: SceneChoice = AS_USUAL,
    plane: Literal["axial", "coronal", "sagittal"] = "axial",
    at: Millimetres | None = None,
    path: str = "",
    low: ImageValue | None = None,
    high: ImageValue | None = None,
    colours: str = "",
    over_low: ImageValue | None = None,
    over_high: ImageValue | None = None,
    over_colours: str = "",
    left_on_left: bool = True,
    written: bool = True,
    loop: bool = True,
    replace_file: bool = False,
    progress: Progress = silent(),
) -> Table:
    """Write a film: of the solid view that turns; or of a plane, through time, through the slices, fading into what
    lies over it, or along a path of the crosshair. It tells time or position, and has a scale bar.

    Parameters
    ----------
    to : path
        A new file: .mp4, .gif or .apng.
    turn : degrees
        By which the solid view turns; where the film is none of a plane.
    through : text
        time, axial, coronal or sagittal slices, fade, or path; a film of the solid view when left out.
    seconds : s
        How long it lasts.
    rate : number
        Frames a second.
    size : text
        Width and height in pixels.
    axis : text
        Round which the scene turns: the subject's up axis, or the picture's right or towards who looks.
    tilt : degrees
        From how far above the horizon the scene is seen.
    zoom : number
        2 is twice as near.
    left_on_left, written : bool
        The subject's left on the picture's left; letters, bars and the cube.
    plane, at : text, mm
        Which plane, of a film in time, of a fade.
    path : text
        Places of the crosshair, x, y, z in mm, with semicolons between them.
    low, high, colours, over_low, over_high, over_colours : values, text
        As in “Picture of a plane”.
    loop : bool
        A .gif or .apng begins again.
    replace_file : bool
        Take the place of a file of that name.

    Returns
    -------
    Table
        The file, its frames and seconds.

    Raises
    ------
    Trouble
        When there is nothing to go through, things lie in other worlds, or the file cannot be written.
    """
    width, height = size_of(size)
    frames = max(2, round(seconds * rate))
    if frames > MOST:
        raise Trouble(f"A film of {frames} frames is too long", f"ask for fewer seconds: {MOST} frames at most", to)
    require_film(to, (width, height), frames)
    require_new(to, replace_file)
    shares = np.arange(frames) / (frames if not through and abs(turn) % 360 == 0 else max(1, frames - 1))
    progress.at(0.0, "Drawing frames")
    if through:
        ranges = (low, high, colours, over_low, over_high, over_colours)
        chosen = _plane_of(through, plane)
        size_on = (left_on_left, written, (width, height))
        made = _Planes(image, labels, over or [], ranges, choice.opacity, chosen, at, *size_on)
        pages = made.pages(through, shares, path)
        first = next(pages)
        _write(to, (width, height), rate, loop, image.name, first.facts, _rest(first, pages), frames, progress)
    else:
        base = image.frame(tuple(0 for _ in image.axes))
        maps = [labels] if labels is not None else []
        scene, things = scene_for(base, choice, Given(maps, over or (), surfaces or (), marks or ()))
        with drawing(scene, things.__getitem__, progress.part(0.0, 0.2), choice.quality) as drawn:
            camera = Camera(0.0, tilt, zoom, 0.0, choice.across, choice.up, True)
            _, eye = drawn.picture(camera, width, height, False, progress)
            require_seen(base, scene, drawn.triangles)
            facts = (*facts_of_scene(base, scene, things, eye), ("Turn", f"{turn:g}° round {axis}"))

            def turning() -> Iterator[Page]:
                for share in shares:
                    now = _turned(camera, axis, float(share) * turn)
                    found, seen = drawn.picture(now, width, height, False, progress)
                    yield _solid_page(found, seen, base, written)

            _write(to, (width, height), rate, loop, image.name, facts, turning(), frames, progress.part(0.2, 1.0))
    table = Table(f"Film of {image.name}", [Column("file"), Column("frames"), Column("long", "s", 2), Column("size")])
    table.rows.append((to.name, frames, frames / rate, f"{width} × {height}"))
    return table


def _turned(camera: Camera, axis: str, by: float) -> Camera:
    if axis == "up":
        return replace(camera, turn=(camera.turn + by) % 360)
    if axis == "towards":
        return replace(camera, roll=(camera.roll + by) % 360)
    # over the top and round: past the pole one looks from behind, upside down
    tilt = (camera.tilt + by + 180) % 360 - 180
    if abs(tilt) <= 90:
        return replace(camera, tilt=tilt)
    return replace(camera, tilt=(180 - abs(tilt)) * (1 if tilt > 0 else -1), turn=180.0, roll=180.0)


def _solid_page(pixels: np.ndarray, eye: Any, image: Image, written: bool) -> Page:
    wide = pixels[..., :3].astype(np.uint32)
    ground = 0xFF000000 | wide[..., 0] << 16 | wide[..., 1] << 8 | wide[..., 2]
    units = max(1.0, min(eye.width, eye.height) / USUAL)
    over: list[Primitive] = []
    if written:
        flat = eye.width / units, eye.height / units
        over = cube(eye.resized(round(flat[0]), round(flat[1])), *flat, image.space.sides_known)
        over += scale(eye, *flat, image.space.unit, units)
    return Page(ground, over, units)


def _rest(first: Page, pages: Iterator[Page]) -> Iterator[Page]:
    yield first
    yield from pages


def _write(
    to: Any, size: tuple, rate: float, loop: bool, title: str, facts: Facts, pages: Iterator[Page], frames: int,
    progress: Progress,
) -> None:  # fmt: skip
    # so many pictures are worth waiting until what draws them is compiled
    with used_here(), film_file(to, size, rate, loop, title, caption_of(facts)) as add:
        for n, page in enumerate(pages):
            progress.at(n / frames, "Drawing frames")
            painter = RasterPainter(page.ground, page.scale) if page.over else None
            if painter is not None:
                paint(painter, page.over)
            add(rgb_of(page.ground) if painter is None else painter.rgb())


def _plane_of(through: str, plane: str) -> str:
    return through if through in PLANES else plane


class _Planes:
    """Frames of a film of a plane."""

    def __init__(self, image, labels, over, ranges, opacity, plane, at, left_on_left, written, size):
        low, high, colours, over_low, over_high, over_colours = ranges
        for one in over:
            require_overlap(image, one)
        self.series, self.labels, self.over, self.written = image, labels, over, written
        self.image = image.frame(tuple(0 for _ in image.axes))
        self.look = ranged(first_look(image), low, high, colours) if not image.colour else first_look(image)
        self.upper: list[Drawn] = []
        for one in over:
            look = ranged(over_look(one), over_low, over_high, over_colours)
            self.upper.append(Drawn(one, look, over_opacity(look) if opacity == 1.0 else opacity))
        self.plane = PLANES[plane]
        known = self.image.space.sides_known
        wide, tall = size
        self.view = fitted(self.plane, self.image.space, wide, tall, left_on_left or not known)
        self.ends = self.image.space.corners()[:, self.plane.across]
        middle = float(self.ends.mean())
        if at is not None and not self.ends.min() <= at <= self.ends.max():
            where = f"{self.ends.min():.4g} to {self.ends.max():.4g} {self.image.space.unit}"
            raise Trouble(f"The plane at {at:g} lies outside “{image.name}”", f"choose a place from {where}")
        self.view = self._across(middle if at is None else float(at))

    def _across(self, at: float) -> View:
        centre = list(self.view.centre)
        centre[self.plane.across] = at
        return self.view.moved(centre=tuple(centre))

    def _page(self, view: View, image: Image, how: Comparison = OVER, more: More | None = None) -> Page:
        layers = PlaneLayers([Drawn(image, self.look)], self.upper, how, self.labels)
        return layers.page(view, self.written, more=more)

    def pages(self, through: str, shares: np.ndarray, path: str) -> Iterator[Page]:
        """The frames, one after another."""
        if through == "time":
            yield from self._in_time(shares)
        elif through == "fade":
            if not self.upper:
                raise Trouble("A film that fades needs something to fade into", "name an image over it (--over)")
            for share in shares:
                there_and_back = 1 - abs(2 * float(share) - 1)
                yield self._page(self.view, self.image, Comparison("fade", there_and_back))
        elif through == "path":
            yield from self._along(path, shares)
        else:
            if self.image.space.flat_axis is not None:
                raise Trouble(f"“{self.image.name}” is one slice", "choose an image of several, or a series in time")
            step = abs(self.image.space.spacing[self.image.space.world_axis_of.index(self.plane.across)])
            low, high = float(self.ends.min()) + step / 2, float(self.ends.max()) - step / 2
            for share in shares:
                yield self._page(self._across(low + float(share) * (high - low)), self.image)

    def _in_time(self, shares: np.ndarray) -> Iterator[Page]:
        if not self.series.axes:
            raise Trouble(f"“{self.series.name}” has one volume only", "choose a series, or a way through its slices")
        first, shown, image = self.series.axes[0], -1, self.image
        for share in shares:
            n = min(first.size - 1, int(float(share) * first.size))
            if n != shown:
                image = self.series.frame((n, *(0 for _ in self.series.axes[1:])))
                shown = n
            yield self._page(self.view, image, more=partial(_told, first, n))

    def _along(self, path: str, shares: np.ndarray) -> Iterator[Page]:
        places = [numbers_of(part) for part in path.split(";") if part.strip()]
        if len(places) < 2 or any(len(one) != 3 for one in places):
            raise Trouble("A path has two places at least", "give x, y, z in mm with semicolons between places")
        at = np.array(places)
        along = np.concatenate(([0.0], np.cumsum(np.linalg.norm(np.diff(at, axis=0), axis=1))))
        for share in shares:
            place = np.array([np.interp(float(share) * along[-1], along, at[:, n]) for n in range(3)])
            view = self._across(float(place[self.plane.across]))
            yield self._page(view, self.image, more=partial(_crossed, place))


def _crossed(place: np.ndarray, flat: View) -> list[Primitive]:
    return crosshair(flat, place)


def _told(axis: Axis, n: int, flat: View) -> list[Primitive]:
    words = f"{axis.name} {n + 1} of {axis.size}"
    words += f", {axis.words(n)}" if n < len(axis.values) or n < len(axis.labels) else ""
    return [Words((10, 20), words, 13, "#E8EDEE", "600", "ls", "#0B1013")]
