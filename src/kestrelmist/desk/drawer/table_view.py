"""The look that all tables of the window share."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QTableView


def plain_view(row_height: int) -> QTableView:
    """Rows in two shades without a grid, chosen whole; headings stand left."""
    view = QTableView()
    view.verticalHeader().hide()
    view.verticalHeader().setDefaultSectionSize(row_height)
    view.setAlternatingRowColors(True)
    view.setShowGrid(False)
    view.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
    view.horizontalHeader().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    return view
