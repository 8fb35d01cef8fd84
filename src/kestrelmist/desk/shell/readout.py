"""The Readout: position, voxel, value and label under the pointer, the side convention, and the scale."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QSize, Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QToolButton, QWidget

from ...core.caveat import SCALE_BY_HAND, SCALE_UNSURE, SIDES_UNKNOWN, has_caveat
from ...core.digits import signed
from ...core.image import Image
from ...core.scale import scale_of
from ...scene.pieces import decimals
from ...scene.showing import shown_unit, value_text
from ...scene.tiles import tiles_of
from ...study.items import ImageRecord
from ..models.desk_model import Desk
from ..models.sight import Sight
from ..models.viewing import Viewing
from ..theme.theme import figures
from ..widgets.plain_text import Words, plain_tip

WIDTHS = {"World": 218, "Voxel": 112, "Value": 92, "Label": 150, "Standard": 0}
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
        self.tiles, self._awaited, self.standard = desk.tiles, None, desk.standard
        self._standard: list[str] = []
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
            desk.standard.changed,
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
        told = self.standard.lines(world)[:2] if self._sight is None else []
        self._standard = [value for _, value in told]
        names = ", ".join(one.name for one in self.standard.known[:1])
        self.fields["Standard"].setToolTip(plain_tip(names or "Standard"))
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
            self.fields["Standard"].setText(" · ".join(self._standard[: 2 if level < 2 else 1]))
            for part in (self.fields["Standard"], self.heads["Standard"]):
                part.setVisible(level < 4 and bool(self._standard))
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
    known = scale_of(record)
    source = "calibrated" if known.calibration else "magnified" if known.magnification else "header scale"
    whole = f"{f'scale {doubt}' if doubt else source}, {text} {unit}"
    short = f"{doubt}, {text} {unit}" if doubt else f"{text} {unit}"
    return whole, short, short
