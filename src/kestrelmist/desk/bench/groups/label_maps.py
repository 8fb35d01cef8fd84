"""The label maps of the lead image: which is in hand, make and copy, versions, the others as edges."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QCheckBox, QComboBox, QHBoxLayout, QMenu, QPushButton, QToolButton

from ....core.errors import Trouble
from ....study.journal import versions
from ....study.journal.versions import Version
from ...theme.theme import icon
from ...widgets.plain_text import ask_text, plain_tip
from ..page import GROUPS, BenchContext, Group
from ..rows import Shaded, quietly


class LabelMapsGroup(Shaded):
    """One line while there is one map, and a menu for the rest."""

    def __init__(self, context: BenchContext):
        super().__init__(4)
        self.desk = context.desk
        self.viewing, self.session = self.desk.viewing, self.desk.session
        self.choice, self.more = QComboBox(), QToolButton()
        self.choice.setAccessibleName("Label map in hand")
        self.choice.setToolTip("The label map that tools work on")
        self.more.setToolTip("Make, copy, rename or delete label maps; name versions and go back to them")
        self.more.setAccessibleName("More about label maps")
        self.more.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu = QMenu(self)
        self.more.setMenu(self.menu)
        self.menu.aboutToShow.connect(self.fill_menu)
        self.others = QCheckBox("Other label maps as edges")
        line = QHBoxLayout()
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(4)
        line.addWidget(self.choice, 1)
        line.addWidget(self.more)
        self.column.addLayout(line)
        self.column.addWidget(self.others)
        self.before = QPushButton("Back to the state before")
        self.before.setProperty("kind", "link")
        self.before.clicked.connect(self._back_before)
        self.column.addWidget(self.before)
        self.choice.activated.connect(lambda _: self.viewing.maps.choose(self.choice.currentData()))
        self.others.toggled.connect(self.viewing.maps.show_others)
        for signal in (self.viewing.lead_changed, self.viewing.maps.chosen):
            signal.connect(self._follow)
        self.dress()
        self._follow()

    def dress(self) -> None:
        self.more.setIcon(icon("layers-2", 16))

    def _follow(self) -> None:
        record = self.viewing.record
        maps = self.desk.study.label_maps(record.id) if record is not None else []
        with quietly(self.choice, self.others):
            self.choice.clear()
            for one in maps:
                self.choice.addItem(one.name, one.id)
                self.choice.setItemData(self.choice.count() - 1, plain_tip(one.name), Qt.ItemDataRole.ToolTipRole)
            if not maps:
                self.choice.addItem("No label map yet", None)
            if self.viewing.maps.map is not None:
                self.choice.setCurrentIndex(max(0, self.choice.findData(self.viewing.maps.map.id)))
            self.others.setChecked(self.viewing.maps.others_shown)
        self.choice.setEnabled(len(maps) > 1)
        self.more.setEnabled(record is not None and self.viewing.maps.labels is not None)
        self.others.setVisible(len(maps) > 1)
        before = self._before()
        self.before.setVisible(before is not None)
        if before is not None:
            when = before.made[:16].replace("T", " ")
            self.before.setToolTip(
                plain_tip(f"Bring the labels back to how they were before the session of {when}; this can be undone")
            )

    def _before(self) -> Version | None:
        """The state before the last session, unless the study can only be read."""
        current, study = self.viewing.maps.map, self.desk.study
        return None if current is None or study.read_only else versions.before_last_session(study, current.id)

    def _back_before(self) -> None:
        before = self._before()
        if before is not None:
            self.go_back(before)

    # the menu

    def fill_menu(self) -> None:
        """What can be done now."""
        self.menu.clear()
        current = self.viewing.maps.map
        self.menu.addAction("New label map…", self._ask_new)
        if current is None:
            return
        self.menu.addAction(f"Copy “{current.name}”…", self._ask_copy)
        self.menu.addAction("Rename…", self._ask_rename)
        self.menu.addAction("Take off", lambda: self.session.run("take-off", {"thing": current.id}))
        self.menu.addAction("Delete for good…", self._ask_delete)
        self.menu.addSeparator()
        self.menu.addAction("Name this version…", self._ask_version)
        there = versions.versions_of(self.desk.study, current.id)
        if there:
            back, compare = self.menu.addMenu("Back to"), self.menu.addMenu("Compare with")
            for version in there:
                words = f"{version.name.replace('&', '&&')}  ({version.made[:16].replace('T', ' ')})"
                back.addAction(words, lambda v=version: self.go_back(v))
                compare.addAction(words, lambda v=version: self.compare(v))

    def _asked(self, title: str, words: str, text: str = "") -> str | None:
        return ask_text(self, title, words, text)

    def _ask_new(self) -> None:
        name = self._asked("New label map", "Its name:", "Labels")
        if name is not None:
            self.make(name)

    def make(self, name: str, copy: int | None = None) -> None:
        """A new label map on the lead image, taken in hand."""
        record = self.viewing.record
        if record is not None:
            given = {"image": record.id, "name": name} | ({"copy": copy} if copy is not None else {})
            (self.session.run_now if copy is None else self.session.run)("new-labels", given)

    def _ask_copy(self) -> None:
        current = self.viewing.maps.map
        name = self._asked("Copy the label map", "Name of the copy:", f"{current.name}, copy" if current else "")
        if name is not None and current is not None:
            self.make(name, current.id)

    def _ask_rename(self) -> None:
        current = self.viewing.maps.map
        name = self._asked("Rename the label map", "Its name:", current.name if current else "")
        if name is not None and current is not None:
            self.session.run("rename", {"thing": current.id, "name": name})

    def _ask_delete(self) -> None:
        current = self.viewing.maps.map
        if current is None:
            return
        name = self._asked(
            "Delete for good", f"“{current.name}” and its versions will be gone.\nType its name to be sure:"
        )
        if name is not None:
            self.session.delete(current.id, name)

    # versions

    def _ask_version(self) -> None:
        current, name = (
            self.viewing.maps.map,
            self._asked("Name this version", "A name for the labels as they are now:"),
        )
        if name is not None and current is not None:
            self.session.run("name-version", {"labels": current.id, "name": name})

    def go_back(self, version: Version) -> None:
        """Bring the map in hand back to a version, as a step that can be undone."""
        current, study = self.viewing.maps.map, self.desk.study
        if current is None:
            return
        self.session.end_gesture()

        def made(found) -> None:
            try:
                self.session.require_labels_free()
                versions.keep_back(study, current.id, *found)
            except versions.Stale:
                self.go_back(version)
            except Trouble as trouble:
                self.session.trouble.emit(str(trouble))

        job = self.session.work.start(
            "Going back", lambda progress: versions.edit_back(study, current.id, version, progress), made
        )
        job.edits_labels = True

    def compare(self, version: Version) -> None:
        """Compare the map in hand with a version of it, as a table."""
        if self.viewing.maps.map is not None:
            self.session.run("compare-version", {"labels": self.viewing.maps.map.id, "version": version.name})


GROUPS.add("label maps", Group("label maps", "Outline", LabelMapsGroup, 10))
