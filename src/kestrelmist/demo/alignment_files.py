"""Scans to be aligned, with all true mappings: functional views of part of the head and of all of it, a CT that lies
elsewhere in another scale, and sections of one block."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from scipy import ndimage

from ..align.lay import hand_matrix
from ..core.errors import Trouble
from ..core.image import Image
from ..core.progress import Progress, silent
from ..core.space import Space, picture_space
from ..core.table import Column, Table
from ..core.transform import Transform
from ..formats.beside_nifti import write_sidecar
from ..formats.saving import save_image, save_thing
from ..formats.sidecar import with_facts
from .animal import Animal, make_animal
from .functional_run import DIRECTION, SPACING, FunctionalRun
from .partial_views import partial_space, pose_of, whole_space
from .scans import clean_mr, head_ct_space, head_mr_space, scan_ct, scan_mr
from .truth import true_shares

VIEWS = ("partial view", "whole view")
SECTIONS, THICK, PIXEL = 10, 0.35, 0.05
"""Sections of the block, mm from one to the next, and mm a pixel."""
CT_SCALE = 1.12
"""How many times larger the CT says that the head is: its pixel size was set wrongly."""


def write_alignments(folder: Path, seeds: range, progress: Progress | None = None) -> list[Path]:
    """Make the animals of some seeds in a new folder each; the first one also has a CT and the sections of a block.

    Transforms lead from places of the anatomy (T1), or of the fifth section, to where they are found in the others.

    Raises Trouble when a folder of an animal is there already, Cancelled.
    """
    progress = progress or silent()
    made = []
    for n, seed in enumerate(seeds):
        place = folder / f"HM-{seed}"
        if place.exists():
            raise Trouble("There is something of this name already", "name another folder", place)
        (place / "truth").mkdir(parents=True)
        part = progress.part(n / len(seeds), (n + 1) / len(seeds))
        part.at(0.0, f"Making HM-{seed}")
        animal = make_animal(f"HM-{seed}", seed)
        space = head_mr_space()
        save_image(place / "head T1.nii.gz", Image(scan_mr(animal, space), space, "Head T1", modality="MR"))
        white = np.ascontiguousarray(true_shares(animal, space, 2)[..., 1])
        save_image(place / "truth" / "white matter.nii.gz", Image(white, space, "White matter"))
        _functional(place, animal, seed, space)
        if n == 0:
            part.at(0.7, "Making a CT that lies elsewhere")
            _ct(place, animal)
            part.at(0.8, "Making sections of a block")
            _block(place, animal, seed)
        part.at(1.0)
        made.append(place)
    return made


def _functional(place: Path, animal: Animal, seed: int, anatomy: Space) -> None:
    """A single reference volume of each view, with its sidecar; the field map, where the anatomy has it."""
    for which, (name, space) in enumerate(zip(VIEWS, (partial_space(seed), whole_space()))):
        run, pose = FunctionalRun(animal, 1, space), pose_of(seed, which)
        image = Image(run.reference(pose), space, name, modality="MR")
        image.facts = with_facts(image, EffectiveEchoSpacing=SPACING, PhaseEncodingDirection=DIRECTION)
        save_image(place / f"{name} EP.nii.gz", image)
        write_sidecar(place / f"{name} EP.nii.gz", image)
        save_thing(place / "truth" / f"{name} to head T1.tfm", Transform(pose, name=name))
        if which == 0:
            field = Image(run.true_field(anatomy).astype(np.float32), anatomy, "Field", unit="Hz")
            save_image(place / "field map.nii.gz", field)


def _ct(place: Path, animal: Animal) -> None:
    space = head_ct_space(192, 180)
    moved = hand_matrix((6.0, -4.0, 9.0), (12.0, -8.0, 17.0), CT_SCALE, space.centre)
    save_image(place / "head CT.nii.gz", Image(scan_ct(animal, space), space.moved(moved), "Head CT", unit="HU"))
    save_thing(place / "truth" / "head CT to head T1.tfm", Transform(moved, name="head CT"))


def _block(place: Path, animal: Animal, seed: int) -> None:
    """Coronal sections through the brain, each laid on its glass in its own way; the truth as table and transforms."""
    rng = np.random.default_rng(seed + 70)
    columns, rows = 400, 360
    poses, rows_of_table = [], []
    middle = np.zeros(3)  # of a picture
    for n in range(SECTIONS):
        y = -5.5 + THICK * n
        affine = np.array([[PIXEL, 0, 0, -10.0], [0, 0, PIXEL, y], [0, -PIXEL, 0, 10.0], [0, 0, 0, 1]])
        values = clean_mr(animal, Space((columns, rows, 1), affine), "PD")[0]
        move = hand_matrix((*rng.uniform(-0.8, 0.8, 2), 0), (0, 0, rng.uniform(-12, 12)), 1, middle)
        space = picture_space(columns, rows, (PIXEL, PIXEL))
        back = space.inverse @ np.linalg.inv(move) @ space.affine
        laid = ndimage.affine_transform(values, back[1::-1, 1::-1], back[1::-1, 3], order=1, mode="constant")
        stained = np.clip(laid * 200 + rng.normal(0, 3, laid.shape), 0, 255).astype(np.uint8)
        save_image(place / f"section {n + 1:02d}.ome.tif", Image(stained.T[:, :, None], space, f"Section {n + 1}"))
        poses.append(move)
    stays = poses[(SECTIONS - 1) // 2]
    for n, pose in enumerate(poses):
        found = pose @ np.linalg.inv(stays)
        save_thing(
            place / "truth" / f"section {n + 1:02d} to section 05.tfm", Transform(found, name=f"section {n + 1}")
        )
        turn = float(np.degrees(np.arctan2(found[1, 0], found[0, 0])))
        rows_of_table.append((f"section {n + 1:02d}", float(found[0, 3]), float(found[1, 3]), turn))
    columns_ = [Column("section"), Column("shift x", "mm", 4), Column("shift y", "mm", 4), Column("turn", "degrees", 3)]
    save_thing(place / "truth" / "sections.csv", Table("Sections", columns_, rows_of_table))
