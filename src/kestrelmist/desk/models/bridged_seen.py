"""Which bridged slices have been looked at: once the crosshair has been in all of a label's, no check lists it."""

from __future__ import annotations

from PySide6.QtCore import QObject, QTimer

from ...outline.slices.looked_at import left_unseen
from .hand import Hand
from .viewing import Viewing

PAUSE = 600
"""Milliseconds that the crosshair rests in a slice before what was seen is written down."""


class BridgedSeen(QObject):
    """Follows the crosshair through the label map in hand."""

    def __init__(self, viewing: Viewing, hand: Hand, run_now):
        super().__init__(viewing)
        self.viewing, self.hand, self._run_now = viewing, hand, run_now
        self.seen: set[tuple[int, int]] = set()
        """Slices (the grid's axis, number) of the map in hand."""
        self._of: object = None
        self._soon = QTimer(self, singleShot=True, interval=PAUSE)
        self._soon.timeout.connect(self._write)
        viewing.crosshair_moved.connect(self._moved)

    def _moved(self) -> None:
        labels = self.viewing.maps.labels
        if labels is None or not any(row.bridged for row in labels.table):
            return
        if self._of is not labels:
            self._of, self.seen = labels, set()
        voxel = labels.space.nearest_voxel(self.viewing.crosshair)
        if voxel is not None:
            self.seen |= {(axis, int(n)) for axis, n in enumerate(voxel)}
            self._soon.start()

    def _write(self) -> None:
        labels = self.viewing.maps.labels
        if labels is None or self._of is not labels or self.viewing.session.closed:
            return
        if self.viewing.session.study.read_only:
            return
        session = self.viewing.session
        if self.hand.gesture is not None or any(job.edits_labels for job in session.work.jobs):
            self._soon.start()  # it would end what the hand is at
            return
        if session.study.history.to_redo() is not None:
            return  # a new step would take away what can be redone; the next look writes it
        for row in list(labels.table):
            if row.bridged and not left_unseen(row, labels.space, self.seen):
                self._run_now("bridged-fine", {"label": row.name})
