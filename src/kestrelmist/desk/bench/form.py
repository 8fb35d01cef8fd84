"""The plain form of an operation, made from its signature."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from ...core.errors import Trouble
from ...core.name_pattern import has_places, with_place
from ...core.operation import Operation, find_operation
from ...core.parameter import Parameter
from ..models.desk_model import Desk
from ..widgets.plain_text import Words, plain_tip
from . import form_memory
from .companion import COMPANIONS, Ready
from .fields import FramedField, ThingsField
from .form_fields import FormField, field_for
from .form_lead import LeadRows
from .form_rows import Explaining, Folded, Rows
from .preview_row import PreviewRow
from .rows import title
from .telling import Telling
from .to_figure import PANELS, AddToFigure


class OperationForm(QWidget):
    """Fields for the settings and further inputs, a word on what the operation does, and the button that runs it. The
    first image and the first label map are those in the lead pane, and are told."""

    def __init__(self, desk: Desk, operation: Operation, back=None, open_operation: Callable | None = None):
        super().__init__()
        self.desk, self.viewing, self.operation = desk, desk.viewing, operation
        self.kept: dict[str, FormField] = {}
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        column.addWidget(title(operation.title))
        self.explaining = Explaining(operation.summary)
        column.addWidget(self.explaining)
        self.rows, self.folded = Rows(), Folded()
        self.lead_rows = LeadRows(desk, operation, self.rows, open_operation)
        for p in self._asked():
            made = field_for(desk, operation, p)
            made.widget.setToolTip(plain_tip(p.help))
            for widget in (made.widget, made.widget.focusProxy() or made.widget):
                widget.setAccessibleName(p.words)
            self.kept[p.name] = made
            self.explaining.explain(made.widget, p.help or p.words)
            if p.rare and not p.required:
                self.folded.add(p, made.widget)
            else:
                self.rows.add(p.words, made.widget, p.help)
        self.fields = {name: made.widget for name, made in self.kept.items()}
        self._show_what_counts()
        for field in self.fields.values():
            if isinstance(field, FramedField) and isinstance(self.fields.get("pixels"), QComboBox):
                field.framed.connect(self._use_area)
        column.addWidget(self.rows)
        column.addWidget(self.folded)
        self.folded.setVisible(bool(self.folded.names))
        make = COMPANIONS.get(operation.name)
        self.companion = make(desk, self) if make is not None else None
        if self.companion is not None:
            column.addWidget(self.companion)
        self.along = self._along()
        if self.along is not None:
            column.addWidget(self.along)
        self.others: ThingsField | None = None
        links = QHBoxLayout()
        self.more = self._more(column)
        self.usual = self._usual()
        self.to_figure = AddToFigure(desk, self, operation) if operation.name in PANELS else None
        for link in filter(None, (self.more, self.usual, self.to_figure)):
            links.addWidget(link)
        column.addLayout(links)
        first = operation.lead or operation.on_lead
        self.preview = PreviewRow(desk, self) if first is not None and operation.reach is not None else None
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
        self._as_last_time()

    def _asked(self) -> list[Parameter]:
        """The parameters that have fields."""
        led = [self.operation.lead, self.operation.on_lead]
        return [
            p
            for p in self.operation.parameters
            if p.kind.family != "study" and p.role != "mark" and not (p in led and p.required and not p.many)
        ]

    def focus_first(self) -> None:
        """Put the keyboard into the first field, or onto the button where there is none."""
        seen = [field for field in self.fields.values() if field.isVisibleTo(self)]
        (seen[0] if seen else self.apply).setFocus(Qt.FocusReason.ShortcutFocusReason)

    # the last settings, and the usual ones

    def _usual(self) -> QPushButton | None:
        """A button that fills in the usual settings; None where there is none to fill in."""
        if not form_memory.usual(self.operation, self.kept):
            return None
        button = QPushButton("the usual settings")
        button.setProperty("kind", "link")
        button.setToolTip(plain_tip("Fill in what this form begins with"))
        button.clicked.connect(self._as_usual)
        button.hide()
        return button

    def _as_last_time(self) -> None:
        known = form_memory.remembered(self.desk.study, self.operation, self.kept)
        usual = form_memory.usual(self.operation, self.kept)
        other = {name: value for name, value in known.items() if value != usual.get(name)}
        if other and self.usual is not None:
            form_memory.fill(self.kept, other)
            self.usual.show()
            if any(p.rare and p.name in other for p in self.operation.settings):
                self.folded.open()

    def fill(self, settings: dict[str, Any]) -> None:
        """Put settings into their fields; of those that are folded away, open the fold."""
        for name, value in settings.items():
            made = self.kept.get(name)
            put = None if made is None else made.fill or made.put
            if put is not None:
                put(value)
        if any(p.rare and settings.get(p.name) not in (None, p.default) for p in self.operation.settings):
            self.folded.open()

    def _as_usual(self) -> None:
        form_memory.fill(self.kept, form_memory.usual(self.operation, self.kept))
        if self.usual is not None:
            self.usual.hide()

    # what comes along

    def _along(self) -> QCheckBox | None:
        """Whether the labels of the image come along onto the new one; None where none is made, or there are no
        labels."""
        labels, about = self.viewing.maps.labels, self.operation
        makes = about.stage == "prepare" and not about.acts and any(r.kind.leads for r in about.results)
        if not makes or about.lead is None or labels is None or not labels.counts[1:].any():
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
            self.others = ThingsField(self.desk.study, first.thing_kind, lead)
            self.others.setAccessibleName("More images to do it to")
            for p in self._names_of_files():
                field = self.fields[p.name].field  # type: ignore[attr-defined]
                field.setText(with_place(field.text()))
                field.setPlaceholderText("{subject} {name}")
                field.setToolTip(plain_tip("{subject}, {visit}, {name} and {number} are filled in for each image"))
            column.insertWidget(column.indexOf(self.trouble), self.others)
            button.hide()

        button.clicked.connect(open_list)
        return button

    # what counts

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
        for p in self._asked():
            rows = self.folded.rows if p.rare and not p.required else self.rows
            rows.show_row(self.fields[p.name], not self._idle(p.name))

    def _idle(self, name: str) -> bool:
        only = next(p.only for p in self.operation.parameters if p.name == name)
        return only is not None and self.kept[only.setting].value() not in only.choices

    def values(self) -> dict[str, Any]:
        """What the fields hold: settings checked by the operation, things by their ids; raises Trouble."""
        inputs = {p.name for p in self.operation.inputs}
        given = {name: made.value() for name, made in self.kept.items() if not self._idle(name)}
        given = {name: value for name, value in given.items() if value is not None and value != []}
        settings = self.operation.checked({n: v for n, v in given.items() if n not in inputs})
        return settings | {n: v for n, v in given.items() if n in inputs}

    def values_without(self, names: tuple[str, ...]) -> dict[str, Any]:
        """As `values`, whatever stands in some of the fields, or does not."""
        inputs = {p.name for p in self.operation.inputs}
        kept = {n: made for n, made in self.kept.items() if n not in names and not self._idle(n)}
        given = {name: value for name, made in kept.items() if (value := made.value()) is not None and value != []}
        given |= dict.fromkeys(names, "unnamed")
        settings = self.operation.checked({n: v for n, v in given.items() if n not in inputs})
        found = settings | {n: v for n, v in given.items() if n in inputs}
        return {n: v for n, v in found.items() if n not in names}

    def wanted(self) -> dict[str, Any] | None:
        """See `previewing.Previewed`."""
        if self.preview is None or not self.preview.on_again:
            return None
        values = self.values()
        return values if self.preview.wanted(values) else None

    # doing it

    def run(self) -> None:
        try:
            given = self.values()
            if isinstance(self.companion, Ready):
                self.companion.require_ready()
        except Trouble as trouble:
            self._say(str(trouble))
            return
        others = self.others.value() if self.others is not None else []
        one_name = [p for p in self._names_of_files() if given.get(p.name) and not has_places(str(given[p.name]))]
        if others and one_name:
            words = "write {name}, {subject}, {visit} or {number} into it"
            self._say(str(Trouble(f"All images would get one file for {one_name[0].said}", words)))
            return
        self.trouble.hide()
        if self.preview is not None:
            self.preview.done(given)
        names = {p.name for p in self.operation.settings}
        form_memory.remember(self.desk.study, self.operation, self.kept, {n: v for n, v in given.items() if n in names})
        source = self.viewing.maps.map if self.along is not None and self.along.isChecked() else None
        first = self._numbered(given, 1) if others else given
        self.desk.run(self.operation.name, first, None if source is None else self._bring(source.id))
        lead = self.viewing.record.id if self.viewing.record is not None else None
        others = [key for key in others if key != lead]  # another one may lead since the list was opened
        for n, key in enumerate(others, 2):
            self.desk.session.run(self.operation.name, self._for_another(self._numbered(given, n), key))

    def _say(self, words: str) -> None:
        self.trouble.setText(words)
        self.trouble.show()

    def _names_of_files(self) -> list[Parameter]:
        """Settings that name new files."""
        return [p for p in self.operation.settings if p.role == "new" and p.name in self.fields]

    def _numbered(self, given: dict[str, Any], n: int) -> dict[str, Any]:
        """With a number in the names of files: none of several is there yet when all are begun."""
        new = [p.name for p in self._names_of_files() if given.get(p.name)]
        return given | {name: str(given[name]).replace("{number}", str(n)) for name in new}

    def _for_another(self, given: dict[str, Any], key: int) -> dict[str, Any]:
        """The same for another image: what lies on the one that leads, such as a mask, is left out."""
        first = self.operation.lead
        assert first is not None
        items, lead = self.desk.study.items, self.viewing.record
        of_another = {p.name for p in self.operation.inputs if p.kind.of}
        kept = {}
        for name, value in given.items():
            record = items.get(value) if isinstance(value, int) and name in of_another else None
            if record is None or lead is None or record.of != lead.id:
                kept[name] = value
        return kept | {first.name: key}

    def _bring(self, source: int) -> Callable[[Any], None]:
        """What is done once the new image is there."""
        bring_labels = find_operation("bring-labels")
        assert bring_labels.lead is not None

        def bring(kept: Any) -> None:
            made = next((v for v in (kept.values() if isinstance(kept, dict) else [kept]) if isinstance(v, list)), None)
            for key in made or ():
                self.desk.session.run(bring_labels.name, {bring_labels.lead.name: key, "source": source})

        return bring
