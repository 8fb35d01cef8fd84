"""The plain form of an operation, made from its signature."""

from __future__ import annotations

from typing import Any

from PySide6.QtWidgets import QCheckBox, QComboBox, QFormLayout, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from ...core.errors import Trouble
from ...core.operation import Operation, Parameter
from ..desk_model import Desk
from .fields import AreaField, PathField
from .rows import number, soft, title


class OperationForm(QWidget):
    """Fields for the settings, a word on what the operation does, and the button that runs it."""

    def __init__(self, desk: Desk, operation: Operation, back=None):
        super().__init__()
        self.desk, self.operation = desk, operation
        self.fields: dict[str, QWidget] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(title(operation.title))
        column.addWidget(soft(operation.summary))
        form = QFormLayout()
        form.setSpacing(7)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.ExpandingFieldsGrow)
        for p in operation.settings:
            field = self._field(p)
            field.setToolTip(p.help)
            self.fields[p.name] = field
            form.addRow(p.words, field)
        for field in self.fields.values():
            if isinstance(field, AreaField) and isinstance(self.fields.get("pixels"), QComboBox):
                field.framed.connect(self._use_area)
        column.addLayout(form)
        self.trouble = QLabel()
        self.trouble.setProperty("kind", "wrong")
        self.trouble.setWordWrap(True)
        self.trouble.hide()
        column.addWidget(self.trouble)
        buttons = QHBoxLayout()
        self.apply = QPushButton("Do it")
        self.apply.setProperty("kind", "primary")
        self.apply.clicked.connect(self.run)
        if back:
            away = QPushButton("Back")
            away.clicked.connect(back)
            buttons.addWidget(away)
        buttons.addWidget(self.apply, 1)
        column.addLayout(buttons)

    def _field(self, p: Parameter) -> QWidget:
        desk = self.desk
        if p.choices:
            field = QComboBox()
            for choice in p.choices:
                field.addItem(str(choice), choice)
            if not p.required:
                field.setCurrentIndex(p.choices.index(p.default))
        elif p.kind is bool:
            field = QCheckBox()
            field.setChecked(bool(p.default))
        elif p.role == "label":
            field = QComboBox()
            field.setEditable(True)
            field.addItems([row.name for row in desk.labels.table] if desk.labels else [])
            if p.default == "":
                field.setCurrentText("")
            elif desk.label:
                field.setCurrentText(desk.label.name)
        elif p.kind in (float, int) and not p.optional:
            unit = desk.record.unit if p.unit == "value" and desk.record else p.unit if p.unit != "value" else ""
            low, high = max(p.low, -1e9), min(p.high, 1e9)
            field = number(low if p.low < 0 or p.kind is int else 0.0, high, 0 if p.kind is int else 3, unit, p.words)
            settings = {"low": desk.settings.low, "high": desk.settings.high} if p.unit == "value" else {}
            field.setValue(settings.get(p.name, 0.0 if p.required else p.default))
        elif p.kind is tuple and p.length == 4 and p.unit == "px":
            field = AreaField(desk)
        elif p.role == "new":
            field = PathField("new")
        elif p.role == "file":
            field = PathField("file")
        elif p.role == "folder":
            field = PathField("folder")
        else:
            field = QLineEdit("" if p.required or p.default is None else str(p.default))
            field.setProperty("kind", "figures")
            if p.role == "secret":
                field.setEchoMode(QLineEdit.EchoMode.Password)
            if p.kind is tuple and p.unit == "mm" and p.required:
                field.setText(", ".join(f"{v:.3f}" for v in desk.crosshair))
        field.setAccessibleName(p.words)
        return field

    def _use_area(self) -> None:
        """An area was framed to be used: the choice that leaves the pixels alone gives way to the first that does not."""
        pixels = self.fields["pixels"]
        if pixels.currentIndex() == 0:
            pixels.setCurrentIndex(1)

    def values(self) -> dict[str, Any]:
        """What the fields hold, checked by the operation; raises Trouble."""
        given: dict[str, Any] = {}
        for p in self.operation.settings:
            field = self.fields[p.name]
            if isinstance(field, QComboBox):
                value: Any = field.currentData() if p.choices else field.currentText()
            elif isinstance(field, QCheckBox):
                value = field.isChecked()
            elif isinstance(field, (QLineEdit, PathField, AreaField)):
                value = field.text().strip() or None
            else:
                value = field.value()
            if value is not None:
                given[p.name] = value
        return self.operation.checked(given)

    def run(self) -> None:
        try:
            given = self.values()
        except Trouble as trouble:
            self.trouble.setText(str(trouble))
            self.trouble.show()
            return
        self.trouble.hide()
        self.desk.run(self.operation.name, given)
