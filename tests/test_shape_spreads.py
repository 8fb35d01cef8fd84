"""How sure shapes of labels are, against labels whose borders fall in or out by chance, and scales that are unsure."""

import unittest

import numpy as np
from scipy import ndimage

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.scale import FACT, Scale
from kestrelmist.core.space import Space, picture_space
from kestrelmist.measure.regions.measure_labels import measure_labels

RNG = np.random.default_rng(11)


def row_of(space: Space, inside: np.ndarray, columns: str, **more) -> dict:
    """The row of one label, drawn where a mask [i, j, k] is."""
    table, _ = LabelTable().with_new("Ball")
    labels = LabelMap(space, np.asfortranarray(inside.astype(np.uint16)), table)
    image = Image(np.zeros(space.shape, np.uint8, order="F"), space, "made up", **more)
    return measure_labels(image, labels, columns).as_records()[0]


def by_chance(inside: np.ndarray) -> np.ndarray:
    """The mask with each voxel of its border in or out with equal chance: those within that touch the outside, taken
    from a shape half a voxel larger."""
    flat = inside.shape[2] == 1
    mask = inside[:, :, 0] if flat else inside
    core = ndimage.binary_erosion(mask, ndimage.generate_binary_structure(mask.ndim, 1))
    made = core | (mask & (RNG.random(mask.shape) < 0.5))
    return made[:, :, None] if flat else made


class SpreadTest(unittest.TestCase):
    def found(self, space: Space, inside: np.ndarray, columns: str, count: int) -> dict[str, tuple[float, float]]:
        """For each column the spread that was seen, and the mean of those that were stated."""
        rows = [row_of(space, by_chance(inside), columns) for _ in range(count)]
        names = [name.strip() for name in columns.split(",")]
        return {name: (float(np.std([r[name] for r in rows])), float(np.mean([r[f"{name}_uncertainty"] for r in rows])))
                for name in names}  # fmt: skip

    def test_a_disc(self):
        space = picture_space(60, 60, (0.5, 0.5))
        i, j = np.indices((60, 60))
        inside = (np.hypot(i - 29.3, j - 30.1) <= 20)[:, :, None]
        for name, (seen, stated) in self.found(space, inside, "major_axis, minor_axis, x, y", 300).items():
            # a border of chance has more voxels at it than a smooth one, so that more is stated than is seen
            self.assertTrue(0.7 * seen <= stated <= 2.2 * seen, (name, seen, stated))

    def test_a_ball(self):
        space = Space((30, 30, 30), np.diag([1.0, 1.0, 1.0, 1.0]))
        i, j, k = np.indices((30, 30, 30))
        inside = np.sqrt((i - 14.2) ** 2 + (j - 15.3) ** 2 + (k - 14.8) ** 2) <= 10
        columns = "longest_axis, middle_axis, shortest_axis, x, y, z"
        for name, (seen, stated) in self.found(space, inside, columns, 60).items():
            self.assertTrue(0.6 * seen <= stated <= 2.5 * seen, (name, seen, stated))

    def test_smooth_shapes_lie_inside_what_is_stated(self):
        space = picture_space(60, 60, (0.5, 0.5))
        i, j = np.indices((60, 60))
        inside = {"major_axis": 0, "perimeter": 0, "feret": 0, "x": 0}
        for _ in range(60):
            middle, radius = RNG.uniform(28, 31, 2), RNG.uniform(8, 20)
            row = row_of(space, (np.hypot(i - middle[0], j - middle[1]) <= radius)[:, :, None], ", ".join(inside))
            true = {"major_axis": radius, "perimeter": np.pi * radius, "feret": radius, "x": (middle[0] - 29.5) * 0.5}
            for name, value in true.items():
                inside[name] += abs(row[name] - value) <= 1.96 * row[f"{name}_uncertainty"]
        for name, count in inside.items():
            self.assertGreaterEqual(count, 55, name)

    def test_the_scale_goes_through(self):
        scale = Scale("mm", "by calibration “ten”", (0.05, 0.05, 0.0), calibration="ten")
        space = picture_space(400, 400, (0.5, 0.5))
        i, j = np.indices((400, 400))
        inside = (np.hypot(i - 200, j - 200) <= 150)[:, :, None]
        row = row_of(space, inside, "major_axis, perimeter, feret", facts={FACT: scale.fact})
        for name in ("major_axis", "perimeter", "feret"):
            self.assertAlmostEqual(row[f"{name}_uncertainty"] / row[name], 0.05, delta=0.002, msg=name)
        box = Space((50, 50, 50), np.diag([1.0, 1.0, 1.0, 1.0]))
        whole = np.zeros((50, 50, 50), bool)
        whole[5:45, 5:45, 5:45] = True
        row = row_of(box, whole, "surface", facts={FACT: Scale("mm", "so", (0.05, 0.05, 0.05)).fact})
        self.assertAlmostEqual(row["surface_uncertainty"] / row["surface"], 0.1, delta=0.005)

    def test_without_a_scale_by_chance_alone(self):
        space = picture_space(60, 60, None)
        i, j = np.indices((60, 60))
        row = row_of(space, (np.hypot(i - 30, j - 30) <= 15)[:, :, None], "feret")
        self.assertAlmostEqual(row["feret_uncertainty"], 1 / np.sqrt(3), places=6)


if __name__ == "__main__":
    unittest.main()
