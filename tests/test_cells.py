import csv
from unittest import mock

import numpy as np
from scipy import ndimage

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space, picture_space
from kestrelmist.demo.nuclei import nuclei
from kestrelmist.formats.saving import save_thing
from kestrelmist.outline.cells.class_cells import class_cells
from kestrelmist.outline.cells.find_cells import find_cells
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space
from tests.test_bridge import ellipsoid
from tests.test_shaping import mapped

PIXEL = 0.0005


def picture(values, pixel=PIXEL, name="Section") -> Image:
    rows, columns = values.shape[:2]
    space = picture_space(columns, rows, None if pixel is None else (pixel, pixel))
    if values.ndim == 3:
        return Image(np.ascontiguousarray(values.transpose(1, 0, 2)[:, :, None, :]), space, name, colour=True)
    return Image(np.asfortranarray(values.T[:, :, None]), space, name)


def score(found, truth) -> tuple[float, float]:
    """How far the count is off, and F1 of cells that share half of their union with a true one."""
    most = int(truth.max())
    pair, count = np.unique(found.astype(np.int64) * (most + 1) + truth, return_counts=True)
    mine, theirs = pair // (most + 1), pair % (most + 1)
    sizes = [np.bincount(v.ravel()) for v in (found, truth)]
    both = (mine > 0) & (theirs > 0)
    shared = count[both] / (sizes[0][mine[both]] + sizes[1][theirs[both]] - count[both])
    got = int(np.count_nonzero(sizes[0][1:]))
    return abs(got / most - 1), 2 * np.count_nonzero(shared >= 0.5) / (got + most)


