"""What a form works on: the image that leads and its label map, told by name, and what is missing of them."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtWidgets import QPushButton, QVBoxLayout, QWidget

from ...core.operation import Operation, find_operation
from ...study.items import Record
from ...study.store import store_for
from ..models.desk_model import Desk
from ..widgets.plain_text import Elided, Words, plain_tip
from .form_rows import Rows
from .rows import soft


class LeadRows(QWidget):
    """Two rows at most, which it adds to those of the form, and below them a word where the label map that is needed is
    not there yet."""

    def __init__(self, desk: Desk, operation: Operation, rows: Rows, open_operation: Callable | None):
        super().__init__()
        self.desk, self.operation = desk, operation
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(4)
        lead, on_it = operation.lead, operation.on_lead
        self.of_lead = Elided(middle=True) if lead is not None and lead.required and not lead.many else None
        self.of_map = Elided(middle=True) if on_it is not None and on_it.required and not on_it.many else None
        if self.of_lead is not None and lead is not None:
            rows.add(lead.words, self.of_lead)
        if self.of_map is not None and on_it is not None:
            rows.add(on_it.words, self.of_map)
        self.lacks = soft("")
        column.addWidget(self.lacks)
        maker = operation.made_by.get(on_it.name) if on_it is not None else None
        self.make = QPushButton(find_operation(maker).title if maker else "")
        self.make.setProperty("kind", "small")
        if maker and open_operation is not None:
            self.make.clicked.connect(lambda: open_operation(find_operation(maker)))
        column.addWidget(self.make)
        rows.form.addRow(self)
        self._makes = bool(maker and open_operation)
        viewing = desk.viewing
        for signal in (viewing.lead_changed, viewing.lead_ready, viewing.maps.changed, desk.marks.listed):
            signal.connect(self._tell)
        self._tell()

    def _tell(self) -> None:
        viewing = self.desk.viewing
        record, on_it = viewing.record, self.operation.on_lead
        if self.of_lead is not None:
            self._put(self.of_lead, "nothing leads yet" if record is None else f"{record.name} of {record.subject}")
        lacking = ""
        if self.of_map is not None and on_it is not None:
            found = None if record is None else store_for(on_it.thing_kind).on(self.desk.study, record)
            there = found if isinstance(found, Record) else None
            self._put(self.of_map, "none yet" if there is None else there.name)
            shown = viewing.maps.map
            of_it = shown is not None and there is not None and shown.id == there.id
            empty = of_it and viewing.maps.labels is not None and not len(viewing.maps.labels.table)
            if (there is None or empty) and self.operation.edited is None and record is not None:
                lacking = f"“{record.name}” has {on_it.kind.lacking}."
        self.lacks.setText(lacking)
        self.lacks.setVisible(bool(lacking))
        self.make.setVisible(bool(lacking) and self._makes)

    def _put(self, words: Words, text: str) -> None:
        words.setText(text)
        words.setToolTip(plain_tip(text))
