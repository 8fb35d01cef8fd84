"""The Readout: position, voxel, value and label under the pointer, the side convention, and the scale."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QLineEdit, QToolButton, QWidget

from ..core.caveat import SCALE_BY_HAND, SCALE_UNSURE, SIDES_UNKNOWN, has_caveat
from ..core.digits import signed
from ..core.image import Image
from ..core.quantity import pretty_unit
from ..core.space import Space
from ..scene.pieces import decimals
from ..scene.showing import value_text
from ..scene.tiles import tiles_of
from ..study.items import ImageRecord
from .desk_model import Desk
from .plain_text import Words, plain_tip
from .sight import Sight
from .theme.theme import figures
from .viewing import Viewing

WIDTHS = {"World": 218, "Voxel": 112, "Value": 92, "Label": 150}
"""Pixels that the fields have at least, so that they stay where they are while the pointer moves."""
SIDES = {
    True: ("Left shown on left (from above)", "Left shown on left", "L on left"),
    False: ("Left shown on right (from the feet)", "Left shown on right", "L on right"),
}


class Readout(QWidget):
    """30 px at the bottom. Shows the pointer's place, or the crosshair's when the pointer is elsewhere. Where there is
    no room for all, words go before numbers."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("readout")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(30)
        self.viewing, self._pointer, self._sight = desk.viewing, None, None
        self.tiles, self._awaited = desk.tiles, None
        self._sides, self._scale = SIDES[True], ("",) * 3
        self._rest = QTimer(self, singleShot=True, interval=120)
        self._rest.timeout.connect(self._ask)
        desk.tiles.arrived.connect(self.refresh)
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 0, 12, 0)
        row.setSpacing(6)
        self.fields: dict[str, Words] = {}
        self.heads: dict[str, Words] = {}
        for name in WIDTHS:
            head, value = Words(name), Words("–")
            head.setProperty("kind", "name")
            value.setFont(figures(13))
            value.setToolTip(plain_tip(name))
            row.addWidget(head)
            row.addWidget(value)
            self.fields[name], self.heads[name] = value, head
        row.addStretch()
        self.scale = Words()
        self.scale.setFont(figures(13))
        self.side = QToolButton()
        self.side.setToolTip("Click to see it the other way round")
        self.side.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.side.clicked.connect(lambda: self.viewing.arrange(left_on_left=not self.viewing.left_on_left))
        row.addWidget(self.side)
        row.addSpacing(8)
        row.addWidget(self.scale)
        viewing = self.viewing
        for signal in (
            viewing.crosshair_moved,
            viewing.maps.changed,
            viewing.maps.chosen,
            viewing.lead_changed,
            viewing.lead_ready,
            viewing.arrangement_changed,
        ):
            signal.connect(self.refresh)
        self.refresh()

    def point(self, world, sight: Sight | None = None) -> None:
        """Follow the pointer (None: it has left the panes), in the image of a sight."""
        self._pointer, self._sight = world, None if world is None or sight is None or sight.leads else sight
        self.refresh()

    def refresh(self) -> None:
        viewing: Viewing | Sight = self._sight or self.viewing
        labels = self.viewing.maps.labels if self._sight is None else self._sight.labels
        record = viewing.record
        known = record is None or record.grid.sides_known
        sides = SIDES[self.viewing.left_on_left]
        self._sides = sides if known else ("Sides unknown",) * len(sides)
        self.side.setEnabled(known)
        if record is None or not viewing.ready or viewing.image is None or labels is None:
            for field in self.fields.values():
                field.setText("–")
            self._scale = ("",) * 3
            self._fit()
            return
        world = viewing.crosshair if self._pointer is None else self._pointer
        space = record.grid
        unit, factor = shown_unit(space)
        fine, shown = factor > 1, np.asarray(world) * factor
        digits = max(1, decimals(space) - 3) if fine else decimals(space)
        self.fields["World"].setText(" ".join(signed(v, digits, 6 if fine else 7) for v in shown) + f" {unit}")
        voxel = space.nearest_voxel(world)
        if voxel is None:
            for name in ("Voxel", "Value", "Label"):
                self.fields[name].setText("outside" if name == "Voxel" else "–")
        else:
            self.fields["Voxel"].setText(" ".join(f"{v:3d}" for v in voxel))
            self.fields["Value"].setText(self._value(viewing.image, world))
            number = labels.at(world)
            label = labels.table.get(number) if number else None
            self.fields["Label"].setText(f"{label.number} {label.name}" if label else "none")
        self._scale = _scale(record)
        self._fit()

    def resizeEvent(self, event) -> None:
        super().resizeEvent(event)
        self._fit()

    def minimumSizeHint(self) -> QSize:
        return QSize(200, 30)  # it suits itself to the room there is

    def _fit(self) -> None:
        """Say as much as there is room for."""
        if not self._scale:
            return
        for level in range(6):
            words = min(level, 2)
            self.side.setText(self._sides[words])
            self.scale.setText(self._scale[words])
            self.scale.setToolTip(plain_tip(self._scale[0]))
            for name, field in self.fields.items():
                self.heads[name].setVisible(level < 3)
                field.setMinimumWidth(WIDTHS[name] if level < 4 else 0)
            self.fields["Voxel"].setVisible(level < 5)
            self.layout().invalidate()
            if self.layout().sizeHint().width() <= self.width():
                return

    def _value(self, image: Image, world) -> str:
        """The value at full resolution; while it is not read, that it is on its way."""
        tiles = tiles_of(image)
        if tiles is None:
            return value_text(image, world)
        text = tiles.value_text(world)
        if text is None:
            self._awaited = (image, np.asarray(world))
            self._rest.start()
        return "…" if text is None else text

    def _ask(self) -> None:
        """The pointer rests: the piece under it is worth reading."""
        if self._awaited is not None:
            self.tiles.want_value(*self._awaited)
            self._awaited = None


