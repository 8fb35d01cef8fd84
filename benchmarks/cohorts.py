"""Recipes on many: processes, a cluster, what it costs beside the work itself, plans, resuming, pages."""

from __future__ import annotations

import os
import shutil
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from trial.local_cluster import local_cluster

from .row import Row

SUBJECTS, SIZE, LARGE = 10, 84, 112
"""How many there are, and voxels a side: of slow steps, and of quick ones, which are of a scan as animals have."""
MANY, STEPS = 1000, 10
SEEN = 200


def rows() -> list[Row]:
    """Against the same without processes, and without a recipe."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    with tempfile.TemporaryDirectory() as folder:
        place = Path(folder)
        study = _study(place / "study", SUBJECTS, SIZE)
        return [*_at_once(place, study), *_beside(place, study), *_many(place)]


def _study(folder: Path, count: int, size: int) -> Path:
    from kestrelmist.core.image import Image
    from kestrelmist.core.space import Space
    from kestrelmist.formats.saving import save_image
    from kestrelmist.study.study import Study

    random, space = np.random.default_rng(3), Space((size,) * 3, np.diag([0.5, 0.5, 0.5, 1.0]))
    source = folder.with_name(f"{folder.name}, files")
    source.mkdir(parents=True)
    with Study(folder, create=True) as study:
        for n in range(count):
            path = source / f"{n}" / "in.nii"
            path.parent.mkdir()
            save_image(path, Image(random.normal(100, 20, space.shape).astype(np.float32), space))
            study.run("gather", folder=path, subject=f"S-{n:04d}")
    return folder


def _recipe(again: int = 3, first: str = "reduce-noise"):
    """Steps that one process does on all cores by itself, or, begun by another one, that take one core each."""
    from kestrelmist.study.recipes import editing
    from kestrelmist.study.recipes.recipe import Recipe, Slot

    settings = {"noise": 20.0} if first == "reduce-noise" else {"fwhm": 6.0}
    made = editing.with_step(Recipe(title="Noise"), first, settings=settings)
    made = editing.with_slot(made, Slot("Scan", "image", "in"), "Image")
    for n in range(again):
        made = editing.with_step(made, "smooth", settings={"fwhm": 1.0 + n})
    return made


def _run(place: Path, study: Path, name: str, make: Callable, recipe, times: int = 2) -> float:
    """Seconds of a whole run on a copy of a study, in a place that is warm by then."""
    from kestrelmist.study.recipes.book import begin
    from kestrelmist.study.recipes.cohort import Runner, order_of
    from kestrelmist.study.study import Study

    found = []
    for n in range(times):
        copy = place / f"{name} {n}"
        shutil.copytree(study, copy)
        with Study(copy) as opened:
            where = make(copy)
            warm = Runner(opened, begin(copy, order_of(opened, _recipe(0, "smooth"), ["S-0000", "S-0001"])), where)
            warm.place = _Kept(where)
            warm.run()
            book = begin(copy, order_of(opened, recipe, [f"S-{k:04d}" for k in range(2, SUBJECTS)]))
            began = time.perf_counter()
            Runner(opened, book, where).run()
            found.append(time.perf_counter() - began)
            assert not book.unfinished
        shutil.rmtree(copy)
    return min(found)


class _Kept:
    """A place that is used once more: its processes stay, warm."""

    def __init__(self, place):
        self._place = place

    def __getattr__(self, name: str):
        return getattr(self._place, name)

    def close(self, at_once: bool) -> None:
        return


def _at_once(place: Path, study: Path) -> list[Row]:

    from kestrelmist.study.recipes.places import Processes, place_for

    light, heavy = _recipe(3, "smooth"), _recipe(0)
    large = _study(place / "large", SUBJECTS, LARGE)
    one, two = (_run(place, large, f"{n}", lambda folder, n=n: Processes(n), light, 3) for n in (1, 2))
    here = _run(place, study, "here", lambda folder: Processes(2), heavy)
    with local_cluster() as cluster:
        address = cluster.scheduler_address
        there = _run(place, study, "cluster", lambda folder: place_for(0, address, folder), heavy)
    what = f"8 subjects of {SIZE}³"
    return [
        Row(f"recipe on 8 subjects of {LARGE}³, two processes", two, one, "one process", "≤ 0.556"),
        Row(f"recipe on {what}, a Dask cluster of two", there, here, "two processes", "≤ 1.1"),
    ]


def _beside(place: Path, study: Path) -> list[Row]:
    """What running a recipe costs beside its steps, and going on with one."""
    from kestrelmist.study.recipes.book import RUNNING, begin, book
    from kestrelmist.study.recipes.cohort import Runner, order_of
    from kestrelmist.study.recipes.places import Here
    from kestrelmist.study.study import Study

    by_hand: list[float] = []
    by_recipe: list[float] = []
    resumed: list[float] = []
    for n in range(2):
        for took, recipe in ((by_hand, False), (by_recipe, True)):
            copy = place / f"plain {n} {recipe}"
            shutil.copytree(study, copy)
            with Study(copy) as opened:
                began = time.perf_counter()
                if recipe:
                    Runner(opened, begin(copy, order_of(opened, _recipe(), ["S-0000", "S-0001"])), Here()).run()
                else:
                    for subject in ("S-0000", "S-0001"):
                        (made,) = opened.run("reduce-noise", image=f"{subject}/in", noise=20.0)["image"]
                        for width in (1.0, 2.0, 3.0):
                            (made,) = opened.run("smooth", image=made, fwhm=width)
                took.append(time.perf_counter() - began)
                if recipe:
                    made = begin(copy, order_of(opened, _recipe()))
                    began = time.perf_counter()
                    first: list[float] = []

                    def hear(unit: str, made=made, first=first) -> None:
                        if not first and any(c.state == RUNNING for c in made.cells[unit]):
                            first.append(time.perf_counter())

                    made.heard.append(hear)
                    progress = _stops_after(first)
                    try:
                        Runner(opened, made, Here(progress), progress).run()
                    except Exception:
                        assert first
                    resumed.append(first[0] - began)
                    assert book(copy).unfinished
            shutil.rmtree(copy)
    return [
        Row(
            "recipe on 2 subjects, one after another", min(by_recipe), min(by_hand), "the same steps by hand", "≤ 1.03"
        ),
        Row("a resumed run begins its first step", min(resumed), None, "", "≤ 2 s", met=min(resumed) <= 2.0),
    ]


def _stops_after(first: list[float]):
    """A progress that ends as soon as there is something in a list."""
    from kestrelmist.core.progress import Progress

    progress = Progress()
    progress.listener = lambda fraction, words: progress.cancel() if first else None
    return progress


def _many(place: Path) -> list[Row]:
    """Plans and pages of many subjects."""
    from kestrelmist.study.recipes.plan import plan_of
    from kestrelmist.study.study import Study

    folder = _study(place / "many", MANY, 8)
    recipe = _recipe(STEPS - 1)
    with Study(folder) as study:
        began = time.perf_counter()
        plan = plan_of(study, recipe)
        took = time.perf_counter() - began
        assert len(plan.runs) == MANY
        few = [f"S-{n:04d}" for n in range(SEEN)]
        study.run("begin-recipe", name="Noise")
        for step in recipe.steps:
            study.run("add-step", recipe="Noise", step=step.operation, settings=_text(step.settings))
        study.run("change-slot", recipe="Noise", slot="Image", pattern="in")
        gone = [r.id for r in study.records() if r.subject not in few]
        study.set_removed(gone, True)
    seen = _page(folder)
    return [
        Row(f"{MANY * STEPS} tasks planned", took, None, "", "≤ 5 s", met=took <= 5.0),
        Row(f"page of {SEEN} subjects opens", seen, None, "", "≤ 1 s", met=seen <= 1.0),
    ]


def _text(settings: dict) -> str:
    return ", ".join(f"{name}: {value}" for name, value in settings.items())


def _page(folder: Path) -> float:
    from PySide6.QtWidgets import QApplication

    from kestrelmist.desk.shell.window import Window
    from kestrelmist.study.study import Study

    app = QApplication.instance() or QApplication([])
    window = Window(Study(folder))
    window.show()
    window.start()
    end = time.monotonic() + 30
    while not window.settled and time.monotonic() < end:
        app.processEvents()
    window.viewing.set_stage("Report")
    app.processEvents()
    began = time.perf_counter()
    window.desk.recipes.open("Noise")
    while window.recipes.who.rowCount() < SEEN and time.perf_counter() - began < 30:
        app.processEvents()
    window.recipes.grab()
    took = time.perf_counter() - began
    window.close()
    return took
