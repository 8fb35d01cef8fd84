"""Sections: the line in hand on the lead image with its two cursors, and those that are kept."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from ..core.curve import COLOURS, DASHES, Curve
from ..core.errors import Trouble
from ..core.image import Image
from ..core.space import Space
from ..measure.plateaus import Step, step_in
from ..measure.readings import Reading, Scales, noise_between, reading_of
from ..measure.section import Line, Section, curve_of, section_of
from ..scene.pieces import at_pixel, section_line
from ..scene.primitives import Primitive, Stroke, haloed
from ..scene.view import View
from .curve_keeping import CurveKeeping
from .viewing import Viewing

LIVE = "#A44E28"
QUICK = 40_000
"""Points that are read while a hand draws; more are read beside the window."""


class Sections(CurveKeeping):
    """What the page of sections and the panes show of them."""

    def __init__(self, viewing: Viewing):
        super().__init__(viewing)
        self.watched = False
        """Whether lines are drawn on the panes: while the page is seen."""
        self.line: Line | None = None
        self.width = 0.0
        self.cursors: tuple[float, float] | None = None
        """Distances along the section, mm."""
        self.live: Curve | None = None
        self.found: Section | None = None
        self.trouble = ""
        self.step: Step | None = None
        """The step of the line in hand, once it was asked for: what counted is tinted in the plot."""
        self.scales = Scales()
        """How sure the scales of heights and lengths are."""
        self.chosen = 0
        """The curve that the cursors read: the line in hand (0), or the id of one that is kept."""
        self._lines: dict[int, tuple[Line, tuple[float, float] | None, Space]] = {}
        self._grid: Space | None = None
        """The place of the lead image for which the line in hand was drawn."""
        self._lead: int | None = None
        self._asked = 0
        viewing.lead_changed.connect(self._other)
        viewing.lead_ready.connect(self._read)
        viewing.session.things_changed.connect(lambda _: self._kept_changed())

    # the line in hand

    def _other(self) -> None:
        """Another image leads: each has a line of its own."""
        record = self.viewing.record
        if self._lead is not None and self.line is not None and self._grid is not None:
            self._lines[self._lead] = self.line, self.cursors, self._grid
        self._lead = None if record is None else record.id
        self.line, self.cursors, self._grid = self._lines.get(self._lead or 0, (None, None, None))
        self.live = self.found = None
        self.chosen = 0
        self._read()

    def set_line(self, start, end) -> None:
        """Draw the line between two world positions; the cursors keep their shares of it."""
        before = self.line
        self.line = Line(tuple(map(float, start)), tuple(map(float, end)), self.width)  # type: ignore[arg-type]
        share = (1 / 3, 2 / 3)
        if self.cursors is not None and before is not None and before.length > 0:
            share = (self.cursors[0] / before.length, self.cursors[1] / before.length)
        self.cursors = share[0] * self.line.length, share[1] * self.line.length
        self.chosen = 0
        self._read()

    def put_line(self, line: Line | None, cursors: tuple[float, float] | None) -> None:
        """Give back a line as it was."""
        self.line, self.cursors = line, cursors
        self._read()

    def set_width(self, width: float) -> None:
        """Average over so many mm across the line."""
        self.width = width
        if self.line is not None:
            self.line = replace(self.line, width=width)
            self._read()

    def set_cursor(self, n: int, place: float) -> None:
        """Move a cursor to a distance along the section that is read, mm."""
        curve = self.read
        if curve is None or self.cursors is None:
            return
        place = float(np.clip(place, 0.0, curve.places()[-1]))
        self.cursors = (place, self.cursors[1]) if n == 0 else (self.cursors[0], place)
        self.changed.emit()

    def clear(self) -> None:
        """Take the line in hand away."""
        self.line = self.cursors = self.live = self.found = self.step = None
        self.trouble = ""
        self._lines.pop(self._lead or 0, None)
        self.changed.emit()

    def _read(self) -> None:
        self._asked += 1
        self.step = None
        self._follow_image()
        asked, line, image = self._asked, self.line, self.viewing.image
        if line is None or image is None or not self.viewing.ready:
            self.live = self.found = None
            self.trouble = ""
            self.changed.emit()
            return
        grey = (image.finer or image).grey()  # of a picture larger than memory, what its file has
        step = min(grey.space.spacing)
        if line.length / step * (1 + line.width / step) <= QUICK and grey.in_memory:
            try:
                self._put(grey, line, section_of(grey, line))
            except Trouble as trouble:
                self._fail(trouble)
            return

        def put(found: Section) -> None:
            if asked == self._asked:
                self._put(grey, line, found)

        def failed(error: BaseException) -> None:
            if asked == self._asked:
                self._fail(error)

        self.session.work.start("Section", lambda _: section_of(grey, line), put, failed, "preview", loud=False)

    def _follow_image(self) -> None:
        """The image was placed elsewhere: the line in hand stays on its voxels, the cursors on their values."""
        record = self.viewing.record
        if record is None or self.line is None:
            return
        if self._grid is not None and self._grid != record.grid and self._grid.shape == record.grid.shape:
            before = self.line
            self.line = before.moved(self._grid, record.grid)
            if self.cursors is not None and before.length > 0:
                scale = self.line.length / before.length
                self.cursors = self.cursors[0] * scale, self.cursors[1] * scale
        self._grid = record.grid

    def _put(self, image: Image, line: Line, found: Section) -> None:
        self.found, self.trouble = found, ""
        self.live = curve_of(found, image, line, name="the line in hand", colour=LIVE, width=1.6)
        self.changed.emit()

    def _fail(self, error: BaseException) -> None:
        self.live, self.found, self.trouble = None, None, str(error)
        self.changed.emit()

    def lies_in(self, view: View) -> bool:
        """Whether the line in hand lies in the plane of a view, so that it may be drawn there; true when there is
        none."""
        line, normal = self.line, view.normal
        if line is None:
            return True
        record = self.viewing.record
        near = min(record.grid.spacing) if record is not None else 1.0
        apart = [abs((np.array(end) - np.array(view.centre)) @ normal) for end in (line.start, line.end)]
        return max(apart) <= near

    def drawn(self, view: View) -> list[Primitive]:
        """What stands over a pane: those that are kept as thin lines, the line in hand with its width, its ends and its
        cursors."""
        found: list[Primitive] = []
        for curve in self.on_lead():
            kept = Line.of(curve.line)
            ends = [at_pixel(view, world) for world in (kept.start, kept.end)]
            found += haloed(ends, Stroke(curve.colour, curve.width))
        line = self.line
        if line is None:
            return found
        shown = self.cursors is not None and not self.chosen and line.length > 0
        share = [place / line.length for place in self.cursors or ()] if shown else []
        return found + section_line(view, line, share)

    # those that are kept

    def is_mine(self, curve: Curve) -> bool:
        """Courses have no line."""
        return curve.line is not None

    def _kept_changed(self) -> None:
        if self.chosen and self.chosen not in dict(self.held()):
            self.chosen = 0
        self.changed.emit()

    def shown(self) -> list[tuple[int, Curve]]:
        """Those that are drawn; the line in hand has the key 0 and comes last."""
        held = [(key, curve) for key, curve in self.held() if key not in self.hidden]
        return [*held, *([(0, self.live)] if self.live is not None else [])]

    def on_lead(self) -> list[Curve]:
        """Those of the image that leads, that are drawn."""
        return [curve for key, curve in self.shown() if key and self._is_of_lead(key)]

    def _is_of_lead(self, key: int) -> bool:
        record = self.viewing.study.items.get(key)
        return record is not None and record.of is not None and self.viewing.leads(record.of)

    def more(self, key: int) -> list[tuple[str, Callable[[], object]]]:
        """See `curve_row.Curves`."""
        return [
            ("Read it with the cursors", lambda: self.choose(key)),
            ("Step height", lambda: self.step_height(key)),
            ("Roughness", lambda: self.roughness(key)),
        ]

    def choose(self, key: int) -> None:
        """Read another section with the cursors."""
        self.chosen = key
        curve = self.read
        if curve is not None:
            length = float(curve.places()[-1])
            a, b = self.cursors or (length / 3, 2 * length / 3)
            self.cursors = min(a, length), min(b, length)
        self.changed.emit()

    @property
    def read(self) -> Curve | None:
        """The section that the cursors read."""
        return self.live if self.chosen == 0 else dict(self.held()).get(self.chosen)

    @property
    def reading(self) -> Reading | None:
        """What they tell."""
        if self.read is None or self.cursors is None:
            return None
        found = None if self.chosen else self.found
        noise = noise_between(found, *self.cursors) if found is not None else None
        return reading_of(self.read, *self.cursors, self.scales, noise)

    def set_scales(self, heights: float, lengths: float) -> None:
        """Say how sure the scales of heights and lengths are, %; both are relative standard uncertainties."""
        self.scales = Scales(heights / 100, lengths / 100)
        self.changed.emit()

    # what becomes steps of the study

    def _ends(self) -> dict[str, Any] | None:
        if self.line is None or self.viewing.record is None:
            self.session.trouble.emit("There is no line yet: drag one over the picture.")
            return None
        return {"from_": self.line.start, "to": self.line.end, "width": self.line.width}

    def _image(self) -> Any:
        record, place = self.viewing.record, self.viewing.place
        assert record is not None
        return replace(record.reference, place=tuple(n + 1 for n in place)) if place else record.id

    def keep(self, name: str = "") -> None:
        """Keep the section of the line in hand, in the next colour and kind of line."""
        ends = self._ends()
        if ends is None:
            return
        n = len(self.held())
        colours = COLOURS[1:]
        style = {"colour": colours[n % len(colours)], "dashes": DASHES[n // len(colours) % len(DASHES)]}
        given = {"image": self._image(), "name": name or f"Section {n + 1}", **ends, **style}
        self.session.run("profile", given)

    def _of(self, key: int) -> dict[str, Any] | None:
        """The image and the line that a measurement is of."""
        if not key:
            ends = self._ends()
            return None if ends is None else {"image": self._image(), **ends}
        curve = dict(self.held()).get(key)
        if curve is None or not self._is_of_lead(key):
            name = curve.image if curve is not None else ""
            self.session.trouble.emit(f"That section was drawn on “{name}”: choose that image first.")
            return None
        return {"image": self._image(), "section": key}

    def step_height(self, key: int = 0) -> None:
        """Measure the step of the line in hand, or of a kept section."""
        given = self._of(key)
        if given is None:
            return
        if not key and self.found is not None:
            try:
                self.step = step_in(self.found.along, self.found.lines, "the line in hand")
            except Trouble:
                self.step = None  # the operation says why
            self.changed.emit()
        self.session.run("step-height", {**given, "calibration": 100 * self.scales.heights})

    def roughness(self, key: int = 0) -> None:
        """Measure the roughness of the map and of the line."""
        given = self._of(key)
        if given is not None:
            self.session.run("roughness", {**given, "calibration": 100 * self.scales.heights})

    def read_all(self) -> None:
        """A table of what the cursors tell of every kept section that is drawn."""
        keys = [key for key, _ in self.shown() if key]
        if not keys or self.cursors is None:
            self.session.trouble.emit("No section is kept yet: keep the line in hand first.")
            return
        first, second = self.cursors
        heights, lengths = (100 * share for share in self.scales)
        given = {"sections": keys, "first": first, "second": second}
        given |= {"calibration": heights, "calibration_of_lengths": lengths}
        if self.viewing.record is not None:
            given["image"] = self._image()
        self.session.run("read-sections", given)
