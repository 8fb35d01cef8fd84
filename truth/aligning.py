"""Alignments of whole animals whose places are known: one with itself in other scans, and one with another."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from scipy.spatial.transform import Rotation

from kestrelmist.align.align_images import align_images
from kestrelmist.align.how_sure import how_sure
from kestrelmist.core.image import Image
from kestrelmist.core.mapping import Mapping
from kestrelmist.core.space import Space
from kestrelmist.demo.animal import Animal, landmarks_in, make_animal
from kestrelmist.demo.scans import head_ct_space, head_mr_space, head_t2_space, scan_ct, scan_mr
from kestrelmist.demo.truth import true_labels

from .row import Row

NEAR, TURNS, PAIRS = 50, 24, 10
REGIONS = ["Brain", "Hippocampus", "Ventricles", "Eyes", "Lower jaw"]


def rows(seed: int) -> list[Row]:
    return [*_one_animal(seed), *_two_animals(seed)]


def _one_animal(seed: int) -> list[Row]:
    animal, rng = make_animal(f"HM-{seed}", seed), np.random.default_rng(seed)
    t1, t2, ct = head_mr_space(), head_t2_space(), head_ct_space(192, 180)
    onto = Image(scan_mr(animal, t1), t1, "T1")
    others = {"T2": Image(scan_mr(animal, t2, weighting="T2"), t2), "CT": Image(scan_ct(animal, ct), ct, unit="HU")}
    found = []
    places = t1.centre + rng.uniform(-6, 6, (200, 3))
    for name, image in others.items():
        half = min(image.space.spacing) / 2
        off = [_error(image, onto, _small(image.space, rng), places, "near") for _ in range(NEAR)]
        found.append(Row(f"T1 and {name}, from up to 30° and 8 mm away: within half a voxel",
                         np.mean(np.array(off) < half), 1.0, against=f"{NEAR} starts"))  # fmt: skip
        found.append(
            Row(f"T1 and {name}, mean error", float(np.mean(off)), at_most=half, unit="mm", against="the move")
        )
        turned, told = [], []
        for n in range(TURNS):
            move = np.eye(4)
            move[:3, :3] = Rotation.random(random_state=seed + n).as_matrix()
            move[:3, 3] = rng.uniform(-8, 8, 3)
            error, words = _error_and_words(image, onto, move, places)
            turned.append(error < half)
            told.append(words == "no")
        found.append(Row(f"T1 and {name}, from any turn", np.mean(turned), 1.0, against=f"{TURNS} turns"))
        mirrored = np.diag((-1.0, 1, 1, 1))
        seen = [_error_and_words(image, onto, move @ mirrored, places)[1] != "no" for move in (np.eye(4), move)]
        found.append(Row(f"T1 and {name}: swapped sides are noticed, and none where there are none",
                         np.mean([*told, *seen]), 1.0, against=f"{TURNS} sound ones, 2 mirrored"))  # fmt: skip
    return found


def _small(space: Space, rng: np.random.Generator) -> np.ndarray:
    axis, way = (v / np.linalg.norm(v) for v in rng.normal(size=(2, 3)))
    move = np.eye(4)
    move[:3, :3] = Rotation.from_rotvec(np.radians(rng.uniform(0, 30)) * axis).as_matrix()
    move[:3, 3] = space.centre - move[:3, :3] @ space.centre + rng.uniform(0, 8) * way
    return move


def _error(image: Image, onto: Image, move: np.ndarray, places: np.ndarray, search: str) -> float:
    moved = Image(np.asarray(image.data), image.space.moved(move), "Moved")
    found, _ = align_images(moved, onto, freedom="6", search=search)
    return _apart(found, move, places)


def _error_and_words(image: Image, onto: Image, move: np.ndarray, places: np.ndarray) -> tuple[float, str]:
    moved = Image(np.asarray(image.data), image.space.moved(move), "Moved")
    found, report = align_images(moved, onto, freedom="6", search="full")
    return _apart(found, move, places), report.rows[0][-1]


def _apart(found: Mapping, move: np.ndarray, places: np.ndarray) -> float:
    return float(np.linalg.norm(found.to(places) - places @ move[:3, :3].T - move[:3, 3], axis=1).mean())


def _two_animals(seed: int) -> list[Row]:
    space = head_mr_space()
    animals = [make_animal(f"HM-{n}", n) for n in range(seed, seed + PAIRS + 1)]
    left, rises, folds, held = [], [], [], []
    for one, other in pairwise(animals):
        onto, image = (Image(scan_mr(a, space), space, a.name, modality="MR", subject=a.name) for a in (one, other))
        for scan in (onto, image):
            scan.facts |= {"EchoTime": "0.01", "RepetitionTime": "2"}
        points, goals = landmarks_in(one, LANDMARKS), landmarks_in(other, LANDMARKS)
        ways = [align_images(image, onto, freedom=freedom) for freedom in ("12", "warp")]
        away = [np.linalg.norm(way.to(points) - goals, axis=1).mean() for way, _ in ways]
        overlap = [_overlap(one, other, way, space) for way, _ in ways]
        left.append(away[1] / away[0])
        rises.append(overlap[1] > overlap[0])
        limit = how_sure(image, onto, ways[1][0]).map
        at = np.clip(np.rint(limit.space.to_voxel(points)).astype(int), 0, np.array(limit.space.shape) - 1)
        off = np.linalg.norm(ways[1][0].to(points) - goals, axis=1)
        held.append(float(np.mean(off <= np.asarray(limit.data)[tuple(at.T)])))
        folds.append(dict(zip((c.name for c in ways[1][1].columns), ways[1][1].rows[0]))["least Jacobian"])
    return [
        Row("two animals, landmarks: what the warp leaves of what the affine left", float(np.mean(left)), at_most=0.5,
            against=f"30 places in {PAIRS} pairs"),
        Row("two animals: the mean overlap of regions rises by the warp", float(np.mean(rises)), 1.0,
            against=f"{', '.join(REGIONS).lower()} in {PAIRS} pairs"),
        Row("two animals: landmarks within the stated 90 % limit", float(np.mean(held)), 0.8, 0.98,
            against=f"30 places in {PAIRS} pairs, “How sure an alignment is”"),
        Row("two animals: the smallest Jacobian of a warp", float(np.min(folds)), 0.0, against="no folding"),
    ]  # fmt: skip


def _overlap(one: Animal, other: Animal, way: Mapping, space: Space) -> float:
    """Mean Dice of the true regions through a mapping."""
    here, there = (true_labels(a, REGIONS, space) for a in (one, other))
    box = np.indices(here.shape).reshape(3, -1).T[::3]
    at = np.rint(space.to_voxel(way.to(space.to_world(box)))).astype(int)
    inside = ((at >= 0) & (at < np.array(here.shape))).all(1)
    brought = np.zeros(len(box), np.uint16)
    brought[inside] = there[tuple(at[inside].T)]
    own = here[tuple(box.T)]
    dice = []
    for n in range(1, len(REGIONS) + 1):
        a, b = own == n, brought == n
        dice.append(2 * np.count_nonzero(a & b) / max(np.count_nonzero(a) + np.count_nonzero(b), 1))
    return float(np.mean(dice))


LANDMARKS = np.random.default_rng(30).uniform((-4, -7, -2), (4, 4, 4), (30, 3))
"""Places of the kind, in the brain and round it, mm."""
