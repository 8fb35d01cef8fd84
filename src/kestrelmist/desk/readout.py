"""The Readout: position, voxel, value and label under the pointer, the side convention, and the scale."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QLineEdit, QToolButton, QWidget

from ..core.quantity import pretty_unit
from .desk_model import Desk
from .theme.theme import figures


class Readout(QWidget):
    """30 px at the bottom. Shows the pointer's place, or the crosshair's when the pointer is elsewhere."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.setObjectName("readout")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedHeight(30)
        self.desk, self._pointer = desk, None
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 0, 12, 0)
        row.setSpacing(6)
        self.fields: dict[str, QLabel] = {}
        for name, width in (("World", 218), ("Voxel", 112), ("Value", 92), ("Label", 150)):
            head, value = QLabel(name), QLabel("–")
            head.setProperty("kind", "name")
            value.setFont(figures(13))
            value.setMinimumWidth(width)
            row.addWidget(head)
            row.addWidget(value)
            self.fields[name] = value
        row.addStretch()
        self.scale = QLabel()
        self.scale.setFont(figures(13))
        self.side = QToolButton()
        self.side.setToolTip("Click to see it the other way round")
        self.side.setFocusPolicy(Qt.FocusPolicy.TabFocus)
        self.side.clicked.connect(lambda: desk.set_left_on_left(not desk.left_on_left))
        row.addWidget(self.side)
        row.addSpacing(8)
        row.addWidget(self.scale)
        for signal in (desk.crosshair_moved, desk.labels_changed, desk.image_changed, desk.look_changed):
            signal.connect(self.refresh)
        self.refresh()

    def point(self, world) -> None:
        """Follow the pointer (None: it has left the panes)."""
        self._pointer = world
        self.refresh()

    def refresh(self) -> None:
        desk = self.desk
        known = desk.record is None or desk.record.space.sides_known
        self.side.setText("Sides unknown" if not known else "Left shown on left (from above)" if desk.left_on_left else "Left shown on right (from the feet)")
        self.side.setEnabled(known)
        if desk.record is None or not desk.ready:
            for field in self.fields.values():
                field.setText("–")
            self.scale.setText("")
            return
        world = desk.crosshair if self._pointer is None else self._pointer
        unit = pretty_unit(desk.record.space.unit)
        fine = desk.record.space.unit == "mm" and min(desk.record.space.spacing) < 0.02
        shown = np.asarray(world) * (1000 if fine else 1) + 0.0
        self.fields["World"].setText(" ".join(f"{v:+7.1f}" if fine else f"{v:+7.2f}" for v in shown).replace("-", "−") + f" {'µm' if fine else unit}")
        voxel = desk.record.space.nearest_voxel(world)
        if voxel is None:
            for name in ("Voxel", "Value", "Label"):
                self.fields[name].setText("outside" if name == "Voxel" else "–")
        else:
            self.fields["Voxel"].setText(" ".join(f"{v:3d}" for v in voxel))
            self.fields["Value"].setText(desk.image.value_text(world))
            label = desk.labels.table.get(int(desk.labels.data[voxel]))
            self.fields["Label"].setText(f"{label.number} {label.name}" if label else "none")
        unsure = any("sides are unknown" in note and desk.record.space.sides_known for note in desk.record.notes)
        space = desk.record.space
        spacing = space.spacing[:2] if space.shape[2] == 1 else space.spacing
        if fine:
            spacing, unit = [1000 * s for s in spacing], "µm"
        if space.unit == "px":
            self.scale.setText("no scale, px")
            return
        text = f"{spacing[0]:.3g}" if max(spacing) - min(spacing) < 1e-6 * max(spacing) else "×".join(f"{s:.3g}" for s in spacing)
        self.scale.setText(f"{'scale unsure' if unsure else 'header scale'}, {text} {unit}")


class GoTo(QLineEdit):
    """Type a world position to jump there."""

    def __init__(self, desk: Desk, parent=None):
        super().__init__(parent)
        self.desk = desk
        self.setPlaceholderText("x, y, z in mm")
        self.setProperty("kind", "figures")
        self.setAccessibleName("Go to a world position")
        self.returnPressed.connect(self._go)

    def _go(self) -> None:
        parts = self.text().replace("−", "-").replace(";", ",").replace(",", " ").split()
        try:
            world = np.array([float(p) for p in parts])
            if world.shape != (3,) or not np.all(np.isfinite(world)):
                raise ValueError
        except ValueError:
            self.desk.trouble.emit("A position is three numbers in mm: type for example 1.5, −2, 4.")
            return
        self.desk.go_to(world)
