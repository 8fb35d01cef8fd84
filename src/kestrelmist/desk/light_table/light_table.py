"""The arrangement of panes: one that leads with three, one alone, images side by side, all times of a series."""

from __future__ import annotations

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QGridLayout, QVBoxLayout, QWidget

from ...scene.view import AXIAL, CORONAL, PLANES, SAGITTAL, View
from ..models.desk_model import Desk
from ..models.sight import Sight
from ..solid.solid_pane import SolidPane
from .sheet_pane import SheetPane
from .slice_pane import SlicePane
from .times import TimesPane


class Floating(QWidget):
    """A window of its own around a pane; closing it brings the pane back."""

    back = Signal()

    def __init__(self, pane: QWidget, title: str):
        super().__init__(None, Qt.WindowType.Window)
        self.pane = pane
        self.setWindowTitle(title)
        self.resize(max(pane.width(), 480), max(pane.height(), 420))
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(pane)

    def closeEvent(self, event) -> None:
        self.back.emit()
        event.accept()


class LightTable(QWidget):
    """Three planes and the Solid view, any of which can lead; or images side by side, each with a plane or three. Which
    it is, is part of what is looked at."""

    rearranged = Signal()
    """Panes were made or taken away."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("ground")
        self.desk, self.viewing = desk, desk.viewing
        self.slices = [SlicePane(desk, plane) for plane in (CORONAL, AXIAL, SAGITTAL)]
        self.solid, self.times, self.sheet = SolidPane(desk), TimesPane(desk), SheetPane(desk)
        self._by_name = {pane.name: pane for pane in (*self.slices, self.solid)}
        for pane in (*self.slices, self.solid):
            pane.wants_lead.connect(lambda pane=pane: self.bring_to_lead(pane))
        for pane in self.slices:
            self._listen(pane)
        self.beside: list[SlicePane] = []
        """Panes of images side by side: image by image, and plane by plane in each."""
        self.floating: list[Floating] = []
        self._sights: dict[int, Sight] = {}
        self._before_picture: tuple[str, bool] | None = None
        self._moving = False
        self.viewing.lead_changed.connect(self._suit)
        self.viewing.lead_changed.connect(self._arrange)
        self.viewing.arrangement_changed.connect(self._arrange)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(2, 2, 2, 2)
        self._grid.setSpacing(2)
        self._laid: tuple = ()
        self.times.hide()
        self.sheet.hide()
        self.viewing.lead_view = self.seen
        self._arrange()

    def _listen(self, pane: SlicePane) -> None:
        pane.wants_float.connect(lambda: self.set_floating(pane, pane not in [f.pane for f in self.floating]))
        pane.canvas.wants_scale.connect(self._same_scale)
        pane.canvas.view_moved.connect(lambda: self._move_along(pane))

    @property
    def panes(self) -> list:
        """All panes that are laid out, the lead pane first."""
        if self.beside:
            return sorted(self.beside, key=lambda pane: not pane.sight.leads)
        return [self._by_name[name] for name in self.viewing.arrangement.order]

    @property
    def all_slices(self) -> list[SlicePane]:
        """Every pane that shows a plane, laid out or not."""
        return [*self.slices, *self.beside]

    @property
    def lead(self):
        return self.panes[0]

    @property
    def working(self) -> SlicePane:
        """The pane that commands go to: the lead pane, or the first plane when the Solid view leads."""
        return self.lead if isinstance(self.lead, SlicePane) else self.slices[0]

    def seen(self) -> View | None:
        """What the working pane shows."""
        return self.working.canvas.current_view()

    @property
    def alone(self) -> bool:
        return self.viewing.arrangement.alone

    def bring_to_lead(self, pane) -> None:
        """Swap a side pane with the lead pane; of images side by side, the pane's image leads."""
        if pane in self.beside:
            self.desk.beside.make_lead(pane.sight.key)
        elif pane is not self.lead:
            self.viewing.arrange(order=self.viewing.arrangement.led_by(pane.name).order)

    def next_lead(self) -> None:
        """The next of the three planes takes the lead; of images side by side, all show it."""
        names = [plane.name for plane in PLANES]
        now = self._plane_name
        self.viewing.arrange(order=self.viewing.arrangement.led_by(names[(names.index(now) + 1) % 3]).order)

    def set_alone(self, alone: bool) -> None:
        """Show the lead pane only, or all four."""
        self.viewing.arrange(alone=alone, beside=(), times=False, sheet=False)

    def set_times(self, on: bool) -> None:
        """Every volume of the series in one pane."""
        record = self.viewing.record
        if on and (record is None or not record.axes):
            self.viewing.session.trouble.emit("This image has one volume only: choose a series to see its times.")
            return
        self.viewing.arrange(times=on, beside=(), sheet=False)

    def set_sheet(self, on: bool) -> None:
        """A contact sheet in place of the panes."""
        self.viewing.arrange(sheet=on, beside=(), times=False)

    def restore(self) -> None:
        """The standard arrangement, with every pane in its place."""
        for window in list(self.floating):
            self.set_floating(window.pane, False)
        usual = type(self.viewing.arrangement)().order
        self.viewing.arrange(order=usual, alone=False, beside=(), times=False, sheet=False)
        self._suit()

    # panes of their own

    def set_floating(self, pane: SlicePane, on: bool) -> None:
        """Give a pane a window of its own, for another monitor, or bring it back."""
        there = next((window for window in self.floating if window.pane is pane), None)
        if on and there is None:
            self._grid.removeWidget(pane)
            window = Floating(pane, f"{pane.header.title} · Kestrelmist")
            window.back.connect(lambda: self.set_floating(pane, False))
            self.floating.append(window)
            pane.show()
            window.show()
        elif not on and there is not None:
            self.floating.remove(there)
            pane.setParent(self)
            there.deleteLater()
            there.hide()
        self._laid = ()
        self._arrange()

    # what moves together

    def _same_scale(self, pixel: float) -> None:
        for pane in self.panes:
            if isinstance(pane, SlicePane) and pane.isVisible():
                pane.canvas.set_scale(pixel)

    def _move_along(self, pane: SlicePane) -> None:
        """The other images show the same part at the same scale, seen from their own crosshair."""
        view = pane.canvas.view
        if self._moving or pane not in self.beside or not self.desk.beside.linked("zoom") or view is None:
            return
        self._moving = True
        try:
            off = [a - b for a, b in zip(view.centre, pane.sight.crosshair)]
            for other in self.beside:
                seen = other.canvas.current_view()
                if other is not pane and other.plane is pane.plane and seen is not None:
                    if pane.canvas.following:
                        other.canvas.fit()
                        continue
                    centre = tuple(float(a + b) for a, b in zip(other.sight.crosshair, off))
                    other.canvas.look_at(seen.moved(pixel=view.pixel, centre=centre))
        finally:
            self._moving = False

    # laying out

    @property
    def _plane_name(self) -> str:
        """The plane that leads, also while the Solid view does."""
        return next(name for name in self.viewing.arrangement.order if name != self.solid.name)

    def _suit(self) -> None:
        """A picture of one slice is shown face on and alone; a volume brings the panes back."""
        record = self.viewing.record
        if record is None:
            return
        flat = record.grid.flat_axis
        if flat is not None:
            if self._before_picture is None:
                self._before_picture = (self.lead.name, self.alone)
            name = next(pane.name for pane in self.slices if pane.plane.across == flat)
            order = self.viewing.arrangement.led_by(name).order
            self.viewing.arrange(alone=True, order=order)
        elif self._before_picture is not None:
            (name, alone), self._before_picture = self._before_picture, None
            self.viewing.arrange(alone=alone, order=self.viewing.arrangement.led_by(name).order)
        if not record.axes and self.viewing.arrangement.times:
            self.viewing.arrange(times=False)

    def _arrange(self) -> None:
        a = self.viewing.arrangement
        floating = tuple(id(window.pane) for window in self.floating)
        wanted = (a.order, a.alone, a.beside, a.three, a.times, a.sheet, floating)
        if self._laid == wanted:
            for pane in self.beside:
                pane.set_lead(pane.sight.leads)
            return
        self._laid = wanted
        while self._grid.count():
            self._grid.takeAt(0)
        for row in range(4):
            self._grid.setRowStretch(row, 0)
            self._grid.setColumnStretch(row, 0)
        self._make_beside()
        self.times.setVisible(a.times)
        self.sheet.setVisible(a.sheet and not a.beside)
        if a.times:
            self._grid.addWidget(self.times, 0, 0)
        elif a.sheet and not a.beside:
            self._grid.addWidget(self.sheet, 0, 0)
        elif self.beside:
            self._lay_beside()
        else:
            self._lay_usual()
        shown = set(self.beside) if self.beside else set() if a.times or a.sheet else set(self._shown_usual())
        for pane in (*self.slices, self.solid):
            pane.setVisible(pane in shown or pane in [w.pane for w in self.floating])
        self._grid.activate()
        for pane in self.all_slices:
            pane.canvas.refresh()
        self.rearranged.emit()

    def _shown_usual(self) -> list:
        there = [w.pane for w in self.floating]
        docked = [pane for pane in self.panes if pane not in there]
        return docked[:1] if self.alone else docked

    def _lay_usual(self) -> None:
        docked = self._shown_usual()
        for n, pane in enumerate(self.panes):
            pane.set_lead(n == 0)
        if docked:
            self._grid.addWidget(docked[0], 0, 0, 3, 1)
        for n, pane in enumerate(docked[1:]):
            self._grid.addWidget(pane, n, 1)
        for n in range(3):
            self._grid.setRowStretch(n, 1)
        self._grid.setColumnStretch(0, 17)
        self._grid.setColumnStretch(1, 8 if len(docked) > 1 else 0)

    def _lay_beside(self) -> None:
        a = self.viewing.arrangement
        each, there = 3 if a.three else 1, [w.pane for w in self.floating]
        across = len(a.beside) if a.three or len(a.beside) < 4 else 2
        for n, pane in enumerate(self.beside):
            pane.set_lead(pane.sight.leads)
            pane.show()
            if pane in there:
                continue
            image, plane = divmod(n, each)
            row, column = (plane, image) if a.three else divmod(image, across)
            self._grid.addWidget(pane, row, column)
            self._grid.setRowStretch(row, 1)
            self._grid.setColumnStretch(column, 1)

    def _make_beside(self) -> None:
        """Make the panes of images side by side, keeping those that are there."""
        a = self.viewing.arrangement
        planes = PLANES if a.three else [next(p for p in PLANES if p.name == self._plane_name)]
        wanted = [(key, plane) for key in a.beside for plane in planes]
        known = {(pane.sight.key, pane.plane): pane for pane in self.beside}
        for key in a.beside:
            if key not in self._sights:
                self._sights[key] = Sight(self.viewing, self.desk.layers, self.desk.beside, key, self)
        made = []
        for key, plane in wanted:
            pane = known.pop((key, plane), None)
            if pane is None:
                pane = SlicePane(self.desk, plane, self._sights[key])
                pane.header.closed.connect(lambda key=key: self.desk.beside.take_away(key))
                pane.wants_lead.connect(lambda pane=pane: self.bring_to_lead(pane))
                self._listen(pane)
            made.append(pane)
        self.beside = made
        for pane in known.values():
            window = next((w for w in self.floating if w.pane is pane), None)
            if window is not None:
                self.floating.remove(window)
                window.deleteLater()
            pane.hide()
            pane.setParent(None)
            pane.deleteLater()
        for key in [key for key in self._sights if key not in a.beside]:
            self._sights.pop(key).end()
