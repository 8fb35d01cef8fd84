"""The contact sheet that the Light table shows: which slices, and how they lie. A study remembers it."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

from PySide6.QtCore import QObject, Signal

from ...core.labels import LabelMap
from ...scene.layer import MarkLook, restored
from ...scene.layer_type import Drawn, type_of_thing
from ...scene.sheet.plan import SheetPlan, SheetStack
from .drawn_marks import DrawnMarks
from .layers import Layers
from .seen_as import seen_as
from .viewing import Viewing

KEY = "contact sheet"


class SheetModel(QObject):
    """The plan, and what lies in each slice."""

    changed = Signal()

    def __init__(self, viewing: Viewing, layers: Layers, marks: DrawnMarks):
        super().__init__(viewing)
        self.viewing, self.layers, self.marks = viewing, layers, marks
        self.plan = restored(SheetPlan, viewing.study.catalogue.recall(KEY, {}))

    def change(self, **changes: Any) -> None:
        """Another plan."""
        plan = replace(self.plan, **changes)
        if plan != self.plan:
            self.plan = plan
            self.changed.emit()

    def stack(self) -> SheetStack | None:
        """What each slice shows: the image that leads, what lies over it, its labels and marks; None while nothing is
        read."""
        viewing = self.viewing
        if not viewing.ready or viewing.image is None:
            return None
        layers = [*viewing.drawn_image(), *self.layers.drawn()]
        labels = viewing.maps.labels
        if labels is not None and isinstance(labels, LabelMap) and viewing.maps.map is not None:
            layers.append(Drawn(labels, viewing.maps.look))
        if self.marks.marks is not None and self.marks.shown and len(self.marks.marks):
            look = type_of_thing(self.marks.marks).first(self.marks.marks, True)[0]
            assert isinstance(look, MarkLook)
            layers.append(Drawn(self.marks.marks, replace(look, thickness=max(viewing.image.space.spacing))))
        return SheetStack(layers, labels)

    @property
    def showing(self) -> SheetPlan:
        """The plan with the convention of sides in force; a label that is gone counts no more."""
        labels = self.viewing.maps.labels
        number = self.plan.label if labels is not None and labels.counts[self.plan.label] else 0
        return replace(self.plan, left_on_left=self.viewing.left_on_left, label=number)

    def settings(self) -> dict[str, Any]:
        """The plan, and what is seen, as inputs and settings of the operation that writes a sheet."""
        plan, labels = self.showing, self.viewing.maps.labels
        row = labels.table.get(plan.label) if labels is not None and plan.label else None
        drawn_on = self.marks.key if self.marks.shown else None
        return seen_as(self.viewing, self.layers) | {
            "marks": [drawn_on] if drawn_on is not None else [],
            "plane": ", ".join(plan.planes),
            "count": plan.count,
            "every": plan.every or None,
            "start": plan.start,
            "end": plan.end,
            "within": row.name if row is not None else "",
            "columns": plan.columns or None,
            "gap": plan.gap,
            "ground": "light" if plan.light else "dark",
            "trim": plan.trim,
            "letters": plan.letters,
            "written": plan.written,
            "bars": plan.bars,
            "locator": plan.locator,
            "left_on_left": plan.left_on_left,
        }

    def remember(self) -> None:
        """Keep the plan with the study."""
        self.viewing.study.catalogue.remember(KEY, asdict(self.plan))
