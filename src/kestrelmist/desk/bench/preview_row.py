"""The row of a form that shows on the slice in view what would be made."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox, QVBoxLayout, QWidget

from ..models.desk_model import Desk
from ..models.previewing import Previewed
from ..widgets.plain_text import plain_tip
from .rows import soft


class PreviewRow(QWidget):
    """A box to tick, and a line that says what is to be known of what is seen."""

    def __init__(self, desk: Desk, form: Previewed):
        super().__init__()
        self.previewing, self.form = desk.previewing, form
        self.box, self.told = QCheckBox("Preview the slice in view"), soft("")
        self.box.setToolTip(plain_tip("Show in the pane what it would make of this slice; hold F to see what there is"))
        self.box.setChecked(self.previewing.on)
        self.told.hide()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(2)
        column.addWidget(self.box)
        column.addWidget(self.told)
        self._done_with: str | None = None
        self.box.clicked.connect(self._choose)
        self.previewing.changed.connect(self._tell)

    @property
    def on(self) -> bool:
        return self.box.isChecked()

    @property
    def on_again(self) -> bool:
        """Whether it is on, or would be with other settings."""
        return self.on or self._done_with is not None

    def wanted(self, settings: dict[str, Any]) -> bool:
        """Whether a preview with these settings is to be seen. After what was done with others, it is again."""
        if self._done_with is not None and self._done_with != repr(settings):
            self._done_with = None
            self.box.setChecked(self.previewing.on)
        return self.on

    def done(self, settings: dict[str, Any]) -> None:
        """The whole is worked out with these settings now, and takes the place of the preview until others are
        chosen."""
        self._done_with = repr(settings)
        self.box.setChecked(False)

    def _choose(self, on: bool) -> None:
        self._done_with = None
        self.previewing.on = on

    def _tell(self) -> None:
        words = self.previewing.words if self.isVisible() else ""
        self.told.setText(words)
        self.told.setVisible(bool(words))

    def showEvent(self, event) -> None:
        self.previewing.follow(self.form)
        super().showEvent(event)

    def hideEvent(self, event) -> None:
        self.previewing.let_go(self.form)
        super().hideEvent(event)
