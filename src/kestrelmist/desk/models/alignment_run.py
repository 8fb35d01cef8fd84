"""An alignment under way: what it has found so far is drawn in the panes, its cost is told, and it can be ended with
what there is; once it has ended, what it found can be gone on with."""

from __future__ import annotations

from dataclasses import dataclass, field

from PySide6.QtCore import QObject, Signal

from ...core.found_so_far import FoundSoFar
from ...core.image import Image
from ...core.mapping import Mapping
from ...core.through import seen_through
from ...core.transform import Transform
from ...study.items import ImageRecord
from ...study.task import Task
from .layers import Layers
from .viewing import Viewing
from .work import Job


@dataclass
class Run:
    """One alignment: ids of the image that moves and of the one that stays, costs by level, and what came of it."""

    job: Job | None
    moves: int
    onto: int
    costs: dict[int, list[float]] = field(default_factory=dict)
    levels: int = 1
    transform: int | None = None
    seen: int = 0
    """States whose costs are among them."""
    by_voxels: bool = False
    """Whether what was found moves voxels, so that the image can be placed by it."""

    def take(self, state: FoundSoFar) -> None:
        """Costs of this state, and of those before it that nobody was told of."""
        self.levels = state.levels
        for one in self.job.shown[self.seen :] if self.job is not None else ():
            self.costs.setdefault(one.level, []).append(one.cost)
            self.seen += 1


