"""Two parts of a row, which stand below one another where there is no room for both."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QBoxLayout, QHBoxLayout, QSizePolicy, QWidget


class FoldingRow(QWidget):
    """A first part on the left and a second on the right, or the second below the first."""

    folded = Signal(bool)

    def __init__(self, spacing: int = 6):
        super().__init__()
        self.first, self.second = QHBoxLayout(), QHBoxLayout()
        self._both = QBoxLayout(QBoxLayout.Direction.LeftToRight, self)
        self._both.setContentsMargins(0, 0, 0, 0)
        for part in (self.first, self.second):
            part.setSpacing(spacing)
            self._both.addLayout(part)
        self._both.setSpacing(spacing)
        self._both.setStretch(1, 1)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)

    @property
    def is_folded(self) -> bool:
        """Whether one part stands below the other."""
        return self._both.direction() == QBoxLayout.Direction.TopToBottom

    def fit(self) -> None:
        """Fold or unfold, as the room is."""
        for part in (self.first, self.second):
            part.invalidate()  # of what has just been hidden it would still have the width
        wanted = self.first.sizeHint().width() + self.second.sizeHint().width() + self._both.spacing()
        fold = wanted > self.width()
        if fold != self.is_folded:
            way = QBoxLayout.Direction
            self._both.setDirection(way.TopToBottom if fold else way.LeftToRight)
            self._both.setStretch(1, 0 if fold else 1)
            self.updateGeometry()
            self.folded.emit(fold)

    def minimumSizeHint(self):
        hint = super().minimumSizeHint()
        widest = max(self.first.minimumSize().width(), self.second.minimumSize().width())
        hint.setWidth(widest)
        return hint

    def resizeEvent(self, event) -> None:
        self.fit()
        super().resizeEvent(event)
