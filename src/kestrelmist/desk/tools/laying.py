"""Lay the layer above on the image that leads, by hand: a drag shifts it, the ring turns it, a corner scales it."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import Qt

from ...core.errors import Trouble
from ...core.quantity import pretty_unit
from ...scene.hand_ring import grip_at, hand_ring, told_at
from ...scene.pieces import at_pixel
from ...scene.primitives import Primitive
from ...scene.view import View
from ..light_table.qt_painter import width_of
from ..models.desk_model import Desk
from ..models.laying import Move
from ..theme.theme import icon_or
from ..tool import Gesture, Tool, ToolEvent, register

FINE = 0.1
"""Of every move while Shift is held."""
STEPS = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
DEGREE, PERCENT = 1.0, 0.01
"""What a key turns or scales by."""


def share_of(event: ToolEvent) -> float:
    return FINE if event.modifiers & Qt.KeyboardModifier.ShiftModifier else 1.0


class HandMove(Gesture):
    """One move, from press to release, in the plane of a pane; all panes show it."""

    def __init__(self, event: ToolEvent, grip: str):
        self.desk, self.grip = event.desk, grip
        self.record = event.desk.laying.require()
        self.about = tuple(np.asarray(event.desk.viewing.crosshair, float).tolist())
        self.at = np.asarray(event.world, float)
        self.shift, self.angle, self.size = np.zeros(3), 0.0, 1.0
        right, down = np.asarray(event.view.rightward), np.asarray(event.view.downward)
        self.right, self.down, self.normal = right, down, np.cross(right, down)

    def _polar(self, world: np.ndarray) -> tuple[float, float]:
        away = world - np.asarray(self.about)
        across, along = float(away @ self.right), float(away @ self.down)
        return float(np.hypot(across, along)), float(np.degrees(np.arctan2(along, across)))

    def move(self, event: ToolEvent) -> None:
        now, share = np.asarray(event.world, float), share_of(event)
        (far, angle), (before, was) = self._polar(now), self._polar(self.at)
        if self.grip == "turn":
            self.angle += share * ((angle - was + 180) % 360 - 180)
        elif self.grip == "scale":
            self.size *= (max(far, event.view.pixel) / max(before, event.view.pixel)) ** share
        else:
            step = now - self.at
            self.shift = self.shift + share * (step - (step @ self.normal) * self.normal)
        self.at = now
        self.desk.laying.show(self.record, self._made())

    def _made(self) -> Move:
        turn = self.angle * self.normal
        return Move(self.about, tuple(self.shift.tolist()), tuple(turn.tolist()), self.size)  # type: ignore[arg-type]

    def words(self) -> str:
        """What was done so far."""
        if self.grip == "turn":
            return f"turned by {self.angle:.1f}°"
        if self.grip == "scale":
            return f"scaled by {self.size:.3f}"
        unit = pretty_unit(self.record.grid.unit)
        return f"{float(np.linalg.norm(self.shift)):.4g} {unit}"

    def over(self, view: View) -> list[Primitive]:
        here = abs(float(np.cross(view.rightward, view.downward) @ self.normal)) > 0.99
        if not here:
            return []
        text = self.words()
        turned = self.angle if self.grip == "turn" else 0.0
        return [*hand_ring(view, self.about, self.grip, turned), *told_at(view, self.about, text, width_of(text))]

    def key(self, key: Qt.Key) -> bool:
        if key == Qt.Key.Key_Escape:
            self.desk.hand.cancel_gesture()
            return True
        return False

    def finish(self) -> None:
        made = self._made()
        if made.empty:
            self.desk.laying.show(self.record, None)
        else:
            self.desk.laying.keep(self.record, made)

    def cancel(self) -> None:
        self.desk.laying.show(self.record, None)


def _start(event: ToolEvent) -> Gesture | None:
    at = at_pixel(event.view, event.world)
    try:
        return HandMove(event, grip_at(event.view, event.desk.viewing.crosshair, at))
    except Trouble as trouble:
        event.desk.session.trouble.emit(str(trouble))
        return None


def _key(event: ToolEvent, key: Qt.Key) -> bool:
    """Arrows shift by a voxel; with Alt, left and right turn by a degree, up and down scale by a hundredth; with
    Shift, a tenth of each."""
    if key not in STEPS:
        return False
    across, along = STEPS[key]
    desk, view, share = event.desk, event.view, share_of(event)
    right, down = np.asarray(view.rightward), np.asarray(view.downward)
    about = tuple(np.asarray(desk.viewing.crosshair, float).tolist())
    try:
        record = desk.laying.require()
    except Trouble as trouble:
        desk.session.trouble.emit(str(trouble))
        return True
    lead = desk.viewing.record
    if event.modifiers & Qt.KeyboardModifier.AltModifier:
        turn = share * DEGREE * across * np.cross(right, down)
        made = Move(about, turn=tuple(turn.tolist()), scale=(1 + PERCENT * share) ** -along)  # type: ignore[arg-type]
    else:
        voxel = min(s for s, n in zip(lead.grid.spacing, lead.grid.shape) if n > 1) if lead else view.pixel
        made = Move(about, tuple((share * voxel * (across * right + along * down)).tolist()))  # type: ignore[arg-type]
    desk.laying.show(record, made)  # it lies there already when its values are read again
    desk.laying.keep(record, made)
    return True


def _hover(view: View, desk: Desk, world: np.ndarray) -> list[Primitive]:
    if desk.hand.gesture is not None or desk.laying.moves is None:
        return []
    crosshair = desk.viewing.crosshair
    return hand_ring(view, crosshair, grip_at(view, crosshair, at_pixel(view, world)))


register(
    Tool(
        "lay",
        "Lay by hand",
        icon_or("move-3d", "crosshair"),
        "Drag to shift what lies above; the ring turns it and a corner scales it, about the crosshair. Arrow keys go by"
        " a voxel, with Alt they turn and scale; Shift makes all ten times finer.",
        _start,
        ("Align",),
        ("lay",),
        Qt.CursorShape.SizeAllCursor,
        _hover,
        key=_key,
        offered=False,
        order=12,
        more="move shift rotate turn scale nudge drag manual registration align by hand transform layer",
    )
)
