"""Outlines of made-up animals and sections: bridged slices, strokes, cells, forests, vessels."""

from __future__ import annotations

import numpy as np
from scipy import ndimage
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.progress import silent
from kestrelmist.core.space import Space, picture_space
from kestrelmist.demo.animal import Animal, make_animal
from kestrelmist.demo.lattice import sampled
from kestrelmist.demo.nuclei import nuclei
from kestrelmist.demo.scans import head_ct_space, head_mr_space, scan_ct, scan_mr
from kestrelmist.demo.stained import stained
from kestrelmist.demo.truth import TISSUES
from kestrelmist.outline.cells.find_cells import find_cells
from kestrelmist.outline.forest.classify import classify
from kestrelmist.outline.forest.train import train
from kestrelmist.outline.fusing.fuse_labels import fuse_labels
from kestrelmist.outline.shaping.separate import separate
from kestrelmist.outline.slices.bridge import bridge_slices
from kestrelmist.outline.strokes.object_from_strokes import objects_in
from kestrelmist.outline.vessels.follow_vessel import follow_vessel

from .row import Row

ANIMALS = 3
TENTH = "the whole organ, of which every tenth slice was drawn"


def rows(seed: int) -> list[Row]:
    found: list[Row] = []
    for animal in (make_animal(f"HM-{n}", n) for n in range(seed, seed + ANIMALS)):
        found += [*_bridged(animal), *_apart(animal)]
    return [
        *found,
        *_strokes(make_animal(f"HM-{seed}", seed)),
        *_cells(seed),
        *_forest(seed),
        *_vessels(seed),
        *_fused(seed),
    ]


def dice(one: np.ndarray, other: np.ndarray) -> float:
    return 2 * np.count_nonzero(one & other) / max(1, np.count_nonzero(one) + np.count_nonzero(other))


def mapped(space: Space, mask: np.ndarray) -> LabelMap:
    return LabelMap(space, mask.astype(np.uint16).T, LabelTable().with_new("Organ")[0])


def organ(animal: Animal, name: str, space: Space) -> np.ndarray:
    return sampled(animal.fields[TISSUES[name]], *animal.frame(space.affine), space.shape[::-1]) <= 0


def _bridged(animal: Animal) -> list[Row]:
    """Brain and eyes, which every tenth slice shows well; hippocampus and jaw, of which it shows little, and which the
    edges of an image help."""
    space, found = head_ct_space(), []
    for name, least, off in (
        ("Brain", 0.97, 0.03),
        ("Eyes", 0.97, 0.03),
        ("Hippocampus", 0.82, 0.25),
        ("Lower jaw", 0.82, 0.25),
    ):
        whole = organ(animal, name, space)
        drawn = np.zeros_like(whole)
        drawn[:, 3::10] = whole[:, 3::10]
        labels = mapped(space, drawn)
        bridge_slices(labels, "Organ").apply(labels)
        made = labels.kji == 1
        volume = abs(made.sum() / whole.sum() - 1)
        found.append(
            Row(f"{name.lower()} of {animal.name}, bridged (overlap)", dice(made, whole), least, against=TENTH)
        )
        found.append(Row(f"{name.lower()} of {animal.name}, bridged (volume off)", volume, at_most=off, against=TENTH))
    found += _askew(animal)
    ct, mr = Image(scan_ct(animal, space), space), head_mr_space()
    for name, image, step, least, off in (
        ("Lower jaw", ct, 10, 0.97, 0.03),
        ("Hippocampus", Image(scan_mr(animal, mr), mr), 5, 0.93, 0.06),
    ):
        whole = organ(animal, name, image.space)
        drawn = np.zeros_like(whole)
        drawn[:, 3::step] = whole[:, 3::step]
        labels = mapped(image.space, drawn)
        bridge_slices(labels, "Organ", image=image).apply(labels)
        made, told = labels.kji == 1, f"{name.lower()} of {animal.name}, bridged along the image"
        every = f"the whole organ, of which every {'tenth' if step == 10 else 'fifth'} slice was drawn"
        volume = abs(made.sum() / whole.sum() - 1)
        found.append(Row(f"{told} (overlap)", dice(made, whole), least, against=every))
        found.append(Row(f"{told} (volume off)", volume, at_most=off, against=every))
    return found


