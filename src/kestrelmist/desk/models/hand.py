"""What the hand holds: the tool, its settings, the label it works on, the gesture under way."""

from __future__ import annotations

from dataclasses import dataclass, replace

from PySide6.QtCore import QObject, Signal

from ...core.digits import rounded
from ...core.errors import Trouble
from ...core.image import Image
from ...core.labels import Label
from ...outline.ranges import ready_ranges
from ...scene.showing import display_range
from .viewing import Viewing


@dataclass(frozen=True)
class ToolSettings:
    """Settings of the tools, in physical units. `low` and `high` are the range in the image's values."""

    size: float = 1.0
    shape: str = "ball"
    low: float = 0.0
    high: float = 1.0
    only_in_range: bool = False
    over: int = -1
    """Label that the brush paints over alone: 0 for free voxels, −1 for all."""
    show_range: bool = False
    neighbours: int = 6


class Hand(QObject):
    """One hand for all panes: it holds one tool, and at most one gesture."""

    tool_changed = Signal()
    settings_changed = Signal()
    label_chosen = Signal()
    gesture_moved = Signal()

    def __init__(self, viewing: Viewing, parent=None):
        super().__init__(parent)
        self.viewing, self.session = viewing, viewing.session
        self.tool = "point"
        self.tool_settings: dict[int, ToolSettings] = {}
        self.label_number: int | None = None
        self.gesture = None
        self._drawn_on: int | None = None
        self.session.end_gesture = self.end_gesture
        viewing.lead_changed.connect(self._other_lead)
        viewing.lead_ready.connect(self._ready)
        viewing.maps.chosen.connect(self._labels)
        viewing.maps.changed.connect(self._labels)

    @property
    def settings(self) -> ToolSettings:
        record = self.viewing.record
        return self.tool_settings.get(record.id, ToolSettings()) if record else ToolSettings()

    @property
    def label(self) -> Label | None:
        """The label that tools work on."""
        labels = self.viewing.maps.labels
        return labels.table.get(self.label_number) if labels and self.label_number else None

    def require_label(self) -> Label:
        """The label that a tool is to change; raises Trouble when there is none, or it may not be changed now."""
        self.session.require_labels_free()
        return self.named_label()

    def named_label(self) -> Label:
        """The label that a tool draws for, which may still be at work on it; raises Trouble when there is none, or it
        is locked."""
        self.session.study.catalogue.require_writable()
        if self.viewing.maps.opening:
            raise Trouble("The label map is still being opened", "wait a moment")
        if self.label is None:
            raise Trouble("There is no label to work on", "make one with “New label”")
        assert self.viewing.maps.labels is not None
        self.viewing.maps.labels.require_unlocked(self.label)
        return self.label

    # gestures

    def begin(self, gesture) -> None:
        """Take up a gesture; one that is still open is ended first."""
        self.end_gesture()
        record = self.viewing.record
        self._drawn_on = None if record is None else record.id
        self._count()
        self.gesture = gesture

    def end_gesture(self) -> None:
        """Finish the gesture under way, whatever happens next: what was painted is journalled."""
        gesture, self.gesture = self.gesture, None
        if gesture is not None:
            gesture.finish()
            self._count()
            self.gesture_moved.emit()

    def cancel_gesture(self) -> None:
        """Give the gesture under way up: what it did is taken back."""
        gesture, self.gesture = self.gesture, None
        if gesture is not None:
            gesture.cancel()
            self._count()
            self.gesture_moved.emit()

    def _count(self) -> None:
        """A gesture has begun or ended: who reads what it draws on in another thread sees that."""
        if self._drawn_on is not None:
            counts = self.session.gestures
            counts[self._drawn_on] = counts.get(self._drawn_on, 0) + 1

    # what is held

    def set_tool(self, tool: str) -> None:
        if tool != self.tool:
            self.end_gesture()
            self.tool = tool
            self.tool_changed.emit()

    def set_settings(self, **changes) -> None:
        if self.viewing.record:
            self.tool_settings[self.viewing.record.id] = replace(self.settings, **changes)
            self.settings_changed.emit()

    def choose_label(self, number: int | None) -> None:
        self.end_gesture()
        self.label_number = number
        self.label_chosen.emit()

    # what is looked at has changed

    def _other_lead(self) -> None:
        self.end_gesture()
        self.label_number = None

    def _ready(self) -> None:
        record, image = self.viewing.record, self.viewing.image
        if record is not None and image is not None and record.id not in self.tool_settings:
            self.tool_settings[record.id] = first_settings(image.grey())
        self.settings_changed.emit()

    def _labels(self) -> None:
        table = self.viewing.maps.labels.table if self.viewing.maps.labels else ()
        if self.label_number is not None and self.label_number not in table:
            self.label_number = None
        if self.label_number is None:
            first = next(iter(table), None)
            if first is not None:
                self.label_number = first.number
        self.label_chosen.emit()


def first_settings(image: Image) -> ToolSettings:
    """Settings that suit an image before anybody has chosen others."""
    first, shown = ready_ranges(image)[0], display_range(image)
    spacing = max(image.space.spacing)
    return ToolSettings(
        size=float(f"{10 * spacing:.1g}"), low=rounded(first.low, *shown), high=rounded(first.high, *shown)
    )
