"""A cohort of made animals through one recipe, from their files to standard space: where landmarks are found in the
functional data, and what a group of maps tells."""

from __future__ import annotations

import tempfile
from functools import reduce
from pathlib import Path

import numpy as np
from scipy import ndimage

from kestrelmist.core.chain import joined
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.demo.animal import make_animal
from kestrelmist.demo.functional_files import name_of, write_run
from kestrelmist.demo.functional_run import FunctionalRun
from kestrelmist.demo.partial_views import partial_space, pose_of, whole_space
from kestrelmist.demo.scans import head_mr_space, scan_mr
from kestrelmist.demo.truth import true_labels
from kestrelmist.formats.saving import save_image
from kestrelmist.measure.group_map import group_map
from kestrelmist.study.recipes import editing
from kestrelmist.study.recipes.ready import ready_recipes
from kestrelmist.study.recipes.text import write_recipe
from kestrelmist.study.study import Study

from .row import Row

ANIMALS, TIMES, LANDMARKS, NULLS = 10, 16, 30, 20
READY = "Functional series to standard space"
WITH_WHOLE_VIEW = (9, 10, 11, 12)


def rows(seed: int) -> list[Row]:
    with tempfile.TemporaryDirectory() as folder:
        errors = _through_one_recipe(Path(folder), range(seed, seed + ANIMALS))
    against = f"{LANDMARKS} landmarks in each of {ANIMALS} animals: distorted, moved, tilted, a part of the head"
    what = "one recipe from files to standard space"
    peak, false = _group(seed)
    return [
        Row(f"{what}: landmarks, mean", float(np.mean(errors)), at_most=0.5, unit="voxels", against=against),
        Row(f"{what}: landmarks, worst animal", float(np.max(errors)), at_most=1.0, unit="voxels", against=against),
        Row("group map of a made response: its peak", peak, at_most=1.0, unit="voxels", against="where it was put"),
        Row(f"group maps of {NULLS} nulls without a cluster", 1 - false / NULLS, at_least=0.95, unit="of the cases",
            against="no response"),
    ]  # fmt: skip


def _files(place: Path, seed: int) -> tuple[FunctionalRun, np.ndarray]:
    """The scans of an animal: the head, and on another day a part of it as a series, with all that belongs to it."""
    animal, lies = make_animal(name_of(seed), seed), pose_of(seed, 3)
    place.mkdir(parents=True)
    save_image(place / "head T1.nii.gz", Image(scan_mr(animal, head_mr_space()), head_mr_space()))
    run = FunctionalRun(animal, TIMES, partial_space(seed))
    write_run(place, run, lies=lies)
    whole = FunctionalRun(animal, 1, whole_space())
    save_image(place / "whole view.nii.gz", Image(whole.reference(), whole_space().moved(lies)))
    return run, lies


def _through_one_recipe(folder: Path, seeds: range) -> list[float]:
    """Mean distance of landmarks from where they are, of each animal, in voxels of the series."""
    made = {name_of(seed): _files(folder / "files" / name_of(seed), seed) for seed in seeds}
    recipe = ready_recipes()[READY]
    for step in WITH_WHOLE_VIEW:
        recipe = editing.switched(recipe, step, False)
    write_recipe(folder / "recipe.yaml", recipe)
    with Study(folder / "study", create=True) as study:
        for name in made:
            study.run("gather", folder=folder / "files" / name, subject=name)
        study.run("open-pack")
        study.run("recipe", recipe=folder / "recipe.yaml", each_subject=True, workers=2)
        return [_error(study, name, *made[name]) for name in made]


def _error(study: Study, name: str, run: FunctionalRun, lies: np.ndarray) -> float:
    lines = [s for s in study.logbook.entries() if s.subject == name and not s.undone]

    def mapping(operation: str, result: str):
        (thing,) = next(s for s in reversed(lines) if s.operation == operation).outputs[result]
        return study.thing(thing.item)

    parts = ("align-boundary", "transform"), ("field-of-undistortion", "transform"), ("correct-motion", "moves")
    chain = reduce(joined, [mapping(*part) for part in parts])
    head = head_mr_space()
    brain = np.argwhere(true_labels(run.animal, ["Brain"], head) > 0)
    if true_labels(run.animal, ["Brain"], head).shape != head.shape:
        brain = brain[:, ::-1]
    values, frame = run._field
    errors = []
    rng = np.random.default_rng(run.animal.seed)
    scanner = run.space.moved(lies)
    for volume in range(4, TIMES):
        places = head.to_world(brain[rng.choice(len(brain), 40 * LANDMARKS)])
        moved = places @ run.pose(volume)[:3, :3].T + run.pose(volume)[:3, 3]
        hertz = ndimage.map_coordinates(values, (places @ frame[:3, :3].T + frame[:3, 3])[:, ::-1].T, order=1)
        there = run.space.to_voxel(moved)
        there[:, 1] += hertz * run.voxels_a_hz
        seen = np.flatnonzero(((there > 0) & (there < np.array(run.space.shape) - 1)).all(1))[:LANDMARKS]
        found = scanner.to_voxel(chain.of_volume(volume - 4).to(places[seen]))
        apart = np.linalg.norm((found - there[seen]) * run.space.spacing, axis=1)
        errors.append(float(apart.mean() / np.cbrt(run.space.voxel_volume)))
    return float(np.mean(errors))


def _group(seed: int) -> tuple[float, int]:
    """How far the peak of a made response lies from where it was put, in voxels; how many nulls have a cluster."""
    shape, centre = (40, 44, 30), np.array([24.0, 19.0, 12.0])
    space = Space(shape, np.diag([0.45, 0.45, 0.45, 1.0]))
    far = np.linalg.norm(np.moveaxis(np.indices(shape), 0, -1) - centre, axis=-1)

    def maps(number: int, bright: float) -> list[Image]:
        rng = np.random.default_rng(1000 * seed + number)
        found = []
        for n in range(12):
            noise = ndimage.gaussian_filter(rng.normal(size=shape), 1.2)
            ball = bright * rng.normal(1, 0.3) * np.exp(-((far / 2.5) ** 2))
            found.append(Image((noise / noise.std() + ball).astype(np.float32), space, f"map {n}"))
        return found

    first, *rest = maps(0, 2.5)
    table = group_map(first, rest).clusters
    place = np.array([[table.column(axis)[0] for axis in "xyz"]])
    peak = float(np.linalg.norm(space.to_voxel(place)[0] - centre))
    false = 0
    for number in range(1, NULLS + 1):
        first, *rest = maps(number, 0.0)
        chances = group_map(first, rest, flips=500).clusters.column("p")
        false += bool(chances and chances[0] < 0.05)
    return peak, false
