"""The preview: what the operation whose form is open would make of the slice in view."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace
from typing import Any, Protocol

from PySide6.QtCore import QObject, QTimer, Signal

from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import LabelMap
from ...core.operation import Operation
from ...core.quantity import short_size
from ...scene.first_look import first_look, scale_between
from ...scene.layer import ImageLook, LabelLook
from ...scene.layer_type import Drawn
from ...scene.view import View
from ...study.inputs import settle
from ...study.preview import Preview, box_in_view, box_to_try, preview, reach_of, within
from .layers import Layers
from .sight import Parts
from .viewing import Viewing
from .work import Job, unexpected

PAUSE = 150
"""Milliseconds between looks at what is wanted; what has stayed the same for one of them is worked out."""
QUICK = 0.1
"""Seconds: what takes no longer is worked out while a hand still moves, and looked for this much more often."""
OFTEN = 30
TINTED = LabelLook(fill=0.5, edges=False)


class Previewed(Protocol):
    """A form as the preview sees it."""

    operation: Operation

    def wanted(self) -> dict[str, Any] | None:
        """What the operation would be given; None when no preview is wanted. Raises Trouble when a field is wrong."""


@dataclass(frozen=True)
class Shown:
    """A preview that was worked out, and how it is shown: by a look of its own, or by the look of the image with its
    range scaled and shifted."""

    of: int
    title: str
    made: Preview
    look: ImageLook | None
    scaling: tuple[float, float]


class Previewing(QObject):
    """Follows the form that is seen, what leads the Light table, and what its pane shows. One look at all of them,
    again and again, misses no change of any."""

    changed = Signal()
    """Another preview is to be seen, or none; or there is something else to say of it."""

    def __init__(self, viewing: Viewing, layers: Layers):
        super().__init__(viewing)
        self.viewing, self.layers, self.session = viewing, layers, viewing.session
        self.on = True
        """Whether previews are wanted, as was chosen last."""
        self.shown: Shown | None = None
        self.words = ""
        self._form: Previewed | None = None
        self._known: Any = None
        self._next: Any = None
        self._job: Job | None = None
        self._quick = False
        self._look = QTimer(self, interval=PAUSE)
        self._look.timeout.connect(self._look_again)

    def follow(self, form: Previewed) -> None:
        """A form is seen now."""
        self._form, self._quick = form, False
        self._look.setInterval(PAUSE)
        self._look.start()

    def let_go(self, form: Previewed) -> None:
        """It is seen no more."""
        if form is self._form:
            self._form = None
            self._look.stop()
            self._drop("")

    @property
    def settled(self) -> bool:
        """Whether what is wanted has been worked out."""
        idle = self._job is None or self._job not in self.session.work.jobs
        return idle and (self._form is None or self._wanted() == self._known)

    @property
    def title(self) -> str:
        """Of the operation whose preview is shown."""
        return self.shown.title if self.shown is not None else ""

    def laid_over(self, parts: Parts, view: View) -> Parts:
        """What a pane shows of the image that leads, with the preview where that holds for all that is seen."""
        shown, record, labels = self.shown, self.viewing.record, self.viewing.maps.look
        if shown is None or record is None or record.id != shown.of:
            return parts
        box = box_in_view(view, record.grid)
        if box is None or not within(box, shown.made.box):
            return parts
        thing = shown.made.thing
        if shown.made.tinted is not None:
            parts = replace(parts, labels=[*parts.labels, Drawn(shown.made.tinted, TINTED)])
        if isinstance(thing, LabelMap):
            return replace(parts, labels=[*parts.labels, Drawn(thing, labels)])
        if thing is None:
            return parts
        drawn = Drawn(thing, shown.look or _scaled(self.viewing.look or ImageLook(), *shown.scaling))
        if parts.upper:
            return replace(parts, lower=[*parts.lower, drawn])
        return replace(parts, upper=[drawn], how=self.layers.comparison)

    # following

    def _wanted(self) -> Any:
        """Everything that a preview depends on; None when there is to be none."""
        form, viewing = self._form, self.viewing
        view, record = viewing.lead_view(), viewing.record
        if form is None or self.session.closed or record is None or view is None or not viewing.ready:
            return None
        try:
            given = form.wanted()
        except Trouble as trouble:
            return str(trouble)
        if given is None:
            return None
        labels, operation = viewing.maps.labels, form.operation
        uses_labels = operation.on_lead is not None and labels is not None
        painted = (id(labels), int(labels.revision.sum())) if uses_labels and labels is not None else ()
        seen = box_to_try(view, record.grid, reach_of(operation, record.grid, given))
        return operation.name, repr(sorted(given.items())), record.id, record.grid, viewing.place, painted, seen

    def _look_again(self) -> None:
        wanted = self._wanted()
        if wanted == self._known:
            return
        if wanted is None or isinstance(wanted, str):
            self._drop(f"No preview: {wanted}" if wanted else "", wanted)
        elif wanted != self._next and not self._quick:
            self._next = wanted  # a hand still moves a slider, or goes through slices
        else:
            self._begin(wanted)

    def _begin(self, wanted: Any) -> None:
        form, viewing, study = self._form, self.viewing, self.session.study
        record, view, place = viewing.record, viewing.lead_view(), viewing.place
        self._stop()
        self._known = wanted
        assert form is not None and record is not None and view is not None
        operation = form.operation
        try:
            given = form.wanted() or {}
            task = settle(study, operation.name, given, replace(viewing.lead, place=()))
        except Trouble as trouble:
            self._drop(f"No preview: {trouble}", wanted)
            return
        colour = viewing.image is not None and viewing.image.colour

        def work(progress):
            started = time.monotonic()
            made = preview(study, task, view, place, progress)
            self._quick = time.monotonic() - started < QUICK
            thing = made.thing
            if not isinstance(thing, Image) or not isinstance(made.before, Image):
                return Shown(record.id, operation.title, made, None, (1.0, 0.0))
            look = first_look(thing) if colour or thing.colour else None
            return Shown(record.id, operation.title, made, look, scale_between(made.before.grey(), thing.grey()))

        def put(shown: Shown) -> None:
            self._job = None
            self._look.setInterval(OFTEN if self._quick else PAUSE)
            if self._known == wanted and shown.made.wrong:
                self._say(f"No preview: {shown.made.wrong}", shown)
            elif self._known == wanted:
                voxel = short_size(max(shown.made.before.space.spacing[:2]), record.grid.unit)
                rough = f"Rough: on a grid of {voxel}" if shown.made.rough else ""
                self._say(rough, shown)

        def failed(error: BaseException) -> None:
            self._job = None
            if self._known == wanted:
                told = str(error) if isinstance(error, Trouble) else unexpected("The preview", error)
                self._say(f"No preview: {told}", None)

        self._job = self.session.work.start(f"Preview of {operation.title}", work, put, failed, "trial")
        self._say("Working it out …", self.shown)

    def _stop(self) -> None:
        if self._job is not None:
            self._job.progress.cancel()
            self._job = None

    def _drop(self, words: str, known: Any = None) -> None:
        self._stop()
        self._known, self._next = known, None
        self._say(words, None)

    def _say(self, words: str, shown: Shown | None) -> None:
        if words != self.words or shown is not self.shown:
            self.words, self.shown = words, shown
            self.changed.emit()


def _scaled(look: ImageLook, factor: float, shift: float) -> ImageLook:
    """A look in whose range the same structures look as before."""
    if (factor, shift) == (1.0, 0.0):
        return look
    low, high = (factor * v + shift for v in (look.low, look.high))
    return replace(look, low=low, high=high, hide_below=None, hide_above=None)