def _askew(animal: Animal) -> list[Row]:
    """Eyes and brain from slices of planes of the world; across x both eyes lie one behind the other."""
    straight, found = head_mr_space(), []
    affine = straight.affine.copy()
    affine[:3, :3] = Rotation.from_euler("xyz", (5, -3, 4), degrees=True).as_matrix() @ affine[:3, :3]
    affine[:3, 3] = straight.centre - affine[:3, :3] @ ((np.array(straight.shape) - 1) / 2)
    askew = Space(straight.shape, affine)
    for name, space, axis, gap in (("Eyes", straight, 0, 3), ("Brain", askew, 1, 5), ("Eyes", askew, 2, 3)):
        whole = organ(animal, name, space)
        k, j, i = np.indices(whole.shape)
        along = sum(space.affine[axis, n] * v for n, v in enumerate((i, j, k)))
        wide = gap * space.spacing[axis]
        away = np.mod(along + wide / 2, wide) - wide / 2
        labels = mapped(space, whole & (np.abs(away) <= np.abs(space.affine[axis, :3]).sum() / 2))
        bridge_slices(labels, "Organ").apply(labels)
        lies = "turned" if space is askew else "as scanned"
        what = f"{name.lower()} of {animal.name} across {'xyz'[axis]}, grid {lies}, bridged (overlap)"
        against = f"the whole organ, of which every {'third' if gap == 3 else 'fifth'} slice was drawn"
        found.append(Row(what, dice(labels.kji == 1, whole), 0.97, against=against))
    return found


def _apart(animal: Animal) -> list[Row]:
    """Skull and lower jaw, which touch at the joints and are one label."""
    space = head_ct_space()
    skull, jaw = organ(animal, "Skull", space), organ(animal, "Lower jaw", space)
    labels = mapped(space, skull | jaw)
    separate(labels, "Organ").apply(labels)
    found = []
    for name, whole, most in (("skull", skull, 0.02), ("lower jaw", jaw, 0.04)):
        shared = np.bincount(labels.kji[whole], minlength=2)
        mine = labels.kji == 1 + int(shared[1:].argmax())
        off = abs(np.count_nonzero(mine) / np.count_nonzero(whole) - 1)
        what = f"{animal.name}: {name} told apart from what it touches (volume off)"
        found.append(Row(what, float(off), at_most=most, against="the animal's own"))
    return found


def _strokes(animal: Animal) -> list[Row]:
    """Three strokes inside and three round it, in the middle slices."""
    from skimage.morphology import skeletonize

    mr, ct = head_mr_space(), head_ct_space()
    cases = (
        ("Hippocampus", mr, Image(scan_mr(animal, mr), mr).kji, 0.9),
        ("Eyes", mr, Image(scan_mr(animal, mr), mr).kji, 0.87),
        ("Lower jaw", ct, Image(scan_ct(animal, ct), ct).kji, 0.95),
    )
    found = []
    for name, space, values, least in cases:
        pieces, _ = ndimage.label(organ(animal, name, space))
        whole = pieces == 1 + int(np.argmax(np.bincount(pieces.ravel())[1:]))
        marked = np.zeros(whole.shape, np.uint8)
        for axis in range(3):
            n = int(whole.sum(tuple(a for a in range(3) if a != axis)).argmax())
            plane, target = np.take(whole, n, axis), np.moveaxis(marked, axis, 0)[n]
            deep, away = ndimage.distance_transform_edt(plane), ndimage.distance_transform_edt(~plane)
            target[(away >= 3) & (away < 4)] = 255
            target[skeletonize(deep >= 0.35 * deep.max()) & plane] = 1
        box = tuple(slice(int(a.min()), int(a.max()) + 1) for a in np.nonzero(marked))
        made = objects_in(np.asarray(values[box], np.float32), marked[box], 1, space.spacing[::-1], silent()) == 1
        overlap = dice(made, whole[box])
        found.append(
            Row(f"{name.lower()} from three strokes each side (overlap)", overlap, least, against="the animal's own")
        )
    return found


def _picture(values: np.ndarray) -> Image:
    rows_, columns = values.shape[:2]
    space = picture_space(columns, rows_, (0.0005, 0.0005))
    if values.ndim == 3:
        return Image(np.ascontiguousarray(values.transpose(1, 0, 2)[:, :, None, :]), space, "Section", colour=True)
    return Image(np.asfortranarray(values.T[:, :, None]), space, "Section")


def _cells(seed: int) -> list[Row]:
    found = []
    for n, wide in ((seed, 10.0), (seed + 1, 14.0), (seed + 2, 20.0)):
        made = nuclei(n, 900, wide)
        for look, values in (("fluorescence", made.fluorescence), ("two stains", made.stained)):
            cells = find_cells(_picture(values), wide / 2).cells.kji[0].astype(np.int64)
            most = int(made.numbers.max())
            pair, count = np.unique(cells * (most + 1) + made.numbers, return_counts=True)
            mine, theirs = pair // (most + 1), pair % (most + 1)
            sizes = [np.bincount(v.ravel().astype(int)) for v in (cells, made.numbers)]
            both = (mine > 0) & (theirs > 0)
            shared = count[both] / (sizes[0][mine[both]] + sizes[1][theirs[both]] - count[both])
            got = int(np.count_nonzero(sizes[0][1:]))
            f1 = 2 * np.count_nonzero(shared >= 0.5) / (got + most)
            what = f"nuclei of {wide:g} pixels, {look}"
            found.append(Row(f"{what} (F1 at half)", float(f1), 0.95, against="each one's pixels"))
            found.append(Row(f"{what} (count off)", abs(got / most - 1), at_most=0.03, against="how many there are"))
    return found


