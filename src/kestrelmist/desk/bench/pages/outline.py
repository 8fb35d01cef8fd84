"""The Outline stage: label maps, labels, tools and their settings, and more operations by name."""

from __future__ import annotations

from ...tool import TOOLS
from ..page import PAGES, BenchContext, OperationPages, Page
from ..rows import page, soft, title

BY_HAND = ("grow", "paint", "erase", "add-label", "change-label", "new-labels", "choose-labels")
"""Operations that have a place of their own on the page."""


class OutlineBench(OperationPages):
    """Its groups follow the tool in hand."""

    def __init__(self, context: BenchContext):
        home, column = page()
        super().__init__(context.desk, home)
        self.viewing = context.desk.viewing
        self.subject = soft()
        column.addWidget(title("Outline"))
        column.addWidget(self.subject)
        self.add_groups(context, "Outline", column)
        self.add_headings("Outline", column, (*BY_HAND, *(tool.name for tool in TOOLS)))
        self.viewing.lead_changed.connect(self._follow)
        self._follow()

    def _follow(self) -> None:
        record = self.viewing.record
        words = f"Mark anatomy as labels on “{record.name}” of {record.subject}." if record else ""
        self.subject.setText(words or "Choose an image on the Shelf.")


PAGES.add("Outline", Page("Outline", OutlineBench))
