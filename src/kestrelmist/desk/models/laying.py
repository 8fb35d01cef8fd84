"""Laying by hand: which layer moves over the image that leads, and how far a hand has moved it so far."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...align.lay import hand_matrix
from ...core.errors import Trouble
from ...study.items import ImageRecord
from .layers import Layers
from .viewing import Viewing

Three = tuple[float, float, float]


@dataclass(frozen=True)
class Move:
    """A move of the hand: turn (degrees, an axis as long as the angle is wide) and scale about a place (mm), then a
    shift (mm)."""

    about: Three
    shift: Three = (0.0, 0.0, 0.0)
    turn: Three = (0.0, 0.0, 0.0)
    scale: float = 1.0

    @property
    def matrix(self) -> np.ndarray:
        return hand_matrix(self.shift, self.turn, self.scale, self.about)

    @property
    def empty(self) -> bool:
        return not any(self.shift) and not any(self.turn) and self.scale == 1.0


class Laying(QObject):
    """What moves, and the move under way."""

    changed = Signal()

    def __init__(self, viewing: Viewing, layers: Layers):
        super().__init__(viewing)
        self.viewing, self.layers, self.session = viewing, layers, viewing.session
        self.move: Move | None = None
        for signal in (layers.changed, viewing.lead_changed, viewing.lead_ready):
            signal.connect(self.changed)

    @property
    def moves(self) -> ImageRecord | None:
        """The image that moves: the layer that is chosen, or the uppermost one that is shown over the one that leads;
        None when nothing lies over it."""
        above = [row for row in self.layers.rows if not row.leads]
        chosen = [row for row in above if row.record.id == self.layers.chosen]
        return next((row.record for row in (*chosen, *(r for r in above if r.layer.shown))), None)

    def require(self) -> ImageRecord:
        """The image that moves; raises Trouble when there is none, or it cannot be moved."""
        record, image = self.moves, None
        if record is None:
            raise Trouble("Nothing lies over this image", "drag the card of the one that is to move onto the picture")
        self.session.study.catalogue.require_writable()
        image = self.layers.image(record.id)
        if image is None:
            raise Trouble(f"“{record.name}” is still being read", "wait a moment")
        if image.through is not None:
            raise Trouble(
                f"“{record.name}” is seen through a transform that bends space",
                "bring it through first (“Bring through transforms”), and move that",
            )
        return record

    def show(self, record: ImageRecord, move: Move | None) -> None:
        """Draw it where the hand has it so far."""
        self.move = move
        self.layers.show_moved(record.id, None if move is None else move.matrix)

    def keep(self, record: ImageRecord, move: Move) -> bool:
        """Keep a move, as a step that can be undone; returns whether it was."""
        self.move = None
        return self.do(record, {"shift": move.shift, "turn": move.turn, "scale": move.scale, "about": move.about})

    def do(self, record: ImageRecord, settings: dict[str, Any]) -> bool:
        """Lay an image on the one that leads by these settings of the operation."""
        lead = self.viewing.record
        if lead is None:
            return False
        given = {"image": record.id, "onto": lead.id} | settings
        kept = self.session.run_now("lay-by-hand", given, replace(self.viewing.lead))
        if not kept:
            self.layers.show_moved(record.id, None)
        return kept
