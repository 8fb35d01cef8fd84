"""What the Solid view shows of each image, how a person has changed that, and looks that were kept by name."""

from __future__ import annotations

from dataclasses import asdict, replace
from typing import Any

from PySide6.QtCore import QObject, Signal

from ...core import person
from ...core.errors import Trouble
from ...core.kind import is_solid
from ...scene.layer import restored
from ...scene.solid.eye import Camera
from ...scene.solid.ready_looks import READY, first_name, fitted
from ...scene.solid.scene import Solid
from ...scene.solid.settings import settings_of
from ...scene.solid.shown import QUALITIES, Around, Shown, scene_of
from ...scene.solid.volume_look import VolumeLook
from ...study.solid_inputs import solid_inputs
from .drawn_marks import DrawnMarks
from .layers import Layers
from .seen_as import seen_as
from .viewing import Viewing

KEY, LOOKS, QUALITY = "solid views", "volume looks", "quality of solid views"
MOST = 300
"""Images of which a study remembers it."""


class SolidModel(QObject):
    """The choice of the image that leads, and the scene that comes of it."""

    changed = Signal()
    """Something else is shown, or it looks otherwise."""
    camera_changed = Signal()
    quality_changed = Signal()
    measured = Signal()
    """Another distance is measured, or none."""
    looks_kept = Signal()
    large_wanted = Signal()
    """The Solid view is to lead."""

    def __init__(self, viewing: Viewing, layers: Layers, marks: DrawnMarks):
        super().__init__(viewing)
        self.viewing, self.layers, self.marks, self.study = viewing, layers, marks, viewing.study
        kept = self.study.catalogue.recall(KEY, {})
        self.chosen: dict[int, Shown] = {
            int(key): Shown.from_dict(row)
            for key, row in (kept.items() if isinstance(kept, dict) else ())
            if str(key).isdigit()
        }
        self.drawn_by: str | None = None
        """The graphics card by its name, "" for the processor, None while nobody knows."""
        kept = person.remembered().get(QUALITY)
        self.quality: str = kept if isinstance(kept, str) and kept in QUALITIES else "usual"
        self.in_view = False
        """Whether the Solid view is seen."""
        self.measuring = False
        self.ends: list[tuple[float, float, float]] = []
        """Places between which a distance is measured."""
        viewing.lead_changed.connect(self._other_image)

    @property
    def shown(self) -> Shown:
        """The choice for the image that leads."""
        record = self.viewing.record
        return Shown() if record is None else self.chosen.get(record.id, Shown())

    @property
    def camera(self) -> Camera:
        return self.shown.camera

    @property
    def look(self) -> VolumeLook | None:
        """How the volume looks; the ready look that suits when nobody chose one, None while there is no image."""
        image = self.viewing.image
        if self.shown.look is not None:
            return self.shown.look
        return fitted(first_name(image), image.grey()) if image is not None and self.viewing.ready else None

    def change(self, **changes: Any) -> None:
        """Show something else, or otherwise."""
        self._put(replace(self.shown, **changes))

    def set_quality(self, word: str) -> None:
        """Draw so from now on, in all studies of this person."""
        self.quality = word
        person.remember(**{QUALITY: word})
        self.quality_changed.emit()

    def set_look(self, look: VolumeLook) -> None:
        """Show the volume so."""
        self.change(look=look, image="volume")

    def set_ready(self, name: str) -> None:
        """Show the volume in a ready look, or one that was kept."""
        image = self.viewing.image
        if image is None or not self.viewing.ready:
            return
        kept = self.kept().get(name)
        self.set_look(kept if kept is not None else fitted(name, image.grey()))

    def set_camera(self, camera: Camera) -> None:
        """Look from elsewhere: that is no change of what is shown, and is not taken back by undo."""
        record = self.viewing.record
        if record is not None:
            self.chosen[record.id] = replace(self.shown, camera=camera)
            self.camera_changed.emit()

    def put_back(self, key: int, shown: Shown) -> None:
        """Undo: what was shown of an image, from where it is seen now."""
        self.chosen[key] = replace(shown, camera=self.chosen.get(key, Shown()).camera)
        self.changed.emit()

    def _put(self, shown: Shown) -> None:
        record = self.viewing.record
        if record is None or shown == self.shown:
            return
        self.chosen[record.id] = shown
        self.changed.emit()
        self.viewing.looks_changed.emit()

    # the scene

    def scene(self) -> tuple[Solid, dict[int | str, Any]]:
        """What is to be seen now, and its things."""
        viewing, record = self.viewing, self.viewing.record
        assert record is not None and viewing.image is not None
        over = [(row.record.id, image) for row in self.layers.rows if not row.leads and row.layer.shown
                and (image := self.layers.image(row.record.id)) is not None]  # fmt: skip
        own = self.marks
        marks = [(f"marks {own.key}", own.marks)] if own.marks is not None and own.shown else []
        there = Around(
            record.id,
            viewing.image.grey(),
            viewing.look,
            viewing.maps.seen(),
            over,
            self._surfaces(record.id),
            marks,
            tuple(float(v) for v in viewing.crosshair),  # type: ignore[arg-type]
        )
        return scene_of(self.shown, there)

    def settings(self, film: bool = False) -> dict[str, Any]:
        """What is seen as settings of the operation that writes a picture, or a film, of it."""
        record, maps = self.viewing.record, self.viewing.maps
        if record is None:
            return {}
        over = [row.record.id for row in reversed(self.layers.rows) if not row.leads and row.layer.shown]
        inputs = solid_inputs(self.study, record.id, self.shown, over, [key for key, _ in maps.seen_others()])
        found = seen_as(self.viewing, self.layers) | {"over": inputs["volumes"]} if film else {}
        here = self.viewing.crosshair.tolist()
        return found | inputs | settings_of(self.shown, self.look, self._label, here, self.quality, film)

    def _label(self, number: int) -> str:
        """The name of a label of the map in hand; "" when it has none of that number."""
        labels = self.viewing.maps.labels
        named = labels.table.get(number) if labels is not None and number > 0 else None
        return named.name if named is not None else ""

    def _surfaces(self, key: int) -> list[tuple[int, Any]]:
        found = []
        for record in self.study.items.owned(key):
            if is_solid(record.kind) and not record.removed:
                try:
                    found.append((record.id, self.study.thing(record.id)))
                except Trouble:
                    continue  # checks and forms say what is wrong with it
        return found

    def set_drawn_by(self, name: str) -> None:
        """What draws has been found out."""
        self.drawn_by = name
        self.camera_changed.emit()

    # distances

    def set_measuring(self, on: bool) -> None:
        """Whether clicks measure a distance instead of moving the crosshair."""
        self.measuring, self.ends = on, []
        self.measured.emit()

    def met(self, place) -> None:
        """A click has met something: the crosshair goes there, or a distance ends there."""
        if not self.measuring:
            self.viewing.go_to(place)
            return
        x, y, z = (float(v) for v in place)
        self.ends = [*(self.ends if len(self.ends) < 2 else []), (x, y, z)]
        self.measured.emit()

    def _other_image(self) -> None:
        self.ends = []
        self.measured.emit()

    # looks that were kept

    def kept(self) -> dict[str, VolumeLook]:
        """Looks kept by name: those of this person, and those of the study, which go first."""
        found: dict[str, VolumeLook] = {}
        for rows in (person.remembered().get(LOOKS), self.study.catalogue.recall(LOOKS, {})):
            for name, row in rows.items() if isinstance(rows, dict) else ():
                if isinstance(row, dict):
                    found[str(name)] = replace(restored(VolumeLook, row), name=str(name))
        return found

    def keep(self, name: str, for_all: bool = False) -> None:
        """Keep the present look under a name, in the study or for all studies of this person.

        Raises Trouble when a ready look is called so.
        """
        name, look = " ".join(name.split())[:60], self.look
        if not name or look is None:
            return
        if any(one.name.casefold() == name.casefold() for one in READY):
            raise Trouble(f"“{name}” is a ready look", "choose another name")
        row = asdict(replace(look, name=name))
        if for_all:
            kept = person.remembered().get(LOOKS)
            person.remember(**{LOOKS: (kept if isinstance(kept, dict) else {}) | {name: row}})
        else:
            kept = self.study.catalogue.recall(LOOKS, {})
            self.study.catalogue.remember(LOOKS, (kept if isinstance(kept, dict) else {}) | {name: row})
        self.set_look(replace(look, name=name))
        self.looks_kept.emit()

    def forget(self, name: str) -> None:
        """Keep a look no longer."""
        kept = person.remembered().get(LOOKS)
        if isinstance(kept, dict) and name in kept:
            person.remember(**{LOOKS: {n: row for n, row in kept.items() if n != name}})
        own = self.study.catalogue.recall(LOOKS, {})
        if isinstance(own, dict) and name in own:
            self.study.catalogue.remember(LOOKS, {n: row for n, row in own.items() if n != name})
        self.looks_kept.emit()

    def remember(self) -> None:
        """Keep what is shown of each image with the study."""
        rows = {str(key): shown.as_dict() for key, shown in list(self.chosen.items())[-MOST:] if shown != Shown()}
        self.study.catalogue.remember(KEY, rows)
