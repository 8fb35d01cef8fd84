"""Sections: the line in hand on the lead image with its two cursors, and those that are kept."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from ...core.curve import COLOURS, DASHES, Curve
from ...core.errors import Trouble
from ...core.geometry.hits import in_slice
from ...core.geometry.mark import Mark
from ...core.image import Image
from ...measure.plateaus import Step, step_in
from ...measure.readings import Reading, Scales, noise_between, reading_of
from ...measure.section import Line, Section, curve_of, section_of
from ...scene.pieces import at_pixel, section_line
from ...scene.primitives import Primitive, Stroke, haloed
from ...scene.view import View
from .curve_keeping import CurveKeeping
from .drawn_marks import DrawnMarks
from .viewing import Viewing

LIVE = "#A44E28"
SECTION = "section"
"""The shape of its marks."""
THIRDS = (1 / 3, 2 / 3)
QUICK = 40_000
"""Points that are read while a hand draws; more are read beside the window."""


class Sections(CurveKeeping):
    """What the page of sections and the panes show of them. The line in hand is a mark: the chosen one when that is a
    section, else the last section that was drawn on the image."""

    def __init__(self, viewing: Viewing, marks: DrawnMarks):
        super().__init__(viewing)
        self.marks = marks
        self.watched = False
        """Whether the line in hand is drawn with its cursors: while the page is seen."""
        self.mark: Mark | None = None
        self.width = 0.0
        self.live: Curve | None = None
        self.found: Section | None = None
        self.trouble = ""
        self.step: Step | None = None
        """The step of the line in hand, once it was asked for: what counted is tinted in the plot."""
        self.scales = Scales()
        """How sure the scales of heights and lengths are."""
        self.chosen = 0
        """The curve that the cursors read: the line in hand (0), or the id of one that is kept."""
        self._shares: dict[int, tuple[float, float]] = {}
        """Where the cursors stand along the line in hand of each image."""
        self._places: tuple[float, float] | None = None
        """Where they stand along a kept section, mm."""
        self._loose: dict[int, Mark] = {}
        """Lines on images of a study that may only be read."""
        self._asked = 0
        viewing.lead_changed.connect(self._other)
        viewing.lead_ready.connect(self._read)
        marks.changed.connect(self._follow)
        viewing.session.things_changed.connect(lambda _: self._kept_changed())

    # the line in hand

    @property
    def _lead(self) -> int:
        record = self.viewing.record
        return 0 if record is None else record.id

    @property
    def line(self) -> Line | None:
        """The line in hand."""
        return None if self.mark is None else Line.of(self.mark)

    @property
    def cursors(self) -> tuple[float, float] | None:
        """Distances along the section that is read, mm."""
        if self.chosen:
            return self._places
        if self.mark is None:
            return None
        a, b = self._shares.get(self._lead, THIRDS)
        return a * self.mark.length, b * self.mark.length

    def _found_mark(self) -> Mark | None:
        marks = self.marks
        if marks.live is not None and marks.live.shape == SECTION:
            return marks.live
        if self._lead in self._loose:
            return self._loose[self._lead]
        if marks.marks is None:
            return None
        chosen = None if marks.chosen is None else marks.marks[marks.chosen]
        if chosen is not None and chosen.shape == SECTION:
            return chosen
        return next((mark for mark in reversed(list(marks.marks)) if mark.shape == SECTION), None)

    def _follow(self) -> None:
        """Marks have changed: the line in hand may be another one."""
        found = self._found_mark()
        if found != self.mark:
            self.mark = found
            self.chosen = 0
            self._read()

    def _other(self) -> None:
        """Another image leads: each has a line of its own."""
        self.mark, self.chosen = self._found_mark(), 0
        self.live = self.found = None
        self._read()

    def keep_line(self, title: str, mark: Mark, key: int | None, image: int) -> list[int]:
        """Keep the line that was drawn on marks, or the first ones of an image; see `DrawnMarks.keep`."""
        if self.session.study.read_only:
            self._loose[image] = mark
            self._follow()
            return []
        numbers = self.marks.keep(title, {mark.id: mark}, key, image)
        if numbers:
            self.marks.choose(numbers[-1])
        return numbers

    def set_width(self, width: float) -> None:
        """Average over so many mm across the line."""
        self.width = width
        mark, record = self.mark, self.viewing.record
        if mark is not None and record is not None and width != mark.across:
            self.session.end_gesture()
            self.keep_line("Width of a section", replace(mark, across=width), self.marks.key, record.id)

    def clear(self) -> None:
        """Take the line in hand away."""
        mark, record = self.mark, self.viewing.record
        self._loose.pop(self._lead, None)
        if mark is not None and mark.id and record is not None:
            self.marks.keep("Delete a section", {mark.id: None}, self.marks.key, record.id)
        self._follow()

    def set_cursor(self, n: int, place: float) -> None:
        """Move a cursor to a distance along the section that is read, mm."""
        curve, cursors = self.read, self.cursors
        if curve is None or cursors is None:
            return
        place = float(np.clip(place, 0.0, curve.places()[-1]))
        cursors = (place, cursors[1]) if n == 0 else (cursors[0], place)
        if self.chosen:
            self._places = cursors
        elif self.mark is not None and self.mark.length > 0:
            self._shares[self._lead] = cursors[0] / self.mark.length, cursors[1] / self.mark.length
        self.changed.emit()

    def _read(self) -> None:
        self._asked += 1
        self.step = None
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
        if self.mark is None:
            return True
        normal = view.normal / np.linalg.norm(view.normal)
        return in_slice(self.mark, np.asarray(view.centre, float), normal, 2 * self.marks.thickness(view))

    @property
    def drawn_here(self) -> tuple[int, ...]:
        """Numbers of marks that are drawn here, while the page is seen."""
        return (self.mark.id,) if self.watched and self.mark is not None else ()

    def drawn(self, view: View) -> list[Primitive]:
        """What stands over a pane: those that are kept as thin lines, the line in hand with its width, its ends and its
        cursors."""
        found: list[Primitive] = []
        for curve in self.on_lead():
            ends = [at_pixel(view, world) for world in curve.mark.points] if curve.mark is not None else []
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
        return curve.mark is not None

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
        before = self.cursors
        self.chosen = key
        curve = self.read
        if key and curve is not None:
            length = float(curve.places()[-1])
            a, b = before or (length / 3, 2 * length / 3)
            self._places = min(a, length), min(b, length)
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
