"""The state behind the window: what is done, what is looked at, what the hand holds."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QTimer

from ...core.errors import Trouble
from ...scene.compare import WAYS, Comparison
from ...scene.layer import FOLLOWS, Arrangement, ImageLook, LabelLook, Layer, Stack, restored
from ...scene.showing import for_showing
from ...scene.tiles import BASE
from ...study.catalogue_trouble import remains
from ...study.inputs import Lead
from ...study.items import ImageRecord
from ...study.study import Study
from ..tool import TOOLS
from .alignment_run import AlignmentRun
from .asked_marks import AskedMarks
from .beside import Beside
from .bridged_seen import BridgedSeen
from .channels import Channels
from .collection import Collection
from .copied_look import CopiedLook
from .courses import Courses
from .drawn_marks import DrawnMarks
from .film import Film
from .hand import Hand, ToolSettings
from .layers import Layers
from .laying import Laying
from .live_camera import LiveCamera
from .object_strokes import ObjectStrokes
from .previewing import Previewing
from .recipe_model import RecipeModel
from .sections import Sections
from .session import Session
from .sheet_model import SheetModel
from .solid_model import SolidModel
from .standard import Standard
from .tile_reader import TileReader
from .undoing import Undoing
from .viewing import MOST_SHOWN, Viewing

CATALOGUE = "study.db"
STAGES = ("Gather", "Prepare", "Align", "Outline", "Measure", "Report")


class Desk(QObject):
    """The models of one window, and the way they are remembered."""

    def __init__(self, study: Study, parent=None):
        super().__init__(parent)
        self.session = Session(study, self)
        self.viewing = Viewing(self.session, self)
        self.layers = Layers(self.viewing)
        self.undoing = Undoing(self.viewing, self.layers)
        self.previewing = Previewing(self.viewing, self.layers)
        self.beside = Beside(self.viewing, self.layers)
        self.channels = Channels(self.viewing)
        self.film = Film(self.viewing)
        self.live = LiveCamera(self.viewing)
        self.tiles = TileReader(self.session)
        self.viewing.stage = self._remembered()["stage"]  # so that only its page is made at first
        self.hand = Hand(self.viewing, self)
        self.courses = Courses(self.viewing, self.hand)
        self.copied = CopiedLook(self.layers)
        self.laying = Laying(self.viewing, self.layers)
        self.alignment = AlignmentRun(self.viewing, self.layers)
        self.standard = Standard(self.viewing)
        self.marks = DrawnMarks(self.viewing)
        self.asked = AskedMarks(self.marks)
        self.solid = SolidModel(self.viewing, self.layers, self.marks)
        self.undoing.solid = self.solid
        self.sheet = SheetModel(self.viewing, self.layers, self.marks)
        self.strokes = ObjectStrokes(self.marks, self.run)
        self.sections = Sections(self.viewing, self.marks)
        self.collection = Collection(self.session)
        self.recipes = RecipeModel(self.session)
        self.bridged_seen = BridgedSeen(self.viewing, self.hand, self.run_now)
        self.viewing.stage_changed.connect(self._drop_tool)
        self._save = QTimer(self, singleShot=True, interval=400)
        self._save.timeout.connect(self._save_soon)
        for signal in (
            self.viewing.crosshair_moved,
            self.viewing.stage_changed,
            self.viewing.looks_changed,
            self.viewing.arrangement_changed,
            self.viewing.lead_changed,
            self.hand.tool_changed,
            self.hand.settings_changed,
            self.solid.camera_changed,
            self.sheet.changed,
        ):
            signal.connect(self._save.start)
        self.session.took_in.connect(self._took_in)
        self.session.made_over.connect(self._made_over)

    @property
    def study(self) -> Study:
        return self.session.study

    def _took_in(self, keys: list[int]) -> None:
        if isinstance(self.study.items.get(keys[-1]), ImageRecord):
            self.viewing.show_image(keys[-1])

    def _made_over(self, over: int, keys: list[int]) -> None:
        """A map that was made of an image is laid over it, while that leads."""
        if self.viewing.leads(over):
            self.layers.lay_over(keys[-1])

    def _drop_tool(self) -> None:
        """A tool that is not offered in a stage is not kept in the hand."""
        tool = TOOLS.get(self.hand.tool)
        if tool is None or (tool.stages and self.viewing.stage not in tool.stages):
            self.hand.set_tool("point")

    @property
    def lead(self) -> Lead:
        """What leads the Light table, as operations are given it where nothing is named."""
        return self.viewing.lead

    def run(self, name: str, settings: dict[str, Any], done=None, title: str | None = None, into: int = 0):
        """Run an operation on what leads the Light table; what it makes is undone together with the entry `into` of the
        history, where that is still the last one."""

        def ran(kept: Any) -> None:
            self._ran(settings, kept, done)

        if self.live.says_wait():
            return None
        return self.session.run(name, settings, ran, title, lead=self.lead, into=into)

    def run_now(self, name: str, settings: dict[str, Any]) -> bool:
        """Run an operation that takes no time on what leads, at once; returns whether it was kept. A label that is new
        is chosen; locking or colouring another one leaves the choice as it is."""
        if self.live.says_wait():
            return False
        label, labels = settings.get("label"), self.viewing.maps.labels
        there = isinstance(label, str) and labels is not None and labels.table.has_name(label)
        kept = self.session.run_now(name, settings, self.lead)
        if kept and not there:
            self._ran(settings, None, None)
        return kept

    def _ran(self, settings: dict[str, Any], kept: Any, done) -> None:
        labels = self.viewing.maps.labels
        name = settings.get("label")
        if isinstance(name, str) and labels is not None and labels.table.has_name(name):
            self.hand.choose_label(labels.table.named(name).number)
        if done:
            done(kept)

    # the view comes back as it was left

    def _save_soon(self) -> None:
        if self.study.catalogue.writes_elsewhere:  # the window does not wait for what a worker writes
            self._save.start()
        else:
            self.save_view()

    def save_view(self) -> None:
        """Keep image, crosshair, stage, looks and tool settings."""
        study, viewing, hand = self.study, self.viewing, self.hand
        if study.read_only or self.session.closed:
            return
        kept = {
            "image": viewing.record.id if viewing.record else None,
            "crosshair": viewing.crosshair.tolist(),
            "stage": viewing.stage,
            "arrangement": viewing.arrangement.as_dict(),
            "label": hand.label_number,
            "map_looks": {str(k): asdict(v) for k, v in viewing.maps.looks.items()},
            "show_others": viewing.maps.others_shown,
            "comparison": asdict(self.layers.comparison),
            "stacks": {str(k): v.as_list() for k, v in viewing.stacks.items()},
            "places": {str(k): list(v) for k, v in viewing.places.items()},
            "settings": {str(k): asdict(v) for k, v in hand.tool_settings.items()},
        }
        try:
            study.catalogue.remember("view", kept)
            self.solid.remember()
            self.sheet.remember()
        except Trouble:
            pass  # a place that cannot be remembered is no reason to stop anyone

    def _remembered(self) -> dict[str, Any]:
        """What the study remembers of the view; a stage is in it whatever was written there."""
        view = self.study.catalogue.recall("view", {})
        view = dict(view) if isinstance(view, dict) else {}
        view["stage"] = view["stage"] if view.get("stage") in STAGES else "Gather"
        return view

    def read_ahead(self) -> None:
        """Begin to read the image that `restore_view` will show, while the window is laid out."""
        wanted = self._first_image(self._remembered())
        if wanted is not None and not self.study.find(wanted).axes:
            with suppress(Trouble):  # said when it is shown
                image = for_showing(self.study.image(wanted), MOST_SHOWN, BASE)
                self.session.work.start("Reading", image.fetch, failed=lambda _: None, lane="view", loud=False)

    def _first_image(self, view: dict[str, Any]) -> int | None:
        """The image that was shown last, or the first there is when that one has gone."""
        records = [r.id for r in self.study.records()]
        wanted = view.get("image")
        return wanted if wanted in records else next(iter(records), None)

    def restore_view(self) -> None:
        """Show what was shown when the study was last open. What cannot be made out is passed over."""
        viewing, hand = self.viewing, self.hand
        view = self._remembered()
        _restore_looks(viewing, view)
        how = restored(Comparison, view.get("comparison"))
        self.layers.comparison = how if how.way in WAYS else Comparison()
        self.undoing.begin()
        for key, values in _entries(view, "settings"):
            hand.tool_settings[key] = restored(ToolSettings, values)
        viewing.places = {
            key: tuple(place)
            for key, place in _entries(view, "places")
            if isinstance(place, list) and all(isinstance(n, int) and n >= 0 for n in place)
        }
        crosshair = view.get("crosshair")
        if isinstance(crosshair, list) and len(crosshair) == 3 and np.isfinite(np.array(crosshair, float)).all():
            viewing.crosshair = np.array(crosshair, float)
        viewing.set_stage(view["stage"])
        label = view.get("label")

        def choose() -> None:
            if viewing.maps.labels is not None and label in viewing.maps.labels.table:
                hand.choose_label(label)

        wanted = self._first_image(view)
        if wanted is not None:
            viewing.show_image(wanted, choose)

    def close(self) -> None:
        """Save the view and let go of the study. Raises Trouble when the journals cannot be folded."""
        self._save.stop()
        self.live.stop()
        self.session.end_gesture()
        self.save_view()
        self.session.close()


def _entries(view: dict, name: str) -> list[tuple[int, Any]]:
    found = view.get(name, {})
    return [(int(k), v) for k, v in found.items() if str(k).isdigit()] if isinstance(found, dict) else []


def _restore_looks(viewing: Viewing, view: dict) -> None:
    for key, layers in _entries(view, "stacks"):
        if isinstance(layers, list):
            stack = Stack.from_list([layer for layer in layers if isinstance(layer, dict)])
            if stack.of(key) is not None:
                viewing.stacks[key] = stack
    for key, look in _entries(view, "looks"):  # as older studies kept them: low, high, map, smooth
        if isinstance(look, list) and len(look) == 4:
            facts = dict(zip(("low", "high", "colour_map", "smooth"), look))
            viewing.stacks[key] = Stack((Layer(key, look=restored(ImageLook, facts)),))
    if "label_look" in view:  # as older studies kept it: one for all
        viewing.maps.looks[0] = restored(LabelLook, view["label_look"])
    fill = view.get("fill")
    if isinstance(fill, list) and len(fill) == 2:
        viewing.maps.looks[0] = restored(LabelLook, {"fill": fill[0], "edges": fill[1]})
    for key, look in _entries(view, "map_looks"):
        viewing.maps.looks[key] = restored(LabelLook, look)
    arrangement = restored(Arrangement, view.get("arrangement"))
    if sorted(arrangement.order) == sorted(Arrangement().order):
        there = {record.id for record in viewing.study.records()}
        beside = tuple(dict.fromkeys(key for key in arrangement.beside if key in there))
        follow = arrangement.follow if arrangement.follow in FOLLOWS else FOLLOWS[0]
        viewing.arrangement = replace(arrangement, beside=beside if 2 <= len(beside) <= 4 else (), follow=follow)
    if "left_on_left" in view:
        viewing.arrange(left_on_left=bool(view["left_on_left"]))
    viewing.maps.others_shown = bool(view.get("show_others", False))


def study_folder_of(places: list[Path]) -> Path | None:
    """The study among places given on the command line, by its folder or by the catalogue in it."""
    for place in places:
        if place.name == CATALOGUE and place.is_file():
            return place.parent
        if (place / CATALOGUE).exists() or (place.is_dir() and remains(place)):
            return place
    return None
