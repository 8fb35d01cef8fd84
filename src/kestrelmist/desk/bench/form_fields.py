"""One field for each kind of setting: the widget, what it holds, and how it is given something."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from PySide6.QtWidgets import QCheckBox, QComboBox, QLineEdit, QWidget

from ...core.digits import plain
from ...core.operation import Operation
from ...core.parameter import Parameter
from ...core.quantity import pretty_unit
from ...scene.showing import display_range
from ...study.inputs import likely
from ..models.desk_model import Desk
from ..widgets.number_field import number
from .fields import FramedField, NamesBox, PathField, PlaceField, PointsField, ThingField, ThingsField
from .found_field import FoundField
from .suited import listed, suited, times, with_unit
from .unit_line import UnitLine

LARGEST = 1e15
"""The largest number that may be typed where nothing else limits it."""
OWN_FIELD = ("place", "area", "box", "points", "label", "secret")
"""Roles of settings that have fields of their own."""


@dataclass(frozen=True)
class FormField:
    """A field of a form.

    Parameters
    ----------
    widget : QWidget
    value : callable
        What it holds, as `Operation.checked` takes it; None for nothing.
    put : callable, optional
        Fills it with a setting as it is used. None for what belongs to the moment: things, places, files, secrets.
    """

    widget: QWidget
    value: Callable[[], Any]
    put: Callable[[Any], None] | None = None
    fill: Callable[[Any], None] | None = None
    """Put a value in, also where it is not one that is remembered; `put` when left out."""


def field_for(desk: Desk, operation: Operation, p: Parameter) -> FormField:
    """The field of a parameter."""
    makes = {
        "thing": _thing,
        "choice": _choice,
        "tick": _tick,
        "number": _number,
        "numbers": _numbers,
        "path": _path,
        "text": _text,
    }
    if p.left_out is not None and p.kind.field in ("number", "numbers", "text") and p.role not in OWN_FIELD:
        return _found(desk, p)
    return makes[p.kind.field](desk, operation, p)


def _found(desk: Desk, p: Parameter) -> FormField:
    record = desk.viewing.record
    unit = (record.unit if record is not None else "") if p.unit == "value" else p.unit
    field = FoundField(p, unit)
    shown, factor = suited(record, unit, p.role)
    if p.kind.field == "number":
        field.shown, field.factor = shown, factor
        return FormField(field, field.value, field.put if p.unit != "value" else None)
    field.shown = shown

    def value() -> str | None:
        text = field.value()
        return text if text is None or factor == 1.0 else with_unit(text, shown)

    return FormField(field, value, field.put)


def _thing(desk: Desk, operation: Operation, p: Parameter) -> FormField:
    lead = desk.lead.thing
    if p.many:
        several = ThingsField(desk.study, p.thing_kind, lead)
        desk.session.shelf_changed.connect(several.follow)
        return FormField(several, several.value, None, several.choose)
    inputs, on_it = operation.inputs, operation.on_lead
    elsewhere = on_it is not None and not p.required and inputs.index(on_it) < inputs.index(p)
    if p == operation.lead and elsewhere:
        chosen = None  # the work is on what is of the one that leads, such as its marks, and goes to another one
    elif p == operation.lead or p.kind.family == "record":
        chosen = lead  # another one is wanted only when it is asked for
    else:
        chosen = likely(desk.study, operation, p, desk.lead)
    one = ThingField(desk.study, p, chosen)
    desk.session.shelf_changed.connect(one.follow)
    return FormField(one, one.value, None, one.choose)


def _choice(desk: Desk, operation: Operation, p: Parameter) -> FormField:
    field = NamesBox()
    for choice in p.choices:
        field.addItem(str(choice), choice)
    if p.left_out is not None:
        field.insertItem(0, p.left_out.words, None)
        field.setCurrentIndex(0)
    elif not p.required:
        field.setCurrentIndex(p.choices.index(p.default))
    return FormField(field, field.currentData, lambda value: field.setCurrentIndex(max(0, field.findData(value))))


def _tick(desk: Desk, operation: Operation, p: Parameter) -> FormField:
    if p.optional:
        choice = QComboBox()
        for words, value in (("leave", None), ("yes", True), ("no", False)):
            choice.addItem(words, value)
        return FormField(choice, choice.currentData)
    field = QCheckBox()
    field.setChecked(bool(p.default))
    return FormField(field, field.isChecked, lambda value: field.setChecked(bool(value)))


def _number(desk: Desk, operation: Operation, p: Parameter) -> FormField:
    if p.optional or p.many or (p.required and p.low > 0 and p.kind.type is float):  # nothing to begin with would do
        return _text(desk, operation, p)
    record, image, settings = desk.viewing.record, desk.viewing.image, desk.hand.settings
    of_image = p.unit == "value"
    unit = record.unit if of_image and record else "" if of_image else p.unit
    low, high = max(p.low, -LARGEST), min(p.high, LARGEST)
    whole = p.kind.type is int
    start_at = low if p.low < 0 or whole else 0.0
    unit, factor = suited(record, unit)
    field = number(start_at * factor, high * factor, 0 if whole else 3, pretty_unit(unit), p.words, whole=whole)
    if of_image and image is not None and image.in_memory:
        field.suit_values(*display_range(image.grey()))
    start = {"low": settings.low, "high": settings.high} if of_image else {}
    default = 0.0 if p.required else p.default
    field.setValue(times(start.get(p.name, default), factor))
    if factor == 1.0:
        return FormField(field, field.value, None if of_image else field.setValue)
    return FormField(
        field, lambda: times(field.value(), 1 / factor), lambda value: field.setValue(times(value, factor))
    )


def _numbers(desk: Desk, operation: Operation, p: Parameter) -> FormField:
    if p.role == "area":
        area = FramedField(desk, "area", "column, row, columns, rows", "Frame an area on the picture")
        return FormField(area, area.value)
    if p.role == "box":
        box = FramedField(desk, "voxels", "i, j, k to i, j, k", "Frame a box in the panes")
        return FormField(box, box.value)
    if p.role == "points":
        points = PointsField(desk, *suited(desk.viewing.record, "mm", p.role))
        return FormField(points, points.value)
    if p.role in ("place", "spot"):
        place = PlaceField(desk.viewing, *suited(desk.viewing.record, p.unit or "mm", p.role))
        return FormField(place, place.value)
    made = _text(desk, operation, p)
    if p.unit == "mm" and p.required and desk.viewing.record is not None and p.length == 3 and p.role != "end":
        assert isinstance(made.widget, QLineEdit)
        made.widget.setText(listed(desk.viewing.record.grid.spacing, suited(desk.viewing.record, p.unit)[1]))
    return made


def _path(desk: Desk, operation: Operation, p: Parameter) -> FormField:
    field = PathField(p.role or "file")
    return FormField(field, field.value)


def _text(desk: Desk, operation: Operation, p: Parameter) -> FormField:
    if p.role == "label":
        return _label(desk, p)
    start = None if p.required else p.default
    unit, factor = ("", 1.0) if p.unit == "value" else suited(desk.viewing.record, p.unit, p.role)
    field = UnitLine(unit)
    field.setProperty("kind", "figures")
    field.setPlaceholderText(f"x, y, z in {unit}" if p.role in ("end", "places") else pretty_unit(unit))
    if p.role == "secret":
        field.setEchoMode(QLineEdit.EchoMode.Password)

    def value() -> str | None:
        text = field.text().strip()
        return (text if factor == 1.0 else with_unit(text, unit)) or None

    def put(given: Any) -> None:
        several = given if isinstance(given, (tuple, list)) else [given]
        numbers = factor != 1.0 and all(isinstance(v, (int, float)) for v in several)
        field.setText("" if given is None else listed(several, factor) if numbers else _as_text(given))

    put(start)
    kept = not p.required and p.role not in ("secret", "names", "end") and p.unit != "value"
    return FormField(field, value, put if kept else None, put)


def _as_text(value: Any) -> str:
    if isinstance(value, (tuple, list)):
        return ", ".join(plain(v) for v in value)
    return plain(value) if isinstance(value, float) else str(value)


def _label(desk: Desk, p: Parameter) -> FormField:
    field = QComboBox()
    field.setEditable(True)
    labels = desk.viewing.maps.labels
    field.addItems([row.name for row in labels.table] if labels is not None else [])
    if isinstance(p.default, str):  # what it is called unless somebody chooses another
        field.setCurrentText(p.default)
    elif desk.hand.label:
        field.setCurrentText(desk.hand.label.name)
    line = field.lineEdit()
    if line is not None:  # of a name longer than the field one sees how it begins
        line.setCursorPosition(0)
        field.activated.connect(lambda: line.setCursorPosition(0))
    return FormField(field, field.currentText, None, lambda name: field.setCurrentText(name or ""))
