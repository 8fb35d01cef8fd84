"""Pictures that are larger than memory: piece by piece, coarse first, the same pixels, bounded memory."""

import unittest
from unittest import mock

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtTest import QTest

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import picture_space
from kestrelmist.formats.ome_zarr_write import save_ome_zarr
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.tiff_write import save_ome_tiff
from kestrelmist.scene import tiles as tiling
from kestrelmist.scene.drawing import draw
from kestrelmist.scene.layer import ImageLook
from kestrelmist.scene.layer_type import Drawn
from kestrelmist.scene.sampling import sample_values
from kestrelmist.scene.showing import for_showing
from kestrelmist.scene.tiles import Tiles, finest_values, tiles_of
from kestrelmist.scene.view import AXIAL, fitted
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import PlaceCase

WIDE, HIGH, PIXEL = 2600, 1800, 0.001


def picture(colour: bool = False) -> Image:
    """Values that tell their place: the column modulo 1000, plus a thousand for every 100 rows."""
    i, j = np.arange(WIDE)[:, None], np.arange(HIGH)[None, :]
    values = (i % 1000 + 1000 * (j // 100)).astype(np.uint16)
    if colour:
        values = np.stack([values & 255, values >> 8, (i + j) & 255], -1).astype(np.uint8)
        return Image(values[:, :, None], picture_space(WIDE, HIGH, (PIXEL, PIXEL)), "Colours", colour=True)
    return Image(np.asfortranarray(values[:, :, None]), picture_space(WIDE, HIGH, (PIXEL, PIXEL)), "Large")


def read_all(tiles: Tiles) -> int:
    count = 0
    while tiles.read_next():
        count += 1
    return count


class TilesTest(PlaceCase):
    def view(self, image: Image, pixel: float, middle=(0.0, 0.0), size=(300, 200)):
        view = fitted(AXIAL, image.space, *size)
        return view.moved(pixel=pixel, centre=(*middle, 0.0))

    def shown(self, image: Image, most: int = 1 << 20) -> Image:
        return for_showing(image, 1 << 40, most)

    def test_the_same_pixels_as_the_whole(self):
        for colour in (False, True):
            path = self.place / f"large-{colour}.ome.tif"
            save_ome_tiff(path, picture(colour))
            whole, opened = picture(colour), open_image(path)
            base = self.shown(opened)
            self.assertGreater(base.space.spacing[0], PIXEL)
            tiles = tiles_of(base)
            look = ImageLook(0, 36_000, "Grey", False)
            for pixel, middle in ((PIXEL, (0.4, 0.3)), (PIXEL / 3, (-0.9, 0.6)), (PIXEL, (1.25, 0.85))):
                view = self.view(opened, pixel, middle)
                self.assertTrue(tiles.want(view))
                coarse = draw(view, [Drawn(base, look)])
                self.assertGreater(read_all(tiles), 0)
                fine = draw(view, [Drawn(base, look)])
                self.assertFalse(np.array_equal(fine, coarse))
                np.testing.assert_array_equal(fine, draw(view, [Drawn(whole, look)]))
                self.assertFalse(tiles.want(view))  # it is all there

    def test_seams_are_not_seen_when_mixed_between_pixels(self):
        values = np.linspace(0, 1000, WIDE, dtype=np.float32)[:, None] + np.zeros((1, HIGH), np.float32)
        image = Image(np.asfortranarray(values[:, :, None]), picture_space(WIDE, HIGH, (PIXEL, PIXEL)))
        save_ome_zarr(self.place / "ramp.ome.zarr", image)
        base = self.shown(open_image(self.place / "ramp.ome.zarr"))
        tiles = tiles_of(base)
        edge = base.finer.space.to_world((512, 512, 0))
        view = self.view(base.finer, PIXEL / 4, edge[:2])
        tiles.want(view)
        read_all(tiles)
        row = draw(view, [Drawn(base, ImageLook(0, 1000))])[100] & 255
        self.assertLessEqual(int(np.diff(row.astype(int)).max()), 1)
        self.assertGreaterEqual(int(np.diff(row.astype(int)).min()), 0)

    def test_values_are_as_fine_as_the_file_for_whoever_follows_edges(self):
        save_ome_zarr(self.place / "large.ome.zarr", picture())
        base = self.shown(open_image(self.place / "large.ome.zarr"))
        self.assertGreater(base.space.spacing[0], 1.9 * PIXEL)
        middle = base.finer.space.to_world((512, 700, 0))[:2]
        view = self.view(base.finer, PIXEL, middle, (61, 41))
        fine = finest_values(view, base)
        i, j = np.arange(512 - 30, 512 + 31)[None], np.arange(700 - 20, 700 + 21)[:, None]
        wanted = i % 1000 + 1000 * (j // 100)
        np.testing.assert_allclose(np.sort(fine.ravel()), np.sort(wanted.ravel()), atol=0.01)
        self.assertGreater(float(np.abs(fine - sample_values(view, base, True)).max()), 1.0)

    def test_memory_is_bounded_and_what_is_looked_at_comes_first(self):
        read: list[tuple] = []

        def part(index, box):
            read.append(box)
            return np.zeros((box[1] - box[0], box[3] - box[2], 1), np.uint16)

        space = picture_space(60_000, 40_000, (PIXEL, PIXEL))
        image = Image(lambda index, progress: self.fail("it is never read whole"), space)
        image.part = part
        coarse = Image(np.zeros((600, 400, 1), np.uint16), space.resized((600, 400, 1)))
        image.levels = [coarse]
        base = for_showing(image, 1 << 40, 1 << 20)
        self.assertIs(base, coarse)
        tiles = Tiles(image, base)
        with mock.patch.object(tiling, "MEMORY", 40 * 514 * 514 * 2):
            for n in range(60):
                tiles.want(self.view(image, PIXEL, (-29 + n, 0.0), (1000, 800)))
                read_all(tiles)
            self.assertLessEqual(tiles.memory, 40 * 514 * 514 * 2)
        view = self.view(image, PIXEL, (10.3, 5.2), (1600, 1200))
        tiles.want(view)
        read.clear()
        tiles.read_next()
        (i0, i1, j0, j1) = read[0]
        middle = image.space.to_voxel((10.3, 5.2, 0))
        self.assertTrue(i0 <= middle[0] < i1 and j0 <= middle[1] < j1)
        tiles.want(self.view(image, PIXEL, (-20.0, -10.0)))  # looked elsewhere: the rest of the first is not read
        read.clear()
        read_all(tiles)
        self.assertLessEqual(len(read), 4)
        self.assertTrue(all(i1 <= 15_000 for _, i1, _, _ in read))

    def test_a_piece_that_cannot_be_read_is_told_once(self):
        path = self.place / "large.ome.tif"
        save_ome_tiff(path, picture())
        opened = open_image(path)
        base = self.shown(opened)
        tiles, view = tiles_of(base), self.view(opened, PIXEL)
        self.assertGreater(base.data.max(), 0)
        path.write_bytes(path.read_bytes()[: path.stat().st_size // 3])
        tiles.want(view)
        with self.assertRaisesRegex(Trouble, "large.ome.tif"):
            read_all(tiles)
        wanted = len(tiles._wanted)
        tiles.want(view)
        self.assertLessEqual(len(tiles._wanted), wanted)
        self.assertGreater(len(np.unique(draw(view, [Drawn(base, ImageLook(0, 36_000))]))), 10)  # the coarse one stays

    def test_only_pictures_that_are_shown_coarsely_have_pieces(self):
        small = Image(np.zeros((10, 10, 1), np.uint8), picture_space(10, 10, (1.0, 1.0)))
        self.assertIsNone(tiles_of(for_showing(small, 1 << 30, 1 << 20)))
        volume = Image(np.zeros((10, 10, 10), np.uint8), picture_space(10, 10, (1.0, 1.0), 10))
        self.assertIsNone(tiles_of(for_showing(volume, 10)))


class PaneTest(DeskCase):
    def setUp(self):
        super().setUp()
        self.enterContext(mock.patch.object(tiling, "BASE", 1 << 20))
        for module in ("viewing", "layers", "sight"):
            self.enterContext(mock.patch(f"kestrelmist.desk.models.{module}.BASE", 1 << 20))
        save_ome_tiff(self.place / "large.ome.tif", picture())
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "large.ome.tif", subject="T-1", copy=False)
        self.window = self.open(self.place / "study")
        self.viewing, self.canvas = self.window.desk.viewing, self.window.table.lead.canvas

    def test_zoomed_in_it_is_read_beside_the_window_and_the_value_is_that_of_the_file(self):
        space, canvas = self.viewing.record.grid, self.canvas
        self.assertEqual(space.shape, (WIDE, HIGH, 1))
        self.assertLess(self.viewing.image.space.shape[0], 2000)
        self.viewing.go_to(space.to_world((2456, 1234, 0)))
        canvas.look_at(canvas.current_view().moved(centre=tuple(self.viewing.crosshair)))
        canvas.one_to_one()
        self.assertAlmostEqual(canvas.current_view().pixel, PIXEL)
        canvas.look_at(canvas.view.moved(centre=tuple(np.array(canvas.view.centre) + 0.3 * PIXEL)))  # off any half-way
        self.viewing.set_look(smooth=False, low=0.0, high=36_000.0)
        self.settle(self.window)
        whole = draw(canvas.current_view(), [Drawn(picture(), self.viewing.look)])
        np.testing.assert_array_equal(canvas.render_pixels(), whole)
        self.window.readout.point(None)
        pause(160)
        self.settle(self.window)
        self.assertEqual(self.window.readout.fields["Value"].text(), f"{2456 % 1000 + 1000 * 12}")
        canvas.fit()  # the wheel zooms a picture of one slice
        pixel = canvas.current_view().pixel
        self.wheel(canvas, 2)
        self.assertAlmostEqual(canvas.current_view().pixel, pixel / 1.44)

    def test_the_navigator_shows_the_part_in_view_and_is_dragged(self):
        canvas = self.canvas
        plain = canvas.grab().toImage()
        canvas.zoom(4.0)
        self.settle(self.window)
        from kestrelmist.scene.pieces import navigator_frame

        view, grid = canvas.current_view(), self.viewing.record.grid
        whole, part = navigator_frame(view, grid)
        home = QRectF(*whole)
        self.assertAlmostEqual(part[2] / whole[2], view.pixel * view.width / (WIDE * PIXEL), places=3)
        self.assertNotEqual(canvas.grab().toImage(), plain)
        target = QPointF(home.left() + home.width() * 0.75, home.top() + home.height() * 0.25)
        QTest.mousePress(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, home.center().toPoint())
        QTest.mouseMove(canvas, target.toPoint())
        QTest.mouseRelease(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, target.toPoint())
        x, y = (canvas.current_view().centre[n] for n in (0, 1))
        self.assertAlmostEqual(x, (0.75 - 0.5) * WIDE * PIXEL, delta=2 * PIXEL * WIDE / home.width())
        self.assertAlmostEqual(y, (0.5 - 0.25) * HIGH * PIXEL, delta=2 * PIXEL * HIGH / home.height())
        canvas.fit()
        self.assertIsNone(navigator_frame(canvas.current_view(), grid))

    def test_left_while_pieces_are_read(self):
        canvas = self.canvas
        for n in range(6):
            canvas.set_scale(PIXEL)
            canvas.pan(400, 130 * n)
            canvas.render_pixels()
        self.viewing.clear()
        self.viewing.show_image(1)
        canvas.pan(100, 0)
        self.window.close()
        self.assertEqual(self.troubles, [])


if __name__ == "__main__":
    unittest.main()