def _forest(seed: int) -> list[Row]:
    """Nuclei and drops of fat of a stained section, from ten strokes a class; told apart on another section."""
    one, other = stained(seed, 512), stained(seed + 1, 512)

    def classes(made) -> np.ndarray:
        first, second = made.amounts
        found = np.zeros(first.shape, np.uint16)
        found[first > 0.35] = 1
        found[(second < 0.1) & (first < 0.2)] = 2
        found[(second >= 0.16) & (first < 0.2)] = 3
        return found

    def strokes(made) -> LabelMap:
        known, rng = classes(made), np.random.default_rng(seed)
        drawn = np.zeros(known.shape, np.uint16)
        for n in (1, 2, 3):
            deep = np.argwhere(ndimage.distance_transform_edt(known == n) >= 2)
            for y, x in deep[rng.integers(len(deep), size=10)]:
                part = (slice(max(0, y - 1), y + 2), slice(max(0, x - 6), x + 7))
                drawn[part][known[part] == n] = n
        table = LabelTable()
        for name in ("Nuclei", "Fat", "Tissue"):
            table, _ = table.with_new(name)
        space = picture_space(512, 512, (0.0005, 0.0005))
        return LabelMap(space, drawn.T[:, :, None], table)

    taught = train(_picture(one.colours), strokes(one)).classifier
    made, known = classify(_picture(other.colours), taught).kji[0], classes(other)
    sure = known > 0
    return [
        Row(
            f"{name} of another section, by a forest (overlap)",
            dice((made == n) & sure, known == n),
            0.9,
            against="stains",
        )
        for n, name in ((1, "nuclei"), (2, "fat and glass"))
    ]


def _fused(seed: int) -> list[Row]:
    """Regions above 5 mm³ of an animal, from those of three others that are aligned with it."""
    space, names = head_mr_space(), ("Skull", "Lower jaw", "Brain", "Eyes", "Hippocampus", "Ventricles")

    def labelled(n: int) -> tuple[Image, LabelMap]:
        animal, table = make_animal(f"HM-{n}", n), LabelTable()
        data = np.zeros(space.shape[::-1], np.uint16)
        for name in names:
            table, row = table.with_new(name)
            data[organ(animal, name, space)] = row.number
        image = Image(scan_mr(animal, space), space, f"Head {n}", f"HM-{n}", "MR")
        return image, LabelMap(space, data.T, table, "Regions", f"HM-{n}")

    (image, truth), *others = (labelled(n) for n in range(seed, seed + 4))
    made = fuse_labels(image, [one for one, _ in others], [known for _, known in others]).labels
    return [
        Row(
            f"{row.name.lower()} from three other animals (overlap)",
            dice(made.kji == made.table.named(row.name).number, truth.kji == row.number),
            0.85,
            against="the animal's own",
        )
        for row in truth.table
    ]


def _vessels(seed: int) -> list[Row]:
    """An artery and a vein that wind side by side."""
    rng = np.random.default_rng(seed)
    affine = np.diag([0.25, 0.25, 0.25, 1.0])
    affine[:3, 3] = (-8.6, -7.9, -7.4)
    space = Space((70, 64, 60), affine)
    t = np.linspace(0, 1, 600)
    artery = np.stack((-7 + 14 * t, 3 * np.sin(5 * t + rng.uniform(0, 6)), -3 + 5 * t), 1)
    vein = artery + np.array((0.0, 1.7, 0.3))
    world = space.to_world(np.indices(space.shape).reshape(3, -1).T)
    both = np.maximum(*(1 / (1 + np.exp((cKDTree(v).query(world)[0] - 0.6) / 0.05)) for v in (artery, vein)))
    values = 100 + 400 * both.reshape(space.shape) + rng.normal(0, 30, space.shape)
    image, labels = Image(np.asfortranarray(values.astype(np.float32)), space), LabelMap(space)
    found, wrong = [], []
    for name, line, other in (("Artery", artery, vein), ("Vein", vein, artery)):
        points = "; ".join(",".join(f"{v:.4f}" for v in line[n]) for n in (0, 200, 400, 599))
        made = follow_vessel(image, labels, points, name)
        made.labels.apply(labels)
        places = np.array([row[:3] for row in made.course.rows])
        seen = float(np.mean(cKDTree(places).query(line)[0] <= 0.25))
        found.append(Row(f"{name.lower()}, middle line found", seen, 0.95, against="the line it was made of"))
        voxels = space.to_world(np.argwhere(labels.kji == labels.table.named(name).number)[:, ::-1])
        wrong.append(float(np.mean(cKDTree(other).query(voxels)[0] < cKDTree(line).query(voxels)[0])))
    return [*found, Row("artery and vein confused", max(wrong), at_most=0.03, against="the nearer of both lines")]
