"""A cohort of made animals through one recipe, from their files to standard space: where landmarks are found in the
functional data, and what the group of their answers to an odour tells."""

from __future__ import annotations

import tempfile
from functools import reduce
from pathlib import Path
from typing import NamedTuple

import numpy as np
from scipy import ndimage

from kestrelmist.core.chain import joined
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.demo.animal import make_animal
from kestrelmist.demo.functional_files import name_of, write_run
from kestrelmist.demo.functional_run import REPEAT, FunctionalRun
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
ANSWERS = np.array([[-2.4, 0.8, 2.8], [2.4, 0.8, 2.8]])
"""Where an animal's brain answers the odour most, mm; see `demo.functional_run`."""


def rows(seed: int) -> list[Row]:
    with tempfile.TemporaryDirectory() as folder:
        errors, peaks, others = _through_one_recipe(Path(folder), range(seed, seed + ANIMALS))
    against = f"{LANDMARKS} landmarks in each of {ANIMALS} animals: distorted, moved, tilted, a part of the head"
    what = "one recipe from files to standard space"
    put = "where the answers of these animals lie in standard space"
    made = [_made_group(1000 * seed + number, 2.5) for number in range(20)]
    false = sum(found.p < 0.05 for found in (_made_group(1000 * seed + 100 + n, 0.0) for n in range(NULLS)))
    return [
        Row(f"{what}: landmarks, mean", float(np.mean(errors)), at_most=0.5, unit="voxels", against=against),
        Row(f"{what}: landmarks, worst animal", float(np.max(errors)), at_most=1.0, unit="voxels", against=against),
        Row(f"group map of {ANIMALS} answers to an odour, {len(peaks)} peaks, the farthest", max(peaks), at_most=1.0,
            unit="voxels", against=put),
        Row("the same: other clusters with p below 0.05", others, at_most=0, against="nothing else answers"),
        Row("group maps of 20 made groups: peaks, mean", float(np.mean([f.away for f in made])), at_most=0.5,
            unit="voxels", against="where it was put"),
        Row("the same: within a voxel", float(np.mean([f.away <= 1.0 for f in made])), at_least=0.95,
            unit="of the cases", against="where it was put"),
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


def _through_one_recipe(folder: Path, seeds: range) -> tuple[list[float], list[float], int]:
    """Mean distance of landmarks from where they are, of each animal, in voxels of the series; then of the group map
    how far each peak is from where it is, in voxels, and how many clusters lie elsewhere."""
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
        return [_error(study, name, *made[name]) for name in made], *_answers(study, {n: made[n][0] for n in made})


def _answers(study: Study, runs: dict[str, FunctionalRun]) -> tuple[list[float], int]:
    """The group map of how much each voxel's values change with the odour, per cent of their mean."""
    odour = study.folder.parent / "odour.csv"
    maps, places = [], []
    for name, run in runs.items():
        moments = np.arange(4, TIMES) * REPEAT + REPEAT / 2  # slices are brought to the middle of each volume
        odour.write_text("\n".join(["odour", *map(str, run.answer(moments))]) + "\n")
        (scaled,) = study.run("scale-series", image=_made(study, name, "smooth", "image"), each="voxel")
        maps += study.run("correlate", image=scaled, curve=odour, gives="change")
        warp = study.thing(_made(study, name, "align", "transform"))
        places.append(warp.prepared().to(ANSWERS))
    found = study.run("group-map", image=maps[0], others=maps[1:])
    wanted, step = np.mean(places, 0), study.find(maps[0]).space.spacing[0]
    table, peaks, others = found["clusters"], [], 0
    for p, *place in zip(table.column("p"), *(table.column(axis) for axis in "xyz")):
        away = float(np.linalg.norm(wanted - place, axis=1).min()) / step
        if p < 0.05 and len(peaks) < len(ANSWERS):
            peaks.append(away)
        elif p < 0.05:
            others += 1
    if len(peaks) < len(ANSWERS):
        raise RuntimeError(f"the group map has {len(peaks)} clusters for {len(ANSWERS)} answers")
    return peaks, others


def _made(study: Study, name: str, operation: str, result: str) -> int:
    """The id of what an operation has made last of an animal."""
    lines = (s for s in reversed(study.logbook.entries()) if s.subject == name and not s.undone)
    (thing,) = next(s for s in lines if s.operation == operation).outputs[result]
    assert thing.item is not None
    return thing.item


def _error(study: Study, name: str, run: FunctionalRun, lies: np.ndarray) -> float:
    parts = ("align-boundary", "transform"), ("field-of-undistortion", "transform"), ("correct-motion", "moves")
    chain = reduce(joined, [study.thing(_made(study, name, *part)) for part in parts])
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


class _Group(NamedTuple):
    p: float
    """Of the largest cluster; 1 where there is none."""
    away: float
    """Of its peak from where it was put, voxels."""


def _made_group(seed: int, bright: float) -> _Group:
    """The group map of twelve made maps: smooth noise, and a ball of some brightness."""
    shape, centre = (40, 44, 30), np.array([24.0, 19.0, 12.0])
    space = Space(shape, np.diag([0.45, 0.45, 0.45, 1.0]))
    far = np.linalg.norm(np.moveaxis(np.indices(shape), 0, -1) - centre, axis=-1)
    rng, maps = np.random.default_rng(seed), []
    for n in range(12):
        noise = ndimage.gaussian_filter(rng.normal(size=shape), 1.2)
        ball = bright * rng.normal(1, 0.3) * np.exp(-((far / 2.5) ** 2))
        maps.append(Image((noise / noise.std() + ball).astype(np.float32), space, f"map {n}"))
    table = group_map(maps[0], maps[1:], flips=500).clusters
    if not table.count:
        return _Group(1.0, np.inf)
    place = np.array([[table.column(axis)[0] for axis in "xyz"]])
    return _Group(table.column("p")[0], float(np.linalg.norm(space.to_voxel(place)[0] - centre)))
