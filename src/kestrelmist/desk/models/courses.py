"""Courses through time: that at the crosshair, and those that are held."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from PySide6.QtCore import QTimer

from ...core.curve import COLOURS, DASHES, Curve
from ...core.errors import Trouble
from ...core.labels import LabelMap
from ...core.progress import silent
from ...measure.hold_course import curve_of
from ...measure.seed import Seed, seed_at
from ...measure.timeline import Timeline, others_of
from ...study.items import ImageRecord
from .curve_keeping import CurveKeeping
from .hand import Hand
from .viewing import Viewing

LIVE = "#5A6B75"
PLACES = ("voxel", "ball", "label")


class Courses(CurveKeeping):
    """What the page of courses shows. Nothing is read while nobody looks at it."""

    def __init__(self, viewing: Viewing, hand: Hand):
        super().__init__(viewing)
        self.hand = hand
        self.watched = False
        self.live: Curve | None = None
        self.trouble = ""
        self.place, self.ball = "voxel", 1.0
        self.mode, self.in_volumes = "raw", False
        self._timeline: Timeline | None = None
        self._of: tuple | None = None
        self._asked = 0
        self._soon = QTimer(self, singleShot=True, interval=0)
        self._soon.timeout.connect(self._course)
        for signal in (viewing.crosshair_moved, viewing.lead_ready, viewing.maps.changed, hand.label_chosen):
            signal.connect(self._soon.start)
        viewing.lead_changed.connect(self._other)
        viewing.session.things_changed.connect(lambda _: self.changed.emit())

    # what is shown

    def watch(self, on: bool) -> None:
        """Somebody looks at the courses now, or no longer."""
        self.watched = on
        if on:
            self._soon.start()

    def set_place(self, place: str, ball: float | None = None) -> None:
        """Follow the "voxel" or the "ball" at the crosshair, or the "label" in hand."""
        self.place, self.ball = place, self.ball if ball is None else ball
        self._soon.start()

    def set_mode(self, mode: str) -> None:
        self.mode = mode
        self.changed.emit()

    def set_in_volumes(self, on: bool) -> None:
        """Whether they are drawn against the number of the volume instead of the time."""
        self.in_volumes = on
        self.changed.emit()

    def is_mine(self, curve: Curve) -> bool:
        """Sections are on a page of their own."""
        return curve.mark is None

    def more(self, key: int) -> list[tuple[str, Callable[[], object]]]:
        """See `curve_row.Curves`."""
        return [("Correlate with it", lambda: self.correlate(key))]

    def shown(self) -> list[tuple[int, Curve]]:
        """Those that are drawn; the one at the crosshair has the key 0 and comes last."""
        held = [(key, curve) for key, curve in self.held() if key not in self.hidden]
        return [*held, *([(0, self.live)] if self.live is not None else [])]

    # the course at the crosshair

    def _other(self) -> None:
        self.live, self._timeline, self.trouble = None, None, ""
        self.changed.emit()
        self._soon.start()

    def _seed(self, labels: LabelMap) -> Seed:
        series, viewing = self.viewing.series, self.viewing
        assert series is not None
        if self.place == "label":
            label = self.hand.label
            if label is None:
                raise Trouble("There is no label in hand", "choose one in Outline")
            return seed_at(series, labels, None, 0.0, label.name)
        return seed_at(series, labels, tuple(viewing.crosshair), self.ball if self.place == "ball" else 0.0, "")

    def _course(self) -> None:
        viewing = self.viewing
        if not self.watched or not viewing.ready or viewing.series is None or viewing.maps.labels is None:
            return
        series, labels = viewing.series, viewing.maps.labels
        try:
            others, timeline = others_of(series, viewing.place), self._timeline
            if timeline is None or timeline.image is not series or timeline.others != others:
                timeline = self._timeline = Timeline(series, viewing.place)
                self._load(timeline)
            if self.place == "label" and not timeline.quick(int(labels.counts[1:].max(initial=0))):
                self._beside(timeline, lambda: self._seed(labels))
                return
            seed = self._seed(labels)
        except Trouble as trouble:
            self.live, self.trouble = None, str(trouble)
            self.changed.emit()
            return
        if timeline.quick(len(seed.voxels)):
            self._put(seed, timeline.course(seed, silent()))
        else:
            self._beside(timeline, lambda: seed)

    def _load(self, timeline: Timeline) -> None:
        if not timeline.ready and timeline.fits:
            start = self.session.work.start
            start("Reading the series", timeline.load, lambda _: self._soon.start(), lane="view", loud=False)

    def _beside(self, timeline: Timeline, seed) -> None:
        """Work it out beside the window; when another place is wanted meanwhile, only that one is shown."""
        self._asked += 1
        asked = self._asked

        def work(progress):
            if asked != self._asked:
                return None
            found = seed()
            return found, timeline.course(found, progress)

        def put(result) -> None:
            if result is not None and asked == self._asked and timeline is self._timeline:
                self._put(*result)

        def failed(error: BaseException) -> None:
            if asked == self._asked:
                self.live, self.trouble = None, str(error)
                self.changed.emit()

        self.session.work.start("Course", work, put, failed, lane="preview", loud=False)

    def _put(self, seed: Seed, values: np.ndarray) -> None:
        series, timeline = self.viewing.series, self._timeline
        if series is None or timeline is None:
            return
        self.live = curve_of(seed, series, timeline.axis, values, colour=LIVE, width=1.2, name="at the crosshair")
        self.trouble = ""
        self.changed.emit()

    # holding

    def settings(self) -> dict[str, Any]:
        """What the operations need to be told of the place that is followed."""
        if self.place == "label":
            return {"label": self.hand.label.name if self.hand.label is not None else ""}
        point = tuple(float(v) for v in self.viewing.crosshair)
        return {"point": point, "ball": self.ball if self.place == "ball" else 0.0}

    def hold(self, done=None) -> None:
        """Keep the course of the place that is followed, in the next colour and kind of line."""
        record = self._series()
        if record is None:
            return
        n = len(self.held())
        style = {"colour": COLOURS[n % len(COLOURS)], "dashes": DASHES[n // len(COLOURS) % len(DASHES)]}
        given = {"image": record.id, **self.settings(), **style}
        self.session.run("hold-course", given, done)

    def _series(self) -> ImageRecord | None:
        """The record of the series whose course is followed; says why when there is none that a step could take."""
        record, series = self.viewing.record, self.viewing.series
        if record is None or not record.axes:
            self.session.trouble.emit("This image has no course: it is one volume. Choose a series.")
            return None
        try:
            others = others_of(series, self.viewing.place) if series is not None else ()
        except Trouble as trouble:
            self.session.trouble.emit(str(trouble))
            return None
        if any(others):
            other = next(axis for axis, n in zip(record.axes, others) if n)
            self.session.trouble.emit(
                f"Steps take the course of the first {other.name}, and another one is looked at. "
                "Keep it with “One place along an axis” first."
            )
            return None
        return record

    def correlate(self, curve: int | None, drift: float = 0.0, mean_course: bool = False, without=()) -> None:
        """Map how every voxel goes with a held curve, or with the place that is followed; the map is laid over its
        series."""
        record = self._series()
        if record is None:
            return
        seed = {"curve": curve} if curve is not None else self.settings()
        given = {"image": record.id, "drift": drift, "mean_course": mean_course, "without": list(without), **seed}
        self.session.run("correlate", given, over=record.id)

    # leaving the program

    def as_table(self, times: bool = True):
        """The curves that are drawn, as they are drawn, as one table. Raises Trouble when there are none, or their
        times differ."""
        from ...formats.curve_files import curve_table

        drawn = [self.drawn(curve) for _, curve in self.shown()]
        if not drawn:
            raise Trouble("There is no course to save", "move the crosshair into a series, or hold one")
        return curve_table(drawn, times)

    def drawn(self, curve: Curve) -> Curve:
        """A curve in the mode in force; raises Trouble when it cannot be had."""
        from ...measure.course import shaped, spectrum

        if self.mode == "spectrum":
            along, values, unit = spectrum(curve.values, curve.step)
            return replace(
                curve, values=values, along=along, along_unit="Hz" if curve.along_unit == "s" else "", unit=unit
            )
        values, unit = shaped(curve.values, self.mode, curve.unit)
        places = None if self.in_volumes else curve.along
        return replace(
            curve, values=values, unit=unit, along=places, along_unit=curve.along_unit if places is not None else ""
        )
