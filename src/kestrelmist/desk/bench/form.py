"""The plain form of an operation, made from its signature."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFormLayout,
    QHBoxLayout,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...core.digits import plain
from ...core.errors import Trouble
from ...core.name_pattern import has_places, with_place
from ...core.operation import Operation
from ...core.parameter import Parameter
from ...core.quantity import pretty_unit
from ...study.inputs import likely
from ..desk_model import Desk
from ..number_field import number
from ..plain_text import Words, plain_tip
from .companion import COMPANIONS, Ready
from .fields import FramedField, PathField, PlaceField, PointsField, ThingField, ThingsField
from .found_field import FoundField
from .preview_row import PreviewRow
from .rows import soft, title
from .telling import Telling

FIELDS_OF_ROLES = ("place", "area", "box", "points", "label", "secret")
"""Roles of settings that have fields of their own."""
LARGEST = 1e15
"""The largest number that may be typed where nothing else limits it."""


class OperationForm(QWidget):
    """Fields for the settings and further inputs, a word on what the operation does, and the button that runs it. The
    first image and the first label map are those in the lead pane."""

    def __init__(self, desk: Desk, operation: Operation, back=None):
        super().__init__()
        self.desk, self.viewing, self.operation = desk, desk.viewing, operation
        self.fields: dict[str, QWidget] = {}
        self._values: dict[str, Callable[[], Any]] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(title(operation.title))
        column.addWidget(soft(operation.summary))
        form = QFormLayout()
        form.setSpacing(7)
        form.setFieldGrowthPolicy(QFormLayout.FieldGrowthPolicy.AllNonFixedFieldsGrow)
        led = [operation.lead, operation.on_lead]
        for p in operation.parameters:
            if p.kind.family == "study" or p.role == "mark" or (p in led and p.required and not p.many):
                continue
            field, value = self._field(p)
            field.setToolTip(plain_tip(p.help))
            field.setAccessibleName(p.words)
            self.fields[p.name], self._values[p.name] = field, value
            form.addRow(Words(p.words), field)
        self._rows = form
        self._show_what_counts()
        for field in self.fields.values():
            if isinstance(field, FramedField) and isinstance(self.fields.get("pixels"), QComboBox):
                field.framed.connect(self._use_area)
        column.addLayout(form)
        make = COMPANIONS.get(operation.name)
        self.companion = make(desk, self) if make is not None else None
        if self.companion is not None:
            column.addWidget(self.companion)
        self.along = self._along()
        self.others: ThingsField | None = None
        self.more = self._more(column)
        for widget in (self.along, self.more):
            if widget is not None:
                column.addWidget(widget)
        self.preview = PreviewRow(desk, self) if led[0] is not None and operation.reach is not None else None
        if self.preview is not None:
            column.addWidget(self.preview)
        self.telling = Telling(desk, self, self)
        self.trouble = Words()
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

    def _along(self) -> QCheckBox | None:
        """Whether the labels of the image come along onto the new one; None where none is made, or there are no
        labels."""
        labels, about = self.viewing.labels, self.operation
        makes = about.stage == "prepare" and not about.acts and any(r.kind.leads for r in about.results)
        if not makes or self.operation.lead is None or labels is None or not labels.counts[1:].any():
            return None
        box = QCheckBox("Bring its labels along")
        box.setToolTip(plain_tip("The labels in hand are brought onto the new image too, by position and majority"))
        return box

    def _more(self, column: QVBoxLayout) -> QPushButton | None:
        """A button that opens a list of more images to do the same to; None where no image is worked on, or none is
        there."""
        first = self.operation.lead
        if first is None or first.many or self.operation.acts or len(self.desk.study.records()) < 2:
            return None
        button = QPushButton("Do it to others too")
        button.setProperty("kind", "link")

        def open_list() -> None:
            lead = self.viewing.record.id if self.viewing.record is not None else None
            self.others = ThingsField(self.desk.study, "image", lead)
            self.others.setAccessibleName("More images to do it to")
            for p in self._names_of_files():
                field = self.fields[p.name].field  # type: ignore[attr-defined]
                field.setText(with_place(field.text()))
                field.setPlaceholderText("{subject} {name}")
                field.setToolTip(plain_tip("{subject}, {visit}, {name} and {number} are filled in for each image"))
            column.replaceWidget(button, self.others)
            button.hide()

        button.clicked.connect(open_list)
        return button

    def _field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        if p.left_out is not None and p.kind.field in ("number", "numbers", "text") and p.role not in FIELDS_OF_ROLES:
            return self._found_field(p)
        make = getattr(self, f"_{p.kind.field}_field")
        return make(p)

    def _found_field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        record = self.viewing.record
        unit = (record.unit if record is not None else "") if p.unit == "value" else p.unit
        field = FoundField(p, unit)
        return field, field.value

    # one method a kind of field, named in the kinds

    def _thing_field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        study, viewing = self.desk.study, self.viewing
        kind = p.thing_kind
        lead = viewing.record.id if viewing.record is not None else None
        if p.many:
            several = ThingsField(study, kind, lead)
            return several, several.value
        one = ThingField(study, p, self._chosen(p))
        return one, one.value

    def _chosen(self, p: Parameter) -> int | None:
        """What is surely meant: what leads, or what would be found if nothing were named."""
        if p == self.operation.lead or p.kind.family == "record":
            return self.desk.lead.thing  # another one is wanted only when it is asked for
        return likely(self.desk.study, self.operation, p, self.desk.lead)

    def _choice_field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        field = QComboBox()
        for choice in p.choices:
            field.addItem(str(choice), choice)
        if p.left_out is not None:
            field.insertItem(0, p.left_out.words, None)
            field.setCurrentIndex(0)
        elif not p.required:
            field.setCurrentIndex(p.choices.index(p.default))
        return field, field.currentData

    def _tick_field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        if p.optional:
            choice = QComboBox()
            for words, value in (("leave", None), ("yes", True), ("no", False)):
                choice.addItem(words, value)
            return choice, choice.currentData
        field = QCheckBox()
        field.setChecked(bool(p.default))
        return field, field.isChecked

    def _number_field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        if p.optional or p.many:
            return self._text_field(p)
        record, image, settings = self.viewing.record, self.viewing.image, self.desk.hand.settings
        of_image = p.unit == "value"
        unit = record.unit if of_image and record else "" if of_image else p.unit
        low, high = max(p.low, -LARGEST), min(p.high, LARGEST)
        whole = p.kind.type is int
        start_at = low if p.low < 0 or whole else 0.0
        field = number(start_at, high, 0 if whole else 3, pretty_unit(unit), p.words, whole=whole)
        if of_image and image is not None and image.in_memory:
            field.suit_values(*image.grey().display_range())
        start = {"low": settings.low, "high": settings.high} if of_image else {}
        default = 0.0 if p.required else p.default
        field.setValue(start.get(p.name, default))
        return field, field.value

    def _numbers_field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        if p.role == "area":
            area = FramedField(self.desk, "area", "column, row, columns, rows", "Frame an area on the picture")
            return area, area.value
        if p.role == "box":
            box = FramedField(self.desk, "voxels", "i, j, k to i, j, k", "Frame a box in the panes")
            return box, box.value
        if p.role == "points":
            points = PointsField(self.desk)
            return points, points.value
        if p.role == "place":
            place = PlaceField(self.viewing)
            return place, place.value
        field, value = self._text_field(p)
        assert isinstance(field, QLineEdit)
        if p.unit == "mm" and p.required and self.viewing.record is not None and p.length == 3:
            field.setText(", ".join(plain(v) for v in self.viewing.record.grid.spacing))
        return field, value

    def _path_field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        field = PathField(p.role or "file")
        return field, field.value

    def _text_field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        if p.role == "label":
            return self._label_field(p)
        start = "" if p.required or p.default is None else p.default
        field = QLineEdit(", ".join(plain(v) for v in start) if isinstance(start, tuple) else str(start))
        field.setProperty("kind", "figures")
        if p.unit and p.unit != "value" and p.kind.field == "number":
            field.setPlaceholderText(pretty_unit(p.unit))
        if p.role == "secret":
            field.setEchoMode(QLineEdit.EchoMode.Password)
        return field, lambda: field.text().strip() or None

    def _label_field(self, p: Parameter) -> tuple[QWidget, Callable[[], Any]]:
        field = QComboBox()
        field.setEditable(True)
        labels = self.viewing.labels
        field.addItems([row.name for row in labels.table] if labels is not None else [])
        if isinstance(p.default, str):  # what it is called unless somebody chooses another
            field.setCurrentText(p.default)
        elif self.desk.hand.label:
            field.setCurrentText(self.desk.hand.label.name)
        return field, field.currentText

    def _use_area(self) -> None:
        """An area was framed to be used: the choice that leaves the pixels alone gives way to the first that does
        not."""
        pixels = self.fields["pixels"]
        if isinstance(pixels, QComboBox) and pixels.currentIndex() == 0:
            pixels.setCurrentIndex(1)

    def _show_what_counts(self) -> None:
        """Rows of settings come and go with the choice that they count with."""
        for name in {p.only.setting for p in self.operation.parameters if p.only is not None}:
            field = self.fields[name]
            if isinstance(field, QComboBox):
                field.currentIndexChanged.connect(self._show_rows)
            elif isinstance(field, QCheckBox):
                field.toggled.connect(self._show_rows)
        self._show_rows()

    def _show_rows(self) -> None:
        for name, field in self.fields.items():
            self._rows.setRowVisible(field, not self._idle(name))

    def _idle(self, name: str) -> bool:
        only = next(p.only for p in self.operation.parameters if p.name == name)
        return only is not None and self._values[only.setting]() not in only.choices

    def values(self) -> dict[str, Any]:
        """What the fields hold: settings checked by the operation, things by their ids; raises Trouble."""
        inputs = {p.name for p in self.operation.inputs}
        given = {name: value() for name, value in self._values.items() if not self._idle(name)}
        given = {name: value for name, value in given.items() if value is not None and value != []}
        settings = self.operation.checked({n: v for n, v in given.items() if n not in inputs})
        return settings | {n: v for n, v in given.items() if n in inputs}

    def wanted(self) -> dict[str, Any] | None:
        """See `previewing.Previewed`."""
        if self.preview is None or not self.preview.on_again:
            return None
        values = self.values()
        return values if self.preview.wanted(values) else None

    def run(self) -> None:
        try:
            given = self.values()
            if isinstance(self.companion, Ready):
                self.companion.require_ready()
        except Trouble as trouble:
            self.trouble.setText(str(trouble))
            self.trouble.show()
            return
        others = self.others.value() if self.others is not None else []
        one_name = [p for p in self._names_of_files() if given.get(p.name) and not has_places(str(given[p.name]))]
        if others and one_name:
            words = "write {name}, {subject}, {visit} or {number} into it"
            self.trouble.setText(str(Trouble(f"All images would get one file for {one_name[0].words.lower()}", words)))
            self.trouble.show()
            return
        self.trouble.hide()
        if self.preview is not None:
            self.preview.done(given)
        source = self.viewing.map if self.along is not None and self.along.isChecked() else None
        first = self._numbered(given, 1) if others else given
        self.desk.run(self.operation.name, first, None if source is None else self._bring(source.id))
        lead = self.viewing.record.id if self.viewing.record is not None else None
        others = [key for key in others if key != lead]  # another one may lead since the list was opened
        for n, key in enumerate(others, 2):
            self.desk.session.run(self.operation.name, self._for_another(self._numbered(given, n), key))

    def _names_of_files(self) -> list[Parameter]:
        """Settings that name new files."""
        return [p for p in self.operation.settings if p.role == "new" and p.name in self.fields]

    def _numbered(self, given: dict[str, Any], n: int) -> dict[str, Any]:
        """With a number in the names of files: none of several is there yet when all are begun."""
        named = {p.name: str(given[p.name]).replace("{number}", str(n)) for p in self._names_of_files()
                 if given.get(p.name)}  # fmt: skip
        return given | named

    def _for_another(self, given: dict[str, Any], key: int) -> dict[str, Any]:
        """The same for another image: what lies on the one that leads, such as a mask, is left out."""
        first = self.operation.lead
        assert first is not None
        items, lead = self.desk.study.items, self.viewing.record
        kept = {}
        for name, value in given.items():
            record = items.get(value) if isinstance(value, int) and self._is_of_another(name) else None
            if record is None or lead is None or record.of != lead.id:
                kept[name] = value
        return kept | {first.name: key}

    def _is_of_another(self, name: str) -> bool:
        return any(p.name == name and p.kind.of for p in self.operation.inputs)

    def _bring(self, source: int) -> Callable[[Any], None]:
        """What is done once the new image is there."""

        def bring(kept: Any) -> None:
            made = next((v for v in (kept.values() if isinstance(kept, dict) else [kept]) if isinstance(v, list)), None)
            for key in made or ():
                self.desk.session.run("bring-labels", {"image": key, "source": source})

        return bring
