"""What the window is looking at and working with: the one place where views read and gestures write."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal
from PySide6.QtGui import QUndoStack

from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import Label, LabelMap
from ..core.patch import LabelEdit
from ..core.table import Table
from ..outline.ranges import ready_ranges
from ..operations import find_operation
from ..scene.colours import first_map
from ..scene.slices import ImageLook, LabelLook
from ..study.logbook import Step
from ..study.run import Call, keep, settle, step_of
from ..study.study import ImageRecord, Study
from .commands import EditLabels, ShelveImages
from .framed_area import FramedArea
from .remembered import ToolSettings, restore_view, save_view
from .work import Work

MOST_SHOWN = 1 << 30
"""Bytes of one volume on the screen; of larger pictures a coarser level is shown."""
STAGES = ("Gather", "Prepare", "Align", "Outline", "Measure", "Report")


class Desk(QObject):
    """The state behind the window."""

    study_changed = Signal()
    shelf_changed = Signal()
    image_changed = Signal()
    labels_changed = Signal()
    label_chosen = Signal()
    crosshair_moved = Signal()
    place_changed = Signal()
    plan_shown = Signal(bool)
    framed_changed = Signal()
    look_changed = Signal()
    stage_changed = Signal()
    tool_changed = Signal()
    settings_changed = Signal()
    table_made = Signal(object)
    logbook_changed = Signal()
    trouble = Signal(str)
    said = Signal(str)

    def __init__(self, study: Study, parent=None):
        super().__init__(parent)
        self.study, self.work, self.undo = study, Work(self), QUndoStack(self)
        self.work.trouble.connect(self.trouble)
        self.closed = False
        self.record: ImageRecord | None = None
        self.series: Image | None = None
        self.image: Image | None = None
        self.place: tuple[int, ...] = ()
        self.framed: FramedArea | None = None
        self.labels: LabelMap | None = None
        self.crosshair = np.zeros(3)
        self.stage, self.tool = "Gather", "point"
        self.left_on_left = True
        self.label_number: int | None = None
        self.label_look = LabelLook()
        self.looks: dict[int, ImageLook] = {}
        self.tool_settings: dict[int, ToolSettings] = {}
        self._places: dict[int, tuple[int, ...]] = {}
        self._save = QTimer(self, singleShot=True, interval=400)
        self._save.timeout.connect(self.save_view)
        for signal in (self.crosshair_moved, self.stage_changed, self.look_changed, self.tool_changed, self.image_changed,
                       self.settings_changed):
            signal.connect(self._save.start)

    # what is shown

    @property
    def look(self) -> ImageLook | None:
        return self.looks.get(self.record.id) if self.record else None

    @property
    def settings(self) -> ToolSettings:
        return self.tool_settings.get(self.record.id, ToolSettings()) if self.record else ToolSettings()

    @property
    def label(self) -> Label | None:
        """The label that tools work on."""
        return self.labels.table.get(self.label_number) if self.labels and self.label_number else None

    @property
    def ready(self) -> bool:
        """Whether the lead image's values are in memory."""
        return not self.closed and self.image is not None and self.image.in_memory and self.labels is not None

    def show_image(self, key: int, done=None) -> None:
        """Bring an image to the lead pane; its values are read by a worker."""
        try:
            record, image = self.study.find(key), self.study.image(key)
        except Trouble as trouble:
            self.trouble.emit(str(trouble))
            return
        place = self._places.get(record.id, (0,) * len(record.axes))
        shown_image = image.frame(place).for_showing(MOST_SHOWN)
        self.record, self.series, self.image, self.place, self.labels, self.label_number = record, image, shown_image, place, None, None
        self.framed = None
        self.image_changed.emit()

        def read(progress):
            shown_image.fetch(progress)
            labels = self.study.labels(record.id)
            if labels.counts[0] == labels.kji.size < 1 << 28:
                labels.kji.fill(0)  # the system hands out memory on first touch: better here than under the first stroke
            return labels, image.display_range()

        def shown(result):
            if self.record is not record:
                return
            self.labels, display = result
            self.looks.setdefault(record.id, ImageLook(*display, first_map(image)))
            if record.id not in self.tool_settings:
                self.tool_settings[record.id] = _first_settings(shown_image.grey())
            if not self._inside(self.crosshair):
                self.crosshair = record.space.to_world(np.array(record.space.shape) // 2)
            first = next(iter(self.labels.table), None)
            self.label_number = first.number if first else None
            for signal in (self.image_changed, self.look_changed, self.labels_changed, self.label_chosen, self.settings_changed,
                           self.crosshair_moved):
                signal.emit()
            if done:
                done()

        def failed(error):
            if self.record is record:
                self.record = self.image = self.series = None
                self.image_changed.emit()
            self.trouble.emit(str(error))

        self.work.start(f"Reading {record.name}", read, shown, failed, loud=not shown_image.in_memory)

    def go_along(self, axis: int, n: int) -> None:
        """Show another volume of a series; it is read by a worker when it is not in memory."""
        if not self.ready or axis >= len(self.place):
            return
        place = tuple(min(max(n, 0), a.size - 1) if k == axis else p for k, (a, p) in enumerate(zip(self.record.axes, self.place)))
        if place == self.place:
            return
        record, wanted = self.record, self.series.frame(place).for_showing(MOST_SHOWN)
        self.place = self._places[record.id] = place
        self.place_changed.emit()

        def read(progress):
            if self.place == place:  # a slider that has gone on meanwhile wants another one
                wanted.fetch(progress)

        def put(_):
            if self.record is record and self.place == place and wanted.in_memory:
                self.image = wanted
                self.look_changed.emit()

        if wanted.in_memory:
            put(None)
        else:
            self.work.start(f"Reading {record.name}", read, put, loud=False)

    def _inside(self, world) -> bool:
        return self.record.space.nearest_voxel(world) is not None

    def go_to(self, world) -> None:
        """Move the crosshair."""
        self.crosshair = np.asarray(world, float)
        self.crosshair_moved.emit()

    def step(self, axis: int, count: int) -> None:
        """Step along a world axis by voxels of the lead image, to voxel centres when the grid runs along the axes."""
        if self.record is None:
            return
        space = self.record.space
        grid = space.world_axis_of.index(axis)
        voxel = space.to_voxel(self.crosshair)
        sign = 1 if space.affine[axis, grid] > 0 else -1
        target = np.floor(voxel[grid] + 0.5) + sign * count
        moved = self.crosshair.copy()
        # stay on the line along the world axis: only this coordinate changes
        moved[axis] += (target - voxel[grid]) / space.inverse[grid, axis]
        corners = space.corners()
        moved[axis] = np.clip(moved[axis], corners[:, axis].min(), corners[:, axis].max())
        self.go_to(moved)

    def set_stage(self, stage: str) -> None:
        if stage != self.stage:
            self.stage = stage
            if stage != "Outline":
                self.set_tool("point")
            self.stage_changed.emit()

    def set_plan_shown(self, on: bool) -> None:
        """Whether a plan lies over the Light table."""
        self.plan_shown.emit(on)

    def set_framed(self, area: FramedArea | None) -> None:
        """The framed area that tools for pictures work on."""
        self.framed = area
        self.framed_changed.emit()

    def set_tool(self, tool: str) -> None:
        if tool != self.tool:
            self.tool = tool
            self.tool_changed.emit()

    def set_look(self, **changes) -> None:
        if self.look:
            self.looks[self.record.id] = replace(self.look, **changes)
            self.look_changed.emit()

    def set_label_look(self, **changes) -> None:
        self.label_look = replace(self.label_look, **changes)
        self.look_changed.emit()

    def set_settings(self, **changes) -> None:
        if self.record:
            self.tool_settings[self.record.id] = replace(self.settings, **changes)
            self.settings_changed.emit()

    def set_left_on_left(self, on: bool) -> None:
        self.left_on_left = on
        self.look_changed.emit()

    def choose_label(self, number: int | None) -> None:
        self.label_number = number
        self.label_chosen.emit()

    # what is done

    def edit_labels(self, edit: LabelEdit, applied: bool = False, settings: dict | None = None) -> None:
        """Do an edit of the lead image's labels as an undoable step; with `settings` the hand's work goes to the logbook."""
        if not edit.empty:
            step = None if settings is None else Step("by hand", edit.title, settings, {
                "image": {"name": self.record.name, "subject": self.record.subject, "hash": self.record.hash}})
            self.undo.push(EditLabels(self, self.record.id, edit, applied, step))
            self.logbook_changed.emit()

    def labels_edited(self, record_id: int) -> None:
        if self.record and self.record.id == record_id:
            if self.label_number is not None and self.label_number not in self.labels.table:
                self.label_number = None
            if self.label_number is None and len(self.labels.table):
                self.label_number = next(iter(self.labels.table)).number
            self.labels_changed.emit()
            self.label_chosen.emit()

    def shelf_edited(self) -> None:
        self.shelf_changed.emit()
        shown = {r.id for r in self.study.records()}
        if self.record and self.record.id not in shown:
            self.record = self.image = self.series = self.labels = None
            self.image_changed.emit()

    def new_label(self, name: str) -> None:
        table, label = self.labels.table.with_new(name)
        self.edit_labels(LabelEdit(f"New label “{label.name}”", None, self.labels.table, table))
        self.choose_label(label.number)

    def start_labels(self) -> None:
        """Put an empty label map on the lead image's grid in place of one that does not fit it; undo starts anew too."""
        try:
            self.labels = self.study.start_labels(self.record.id)
        except Trouble as trouble:
            self.trouble.emit(str(trouble))
            return
        self.undo.clear()
        self.label_number = None
        self.labels_edited(self.record.id)

    def change_label(self, number: int, **changes) -> None:
        """Rename, recolour, hide, lock: anything in the label table."""
        before = self.labels.table
        word = {"locked": "Lock" if changes.get("locked") else "Unlock", "hidden": "Hide" if changes.get("hidden") else "Show",
                "name": "Rename", "colour": "Recolour"}[next(iter(changes))]
        self.edit_labels(LabelEdit(f"{word} “{before[number].name}”", None, before, before.changed(number, **changes)))

    def run(self, operation: str, settings: dict, done=None, title: str | None = None) -> None:
        """Run an operation on the lead image through a worker, and keep what it makes."""
        try:
            self.require_writable()
            known = find_operation(operation)
            frame = {"frame": ",".join(str(n + 1) for n in self.place)} if self.place and known.inputs and "series" not in known.takes else {}
            call = settle(self.study, operation, {**({"image": self.record.id} if self.record and known.inputs else {}), **frame, **settings})
        except Trouble as trouble:
            self.trouble.emit(str(trouble))
            return

        def work(progress):
            result = call.compute(progress.part(0.0, 0.7))
            if isinstance(result, LabelEdit):  # kept by the undo stack in the window's thread; packed here, which takes longer
                if result.patch is not None:
                    result.patch.to_bytes()
                return result, None
            return result, keep(self.study, call, result, progress.part(0.7, 1.0))

        stamp = self.label_stamp()

        def made(outcome):
            result, kept = outcome
            if isinstance(result, LabelEdit) and self.label_stamp() != stamp and self.record and self.record.id == call.record.id:
                # undone, locked or renamed meanwhile: the edit fits labels that are no more, so it is worked out anew
                self.run(operation, settings, done, title)
            else:
                self._made(call, result, kept, done)

        job = self.work.start(title or call.operation.title, work, made)
        job.edits_labels = call.operation.returns is LabelEdit

    def label_stamp(self) -> tuple | None:
        """Changes whenever the lead image's labels do."""
        return None if self.labels is None else (id(self.labels), int(self.labels.revision.sum()), self.labels.table.labels)

    def require_labels_free(self) -> None:
        """Raises Trouble while a worker is busy with labels: a stroke and an operation may not change them at once."""
        job = next((j for j in self.work.jobs if j.edits_labels), None)
        if job:
            raise Trouble(f"“{job.title}” is still at work on the labels", "wait a moment, or cancel it above")

    def _made(self, call: Call, result, kept, done) -> None:
        if isinstance(result, LabelEdit):
            self.undo.push(EditLabels(self, call.record.id, result, step=step_of(call, result)))
            if "label" in call.settings and self.record and self.record.id == call.record.id:
                if self.labels.table.has_name(call.settings["label"]):
                    self.choose_label(self.labels.table.named(call.settings["label"]).number)
        elif isinstance(result, Table):
            self.table_made.emit(result)
        elif isinstance(kept, list):
            self.took_in(kept, call.operation.title)
            report = getattr(getattr(result, "origin", None), "report", None)
            if report is not None:
                self.table_made.emit(report)
        self.logbook_changed.emit()
        if done:
            done(kept if kept is not None else result)

    def took_in(self, keys: list[int], title: str) -> None:
        """Images that a worker has put into the study: show the last one."""
        self.undo.push(ShelveImages(self, keys, title))
        self.shelf_changed.emit()
        self.logbook_changed.emit()
        if keys:
            self.show_image(keys[-1])

    def delete_image(self, key: int, name: str) -> None:
        """Delete an image for good; what could be undone before cannot be any more."""
        try:
            self.require_writable()
            self.require_labels_free()
            self.study.delete_image(key, name)
        except Trouble as trouble:
            self.trouble.emit(str(trouble))
            return
        self.undo.clear()
        self.shelf_edited()
        self.logbook_changed.emit()

    def require_writable(self) -> None:
        if self.study.read_only:
            raise Trouble(f"This study can only be read here: {self.study.catalogue.why_read_only}", "close the other window,"
                          " or ask for write permission")

    # the view comes back as it was left

    def save_view(self) -> None:
        save_view(self)

    def restore_view(self) -> None:
        """Show what was shown when the study was last open."""
        restore_view(self)

    def close(self) -> None:
        self.closed = True
        self._save.stop()
        self.save_view()
        self.work.close()
        self.study.close()


def _first_settings(image: Image) -> ToolSettings:
    first = ready_ranges(image)[0]
    spacing = max(image.space.spacing)
    return ToolSettings(size=float(f"{10 * spacing:.1g}"), low=float(f"{first.low:.4g}"), high=float(f"{first.high:.4g}"))


def study_folder_of(places: list[Path]) -> Path | None:
    """The study among places given on the command line."""
    return next((p for p in places if (p / "study.db").exists()), None)
