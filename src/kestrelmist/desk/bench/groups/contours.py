"""What can be done with contours: fill the chosen one or all, copy it on, mirror it."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QGridLayout, QPushButton

from ...tools.contouring import chosen_contour, copy_chosen, fill_all, fill_chosen
from ...widgets.plain_text import plain_tip
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded


class ContoursGroup(Shaded):
    """Buttons that follow which contour is chosen."""

    def __init__(self, context: BenchContext):
        super().__init__()
        self.desk = context.desk
        self.buttons: dict[str, QPushButton] = {}
        grid = QGridLayout()
        grid.setContentsMargins(0, 0, 0, 0)
        grid.setSpacing(4)
        acts: tuple[tuple[str, str, str, Callable[[], object]], ...] = (
            (
                "fill",
                "Fill",
                "Give the voxels within the chosen contour to its label (F)",
                lambda: fill_chosen(self.desk),
            ),
            ("all", "Fill all", "The same for every contour of the marks in hand", lambda: fill_all(self.desk)),
            ("next", "Copy on", "Copy the chosen contour to the next slice, and go there (C)", self._copy),
            ("mirror", "Mirror", "Copy the chosen contour to the other side of the image’s middle (X)", self._mirror),
        )
        for n, (name, title, tip, act) in enumerate(acts):
            button = QPushButton(title)
            button.setProperty("kind", "small")
            button.setToolTip(plain_tip(tip))
            button.clicked.connect(lambda _=False, act=act: act())
            grid.addWidget(button, n // 2, n % 2)
            self.buttons[name] = button
        self.column.addLayout(grid)
        self.desk.marks.changed.connect(self._follow)
        self.desk.marks.listed.connect(self._follow)
        self._follow()

    def _follow(self) -> None:
        chosen = chosen_contour(self.desk) is not None and self.desk.marks.live is None
        for name, button in self.buttons.items():
            button.setEnabled(chosen or (name == "all" and bool(self.desk.marks.marks)))

    def _copy(self) -> None:
        copy_chosen(self.desk, 1)

    def _mirror(self) -> None:
        mark, key = chosen_contour(self.desk), self.desk.marks.key
        if mark is not None and key is not None:
            self.desk.run_now("mirror-marks", {"marks": key, "which": str(mark.id)})


GROUPS.add("contours", Group("contours", "Outline", ContoursGroup, 42, of_tool=True))