class AlignmentRun(QObject):
    """The alignment that was begun last, as long as anybody wants to see it."""

    changed = Signal()

    def __init__(self, viewing: Viewing, layers: Layers):
        super().__init__(viewing)
        self.viewing, self.layers, self.session = viewing, layers, viewing.session
        self.run: Run | None = None
        self._wanted: Mapping | None = None
        self.session.began.connect(self._began)
        self.session.was_kept.connect(self._kept)
        self.session.shelf_changed.connect(self._still_there)

    @property
    def under_way(self) -> bool:
        return self.run is not None and self.run.job is not None and self.run.job in self.session.work.jobs

    def stop_here(self) -> None:
        """End it with what it has found by now."""
        if self.run is not None and self.run.job is not None:
            self.run.job.progress.stop_here()

    def forget(self) -> None:
        """Nobody wants to see it any more."""
        self._draw(None)
        self.run = None
        self.changed.emit()

    def go_on(self) -> None:
        """Place the image that moved by what was found, or, where that bends space, bring it through onto the grid of
        the one that stays."""
        run = self.run
        if run is None or run.transform is None:
            return
        if not run.by_voxels:
            given = {"image": run.moves, "onto": run.onto, "transform": [run.transform]}
            self.session.run("apply-transform", given, over=run.onto)
        else:
            given = {"image": run.moves, "transform": run.transform, "back": True}
            if self.session.run_now("place-by", given):
                self.forget()

    def look_at(self, key: int) -> None:
        """Show an alignment that was found before: the image that stays leads, the one that moved lies over it, and
        both can be judged."""
        both = self._aligned_by(key)
        if both is None:
            self.session.trouble.emit("The images that this transform joins are not in the study: gather them first.")
            return
        moves, onto = both
        self._draw(None)
        self.run = Run(None, moves, onto, transform=key, by_voxels=self._moves_voxels(key))
        self.viewing.show_image(onto, lambda: self.layers.lay_over(moves))
        self.changed.emit()

    def _moves_voxels(self, key: int) -> bool:
        return isinstance(self.viewing.study.thing(key), Transform)

    def _aligned_by(self, key: int) -> tuple[int, int] | None:
        """Ids of what moved and of what stayed: by the step that made a transform, else by the spaces that it joins."""
        study, record = self.viewing.study, self.viewing.study.items.get(key)
        for step in study.logbook.entries():
            if any(thing.item == key for things in step.outputs.values() for thing in things):
                given = [step.inputs.get(name) for name in ("image", "onto")]
                found = [self.record(things[0].item) for things in given if things and things[0].item is not None]
                if len(found) == 2 and all(found):
                    return found[0].id, found[1].id  # type: ignore[union-attr]
        ends = [record.body.get(end, {}).get("id") for end in ("target", "source")] if record is not None else []
        pair = [next((r for r in study.records() if end and r.grid.world.id == end), None) for end in ends]
        if len(pair) == 2 and pair[0] is not None and pair[1] is not None and pair[0].id != pair[1].id:
            return pair[0].id, pair[1].id
        return None

    def verdict(self) -> str:
        """What somebody said of it: "" when nobody did."""
        run = self.run
        record = self.viewing.study.items.get(run.transform) if run is not None and run.transform is not None else None
        said = record.body.get("said") if record is not None else None
        return str(said.get("verdict", "")) if isinstance(said, dict) else ""

    def say(self, verdict: str) -> None:
        """Write down how it is."""
        if self.run is not None and self.run.transform is not None:
            self.session.run("say-alignment", {"transform": self.run.transform, "verdict": verdict})
            self.changed.emit()

    def record(self, key: int) -> ImageRecord | None:
        found = self.viewing.study.items.get(key)
        return found if isinstance(found, ImageRecord) and not found.removed else None

    def _began(self, job: Job, task: Task) -> None:
        both = _both(task)
        if both is None or not isinstance(self.viewing.study.items.get(both[0]), ImageRecord):
            return  # nothing to watch, as by landmarks
        self._draw(None)
        self.run = Run(job, *both)
        job.showed.connect(self._showed)
        job.ended.connect(self._ended)
        other = self._other()
        record = None if other is None else self.record(other)
        if other is not None and record is not None and self.layers.stack.of(other) is None:
            if self.layers.why_not(record) is None:
                self.layers.lay_over(other)  # what is found is seen where both lie over one another
        self.changed.emit()

    def _other(self) -> int | None:
        """The one of both that does not lead, while the other one does."""
        run, lead = self.run, self.viewing.record
        if run is None or lead is None or lead.id not in (run.moves, run.onto):
            return None
        return run.moves if lead.id == run.onto else run.onto

    def _showed(self, state: FoundSoFar) -> None:
        if self.run is None or self.sender() is not self.run.job:
            return
        self.run.take(state)
        if state.way is not None and self.under_way:
            self._draw(state.way)
        self.changed.emit()

    def _draw(self, way: Mapping | None) -> None:
        """Draw the layer where a mapping from the one that stays to the one that moves has it."""
        key, self._wanted = self._other(), way
        if key is None or self.run is None:
            return
        image, record = self.layers.image(key), self.record(key)
        if way is None or image is None or record is None or image.through is not None:
            if way is None:
                self.layers.show_moved(key, None)
            return
        if key == self.run.moves:
            way = way.inverse()
        lead = self.viewing.record
        assert lead is not None
        known = self.viewing.study.way(record.grid.world, lead.grid.world)
        back = known.mapping.inverse() if known is not None and known.made_of else None
        own = image if back is None else seen_through(image, back)
        world = lead.grid.world
        if isinstance(way, Transform):
            self.layers.show_as(key, seen_through(own, way.between(own.space.world, world)))
            return
        wanted, run = self._wanted, self.run

        def work(progress) -> Image:
            return seen_through(own, way.between(own.space.world, world))  # the flow of all is worked out here

        def put(shown: Image) -> None:
            if self._wanted is wanted and self.run is run and self.under_way and self._other() == key:
                self.layers.show_as(key, shown)

        self.session.work.start("Drawing what was found so far", work, put, lane="preview", loud=False)

    def _ended(self, job: Job, result, error) -> None:
        if self.run is None or job is not self.run.job:
            return
        self._draw(None)
        if error is not None:
            self.run = None
        self.changed.emit()

    def _kept(self, task: Task, kept: dict) -> None:
        """What was made of it is on the Shelf."""
        run, key = self.run, kept.get("transform")
        if run is None or not isinstance(key, int) or self.under_way or run.transform is not None:
            return
        if _both(task) != (run.moves, run.onto):
            return
        run.transform = key
        run.by_voxels = self._moves_voxels(key)
        self.changed.emit()

    def _still_there(self) -> None:
        run = self.run
        if run is None or self.under_way or run.transform is None:
            return
        found = self.viewing.study.items.get(run.transform)
        if found is None or found.removed or self.record(run.moves) is None:
            self.forget()


def _both(task: Task) -> tuple[int, int] | None:
    """Ids of what moves and what stays in a task that aligns two things of the study; None when it does not."""
    given = [task.inputs.get(name) for name in ("image", "onto")]
    keys = [one[0].item for one in given if one]
    aligns = any(issubclass(result.kind.type, Mapping) for result in task.about.results)
    return (keys[0], keys[1]) if aligns and len(keys) == 2 and keys[0] is not None and keys[1] is not None else None