class FindCellsTest(PlaceCase):
    """Against sections in which the pixels of every nucleus are known; half of them touch another one."""

    def test_fluorescence_and_two_stains_of_several_sizes(self):
        for seed, wide in ((1, 10.0), (4, 14.0), (5, 20.0)):
            made = nuclei(seed, 600, wide)
            for values in (made.fluorescence, made.stained):
                found = find_cells(picture(values), wide / 2)
                off, f1 = score(found.cells.kji[0], made.numbers)
                self.assertLess(off, 0.03)
                self.assertGreater(f1, 0.96)
                self.assertEqual(found.table.count, int(found.cells.counts[1:].astype(bool).sum()))

    def test_pieces_leave_no_seam(self):
        made = nuclei(2, 700, 14.0)
        whole = find_cells(picture(made.fluorescence), 7.0)
        with mock.patch("kestrelmist.outline.cells.find_cells.TILE", 190):
            parts = find_cells(picture(made.fluorescence), 7.0)
        self.assertEqual(parts.table.count, whole.table.count)
        self.assertLess(np.mean((parts.cells.kji > 0) != (whole.cells.kji > 0)), 2e-4)
        off, f1 = score(parts.cells.kji[0], whole.cells.kji[0].astype(int))
        self.assertEqual((off, f1), (0.0, 1.0))

    def test_a_packed_picture_is_read_in_few_parts(self):
        made = nuclei(3, 700, 14.0)
        plain = picture(made.stained)
        want = find_cells(plain, 7.0)
        reads: list[int] = []

        def part(index, box):
            i0, i1, j0, j1 = box
            reads.append((i1 - i0) * (j1 - j0))
            return plain.rgb()[i0:i1, j0:j1]

        shown = Image(lambda index, progress: self.fail("all of it was read"), plain.space, "Section", colour=True)
        shown.part = part
        found = find_cells(shown, 7.0)
        np.testing.assert_array_equal(found.cells.kji, want.cells.kji)
        self.assertEqual(found.table.rows, want.table.rows)
        self.assertLessEqual(len(reads), 20)
        self.assertLessEqual(sum(reads), 6 * plain.space.shape[0] * plain.space.shape[1])

    def test_the_table_measures_them(self):
        space = picture_space(200, 160, (PIXEL, PIXEL))
        values = np.zeros((160, 200), np.float32)
        y, x = np.mgrid[0:160, 0:200]
        values[((x - 50) / 12) ** 2 + ((y - 60) / 6) ** 2 <= 1] = 100
        values[(x - 140) ** 2 + (y - 100) ** 2 <= 64] = 80
        found = find_cells(picture(values), 8.0)
        rows = sorted(found.table.rows, key=lambda r: -r[4])
        self.assertEqual(len(rows), 2)
        number, at_x, at_y, area, length, width, roundness, mean = rows[0]
        wanted = space.to_world((50, 60, 0)) * 1e3
        self.assertLess(np.hypot(at_x - wanted[0], at_y - wanted[1]), 0.1)
        self.assertLess(abs(area / (np.pi * 12 * 6 * 0.25) - 1), 0.05)
        self.assertLess(abs(length / 12 - 1), 0.04)
        self.assertLess(abs(width / 6 - 1), 0.06)
        self.assertLess(abs(roundness - 0.5), 0.03)
        self.assertEqual(found.table.columns[3].unit, "µm²")
        self.assertGreater(mean, 90)
        self.assertEqual(find_cells(picture(values), 8.0, roundness=0.8).table.count, 1)
        self.assertEqual(find_cells(picture(values), 8.0, most=1.06).table.count, 1)

    def test_volumes_dark_ones_and_pictures_without_a_scale(self):
        space = straight_space((70, 64, 50), 0.5)
        rng = np.random.default_rng(0)
        middles = [(-9, -8, -6), (-9, -3, -6), (4, 6, 3), (9, -7, 0), (0, 0, 8)]
        body = np.zeros(space.shape[::-1])
        for at in middles:
            body = np.maximum(body, ellipsoid(space, at, (2.6, 2.6, 2.6)))
        for sign in (1, -1):
            values = 200 + sign * 90 * body + rng.normal(0, 8, body.shape)
            found = find_cells(Image(values.T.astype(np.float32), space), 5200)
            self.assertEqual(found.table.count, 5)
            places = np.array([row[1:4] for row in found.table.rows])
            away = np.linalg.norm(places[:, None] - np.array(middles), axis=-1)
            self.assertLess(away.min(0).max(), 0.4)
        made = nuclei(3, 400, 14.0)
        found = find_cells(picture(made.fluorescence, None), 14.0)
        self.assertGreater(score(found.cells.kji[0], made.numbers)[1], 0.95)
        self.assertEqual(found.table.columns[1].unit, "px")

    def test_channels_by_name_and_number(self):
        made = nuclei(6, 400, 14.0)
        lipid = np.random.default_rng(1).integers(0, 2000, made.numbers.shape).astype(np.uint16)
        space = picture_space(400, 400, (PIXEL, PIXEL))
        data = np.stack((lipid.T[:, :, None], made.fluorescence.T[:, :, None]), -1)
        both = Image(np.asfortranarray(data), space, "Two", axes=(Axis("channel", 2, labels=("lipid", "nuclei")),))
        plain = find_cells(picture(made.fluorescence), 7.0)
        for channel in (None, "nuclei", "2"):
            found = find_cells(both, 7.0, channel)
            np.testing.assert_array_equal(found.cells.kji, plain.cells.kji)
        self.assertEqual([c.name for c in found.table.columns][-2:], ["mean_lipid", "mean_nuclei"])
        with self.assertRaisesRegex(Trouble, "no channel “3”"):
            find_cells(both, 7.0, "3")

    def test_values_of_every_scale(self):
        made = nuclei(7, 300, 14.0)
        plain = find_cells(picture(made.fluorescence.astype(np.float32)), 7.0)
        for factor, shift in ((1e-6, 0.0), (1e6, -1e9), (1.0, -5000.0)):
            values = (made.fluorescence * factor + shift).astype(np.float32)
            off, f1 = score(find_cells(picture(values), 7.0).cells.kji[0], plain.cells.kji[0].astype(int))
            self.assertGreater(f1, 0.97)
        holed = made.fluorescence.astype(np.float32)
        holed[100:140, 100:140] = np.nan
        self.assertGreater(find_cells(picture(holed), 7.0).table.count, 0.85 * plain.table.count)

    def test_wrong_input(self):
        made = nuclei(8, 200, 14.0)
        for values, given, words in (
            (made.fluorescence, {"diameter": 0.3}, "less than two pixels"),
            (made.fluorescence, {"diameter": 1e6}, "are more than “Section” is wide"),
            (np.zeros((90, 90), np.uint8), {"diameter": 7.0}, "Nothing stands out"),
            (np.full((90, 90), np.nan, np.float32), {"diameter": 7.0}, "Nothing stands out"),
            (made.fluorescence, {"diameter": 7.0, "least": 50.0, "most": 60.0}, "No cell of about 7 µm"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                find_cells(picture(values), **given)
        with (
            mock.patch("kestrelmist.outline.cells.find_cells.LARGEST", 10),
            self.assertRaisesRegex(Trouble, "more than 10"),
        ):
            find_cells(picture(made.fluorescence), 7.0)
        with mock.patch("kestrelmist.outline.cells.find_cells.LARGEST", 10):
            found = find_cells(picture(made.fluorescence), 7.0, as_one=True)
        self.assertGreater(found.table.count, 20)
        self.assertEqual([row.name for row in found.cells.table], ["Cells"])
        progress = Progress()
        progress.cancel()
        with self.assertRaises(Cancelled):
            find_cells(picture(made.fluorescence), 7.0, progress=progress)

    def test_from_files_with_a_table(self):
        made = nuclei(9, 300, 14.0)
        save_thing(self.place / "s.ome.tif", picture(made.fluorescence))
        for diameter in ("7", "7um", "0.007mm"):
            kestrelmist(
                "find-cells",
                self.place / "s.ome.tif",
                "--diameter",
                diameter,
                "--out",
                self.place / "l.nii.gz",
                "--table",
                self.place / "t.csv",
            )
            with open(self.place / "t.csv", encoding="utf-8") as stream:
                rows = list(csv.reader(stream))
            self.assertEqual(len(rows) - 1, find_cells(picture(made.fluorescence), 7.0).table.count)
            (self.place / "l.nii.gz").unlink()
            (self.place / "t.csv").unlink()
            (self.place / "l.tsv").unlink()


class ClassCellsTest(PlaceCase):
    """Nuclei of which every third one carries a marker, in a channel of its own."""

    def setUp(self):
        super().setUp()
        self.made = nuclei(9, 500, 14.0)
        numbers = self.made.numbers
        self.carries = np.arange(int(numbers.max()) + 1) % 3 == 1
        rng = np.random.default_rng(4)
        self.marker = 400 + 600 * self.carries[numbers] + rng.normal(0, 60, numbers.shape)
        self.marker[numbers == 0] = rng.uniform(0, 3000, int((numbers == 0).sum()))  # what lies between counts not
        space = picture_space(500, 500, (PIXEL, PIXEL))
        data = np.stack((self.made.fluorescence.T[:, :, None], self.marker.T[:, :, None].astype(np.uint16)), -1)
        axes = (Axis("channel", 2, labels=("nuclei", "marker")),)
        self.image = Image(np.asfortranarray(data), space, "Two", axes=axes)
        self.cells = mapped(space)
        self.cells.kji[0] = numbers
        self.cells.recount()

    def test_classes_counts_and_table(self):
        found = class_cells(self.image, self.cells, "marker")
        truth = np.where(self.made.numbers == 0, 0, np.where(self.carries[self.made.numbers], 1, 2))
        np.testing.assert_array_equal(found.classes.kji[0], truth)
        self.assertEqual([row.name for row in found.classes.table], ["Positive", "Negative"])
        many = int(self.made.numbers.max())
        self.assertIn(f"{int(self.carries[1:].sum())} of {many} Positive", found.table.title)
        row = found.table.rows[3]
        inside = self.made.numbers == 4
        at = np.argwhere(inside).mean(0)
        place = self.cells.space.to_world((at[1], at[0], 0))[:2] * 1e3
        np.testing.assert_allclose(row[1:3], place, atol=1e-6)
        self.assertAlmostEqual(row[3], float(self.marker.astype(np.uint16)[inside].mean()), places=6)
        self.assertEqual((row[0], row[5]), (4, "Positive"))
        self.assertTrue(450 < row[4] < 950)

    def test_a_limit_pieces_and_a_ring(self):
        whole = class_cells(self.image, self.cells, "marker", above=700.0)
        with mock.patch("kestrelmist.outline.cells.class_cells.SIDE", 130):
            parts = class_cells(self.image, self.cells, "marker", above=700.0)
            ringed = class_cells(self.image, self.cells, "marker", above=1500.0, ring=1.0)
        np.testing.assert_array_equal(parts.classes.kji, whole.classes.kji)
        self.assertEqual(parts.table.rows, whole.table.rows)
        numbers = self.made.numbers
        away, nearest = ndimage.distance_transform_edt(numbers == 0, return_indices=True)
        ring = np.where((away > 0) & (away <= 2.0), numbers[tuple(nearest)], 0)
        means = ndimage.mean(self.marker.astype(np.uint16), ring, np.arange(1, int(numbers.max()) + 1))
        np.testing.assert_allclose([row[3] for row in ringed.table.rows], means, rtol=1e-9)
        dark = class_cells(self.image, self.cells, "2", above=700.0, look="dark")
        self.assertEqual(set(np.unique(dark.classes.kji[whole.classes.kji == 1])), {2})

    def test_wrong_input_and_by_command(self):
        one = mapped(self.cells.space, Cell=self.made.numbers[None] == 1)
        for labels, given, words in (
            (self.cells, {"channel": "lipid"}, "no channel “lipid”"),
            (one, {"channel": "marker"}, "fewer than two cells"),
            (self.cells, {"channel": "marker", "negative": "positive"}, "names that differ"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(Trouble, words):
                class_cells(self.image, labels, **given)
        even = Image(np.full((500, 500, 1), 7, np.uint16), self.cells.space, "Even")
        with self.assertRaisesRegex(Trouble, "are alike"):
            class_cells(even, self.cells, "1")
        save_thing(self.place / "two.ome.tif", self.image)
        save_thing(self.place / "cells.nii.gz", self.cells)
        out, table = self.place / "classes.nii.gz", self.place / "cells.csv"
        kestrelmist(
            *("class-cells", self.place / "two.ome.tif", "--labels", self.place / "cells.nii.gz"),
            *("--channel", "marker", "--positive", "Ki", "--out", out, "--table", table),
        )
        with open(table, newline="") as stream:
            classes = [row[-1] for row in csv.reader(stream)][1:]
        self.assertEqual(classes.count("Ki"), int(self.carries[1:].sum()))


class SpaceTest(PlaceCase):
    def test_long_pixels(self):
        space = Space((120, 60, 1), np.diag([0.0005, 0.001, 1.0, 1.0]))
        values = np.zeros((60, 120), np.float32)
        y, x = np.mgrid[0:60, 0:120]
        for at in ((20, 30), (40, 80)):
            values[((x - at[1]) / 14) ** 2 + ((y - at[0]) / 7) ** 2 <= 1] = 50
        found = find_cells(Image(np.asfortranarray(values.T[:, :, None]), space), 14.0)
        self.assertEqual(found.table.count, 2)
        self.assertGreater(min(row[6] for row in found.table.rows), 0.95)