def shown_unit(space: Space) -> tuple[str, int]:
    """The unit in which positions on a grid are shown and typed, and how many of it a unit of the world has."""
    fine = space.unit == "mm" and min(space.spacing) < 0.02
    return ("µm", 1000) if fine else (pretty_unit(space.unit), 1)


def _scale(record: ImageRecord) -> tuple[str, str, str]:
    """The voxel size, and whether it can be trusted; as much room as there is, less, and little."""
    space = record.grid
    if space.unit == "px":
        return ("no scale, px",) * 3
    unsure = has_caveat(record.caveats, SCALE_UNSURE, SIDES_UNKNOWN)
    unit, factor = shown_unit(space)
    spacing = [factor * s for s in (space.spacing[:2] if space.shape[2] == 1 else space.spacing)]
    even = max(spacing) - min(spacing) < 1e-6 * max(spacing)
    text = f"{spacing[0]:.3g}" if even else "×".join(f"{s:.3g}" for s in spacing)
    by_hand = has_caveat(record.caveats, SCALE_BY_HAND)
    doubt = "unsure" if unsure else "by hand" if by_hand else ""
    whole = f"{f'scale {doubt}' if doubt else 'header scale'}, {text} {unit}"
    short = f"{doubt}, {text} {unit}" if doubt else f"{text} {unit}"
    return whole, short, short


class GoTo(QLineEdit):
    """Type a world position to jump there, or a voxel of the lead image after a "v"."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.desk = desk
        self.setProperty("kind", "figures")
        self.setAccessibleName("Go to a world position, or to a voxel after “v”")
        self.setToolTip("A place in the world, as in 1.5 −2 4; or a voxel, as in v 80 92 70")
        self.returnPressed.connect(self._go)
        desk.viewing.lead_changed.connect(self._suit)
        self._suit()

    def _shown(self) -> tuple[str, int]:
        record = self.desk.viewing.record
        return shown_unit(record.grid) if record is not None else ("mm", 1)

    def _suit(self) -> None:
        record = self.desk.viewing.record
        named = record.grid.world.name if record is not None else "scanner"  # a standard space has a name of its own
        where = f" of {named}" if named not in ("scanner", "picture") else ""
        self.setPlaceholderText(f"x, y, z in {self._shown()[0]}{where}")

    def _go(self) -> None:
        unit, factor = self._shown()
        record, text = self.desk.viewing.record, self.text().strip()
        by_voxel = text[:1].casefold() == "v"
        parts = text.lstrip("vV: ").replace("−", "-").replace(";", ",").replace(",", " ").split()
        try:
            place = np.array([float(p) for p in parts])
            if place.shape != (3,) or not np.all(np.isfinite(place)):
                raise ValueError
        except ValueError:
            self.desk.session.trouble.emit(
                f"A position is three numbers in {unit}: type for example 1.5, −2, 4; or a voxel, as in v 80 92 70."
            )
            return
        if by_voxel and record is not None:
            if np.any(place < -0.5) or np.any(place >= np.array(record.grid.shape) - 0.5):
                last = " ".join(str(n - 1) for n in record.grid.shape)
                self.desk.session.trouble.emit(f"There is no such voxel in “{record.name}”: type from 0 0 0 to {last}.")
                return
            self.desk.viewing.go_to(record.grid.to_world(place))
            return
        self.desk.viewing.go_to(place / factor)
