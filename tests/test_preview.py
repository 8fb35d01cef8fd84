"""What an operation would make of the slice in view, against what it makes of the whole."""

from unittest import mock

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.coarse import coarse_image, middle_of_blocks, steps_for
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.operation import all_operations
from kestrelmist.core.progress import Progress, silent
from kestrelmist.core.space import Space, picture_space
from kestrelmist.demo.nuclei import nuclei
from kestrelmist.demo.stained import stained
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.tiff_write import save_ome_tiff
from kestrelmist.outline.forest.train import train
from kestrelmist.scene.first_look import scale_between
from kestrelmist.scene.view import AXIAL, CORONAL, SAGITTAL, fitted, through
from kestrelmist.study.inputs import settle
from kestrelmist.study.preview import MOST, _cut, box_in_view, box_to_try, preview
from kestrelmist.study.study import Study
from kestrelmist.study.task import compute
from tests.making import PlaceCase, straight_space, tilted_space, two_balls


def noisy(space: Space, seed: int = 1, axes=()) -> Image:
    rng = np.random.default_rng(seed)
    shape = (*space.shape, *(a.size for a in axes))
    i = np.indices(space.shape).reshape(3, -1).T
    x, y, z = (space.to_world(i) - space.centre).T.reshape(3, *space.shape)
    ball = 100.0 * (x**2 + y**2 + z**2 < 20)
    values = ball.reshape(*space.shape, *(1,) * len(axes)) + rng.normal(20, 4, shape)
    return Image(np.asfortranarray(values, np.float32), space, "Ball", "T-1", axes=axes)


class PreviewTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.study = Study(self.place / "study", create=True)
        self.addCleanup(self.study.close)

    def tried(self, operation, image, plane=AXIAL, at=None, place=(), pixels=200, **given):
        """The preview and the whole result, with the view."""
        space = image.space
        view = through(fitted(plane, space, pixels, pixels), plane, space.centre if at is None else at)
        task = settle(self.study, operation, {"image": image, **given})
        part = preview(self.study, task, view, place, silent())
        whole = next(iter(compute(self.study, task, silent(), prepare=False).values.values()))
        return part, whole, view

    def assert_same_in_view(self, part, whole, view, tolerance=1e-4):
        """Values at the pixels of a view are those of the whole result."""
        seen = 0
        whole.fetch(silent())
        for x in range(0, view.width, 7):
            for y in range(0, view.height, 7):
                world = view.to_world(x, y)
                true = whole.value_at(world)
                if true is not None and np.isfinite(true):
                    self.assertAlmostEqual(part.thing.value_at(world), true, delta=tolerance)
                    seen += 1
        self.assertGreater(seen, 100)

    def test_a_slab_tells_the_same_as_the_whole(self):
        image = noisy(straight_space((40, 36, 60)))
        for plane in (AXIAL, CORONAL, SAGITTAL):
            part, whole, view = self.tried("smooth", image, plane, fwhm=1.5)
            self.assert_same_in_view(part, whole, view, 2e-3)
            self.assertFalse(part.rough)
        across = part.thing.space.shape[0]
        self.assertLess(across, 16)  # of 40

    def test_a_tilted_grid_cut_along_the_axes_of_the_world(self):
        image = noisy(tilted_space((40, 44, 36)))
        part, whole, view = self.tried("smooth", image, CORONAL, fwhm=1.0)
        self.assert_same_in_view(part, whole, view, 2e-3)

    def test_of_a_large_slice_only_what_the_pane_shows(self):
        space = Space((2600, 2400, 3), np.diag([0.1, 0.1, 1.0, 1.0]))
        image = Image(np.asfortranarray(np.random.default_rng(1).normal(0, 1, space.shape), np.float32), space, "Large")
        near = through(fitted(AXIAL, space, 100, 100), AXIAL, space.centre).moved(pixel=0.05)
        task = settle(self.study, "smooth", {"image": image, "fwhm": 0.5})
        part = preview(self.study, task, near, (), silent())
        self.assertLess(max(part.thing.space.shape), 80)
        whole = next(iter(compute(self.study, task, silent(), prepare=False).values.values()))
        self.assert_same_in_view(part, whole, near, 2e-3)
        self.assertEqual(
            box_to_try(near, straight_space(), 1.0), box_to_try(near.moved(pixel=0.01), straight_space(), 1)
        )

    def test_a_mask_is_cut_along(self):
        image = noisy(straight_space((40, 36, 32)))
        painted = np.zeros(image.space.shape, np.uint16)
        painted[10:30, 5:30, 8:24] = 1
        mask = LabelMap(image.space, painted, name="Mask")
        part, whole, view = self.tried("smooth", image, CORONAL, fwhm=1.5, mask=mask)
        self.assert_same_in_view(part, whole, view, 2e-3)

    def test_where_the_whole_image_counts_all_of_it_is_looked_at(self):
        image = noisy(straight_space((40, 36, 32)))
        part, whole, view = self.tried("standardise", image)
        self.assertFalse(part.rough)  # it is small enough as it is
        self.assert_same_in_view(part, whole, view)
        self.assertEqual(part.box, ((0, 0, 0), (39, 35, 31)))

    def test_a_large_image_is_made_coarser(self):
        image = two_balls(straight_space((150, 140, 130), 0.15))
        part, whole, _ = self.tried("scale", image, low=0, high=1)
        self.assertTrue(part.rough)
        self.assertLess(np.prod(part.thing.space.shape), 1_300_000)
        for world, value in (((-4, 0, 0), 1.0), ((4, 0, 0), 1.0), ((0, 5, 0), 0.0)):
            self.assertAlmostEqual(part.thing.value_at(world), value, delta=0.02)
            self.assertAlmostEqual(part.thing.value_at(world), whole.value_at(world), delta=0.02)

    def test_labels_that_would_be_added(self):
        image = two_balls(straight_space((100, 90, 80), 0.2))
        labels = LabelMap(image.space)
        part, edit, _ = self.tried("take-out-body", image, labels=labels, label="Body")
        edit.apply(labels)
        for world in ((-4, 0, 0), (0, 0, 0), (4, 0, 0), (0, 5, 0)):
            self.assertEqual(part.thing.at(world), labels.at(world))
        self.assertEqual([row.name for row in part.thing.table], ["Body"])
        share = np.prod(image.space.shape) / np.prod(part.thing.space.shape)
        self.assertAlmostEqual(part.thing.counts[1] * share / labels.counts[1], 1, delta=0.05)

    def test_of_a_series_the_volume_in_view(self):
        image = noisy(straight_space((24, 24, 20)), axes=(Axis.even("time", 6, 2.0, "s"),))
        part, whole, view = self.tried("smooth", image, place=(4,), fwhm=1.0)
        self.assert_same_in_view(part, whole.frame((4,)), view, 2e-3)
        self.assertFalse(part.thing.axes)

    def test_through_time_all_volumes_of_the_slab(self):
        image = noisy(straight_space((24, 24, 20)), axes=(Axis.even("time", 9, 2.0, "s"),))
        part, whole, view = self.tried("through-time", image, how="sd")
        self.assert_same_in_view(part, whole, view)
        part, whole, view = self.tried("despike", image, place=(3,), limit=2.0)
        self.assert_same_in_view(part, whole.frame((3,)), view)

    def test_of_a_large_picture_the_level_that_is_seen(self):
        i, j = np.indices((3000, 2600), dtype=np.float32)
        space = Space((3000, 2600, 1), np.diag([0.001, -0.001, 1.0, 1.0]))
        picture = Image((200 + 50 * np.sin(i / 80) * np.cos(j / 60))[..., None].astype(np.uint16), space, "Section")
        save_ome_tiff(self.place / "section.ome.tif", picture)
        image = open_image(self.place / "section.ome.tif")
        task = settle(self.study, "clip", {"image": image, "low": 180.0, "high": 220.0})
        whole = fitted(AXIAL, image.space, 500, 500)
        part = preview(self.study, task, whole, (), silent())
        self.assertLessEqual(np.prod(part.thing.space.shape), MOST)
        near = whole.moved(pixel=image.space.spacing[0])
        part = preview(self.study, task, near, (), silent())
        self.assertFalse(part.rough)
        world = near.to_world(250, 250)
        image.fetch(silent())
        self.assertAlmostEqual(part.thing.value_at(world), float(np.clip(image.value_at(world), 180, 220)), delta=1)

    def test_a_picture_in_colour_is_judged_by_all_of_it(self):
        made = stained(5, 300)
        space = picture_space(300, 300, (5e-4, 5e-4))
        image = Image(np.ascontiguousarray(made.colours.transpose(1, 0, 2)[:, :, None]), space, "Section", colour=True)
        task = settle(self.study, "stains", {"image": image, "pair": "estimate"})
        tissue = space.to_world((220, 150, 0))  # where there is no glass to tell the white point by
        near = through(fitted(AXIAL, space, 90, 90), AXIAL, space.centre).moved(centre=tuple(tissue), pixel=5e-4)
        part = preview(self.study, task, near, (), silent())
        whole = compute(self.study, task, silent(), prepare=False).values["stains"][0]
        self.assertAlmostEqual(part.thing.value_at(tissue), float(whole.data[220, 150, 0]), places=5)

    def test_what_has_no_preview_or_nothing_in_view(self):
        image = noisy(straight_space((24, 24, 20)))
        view = through(fitted(AXIAL, image.space, 100, 100), AXIAL, image.space.centre)
        task = settle(self.study, "crop", {"image": image, "labels": LabelMap(image.space), "margin": -1.0})
        with self.assertRaisesRegex(Trouble, "has no preview"):
            preview(self.study, task, view, (), silent())
        task = settle(self.study, "smooth", {"image": image})
        away = through(view, AXIAL, (0, 0, 500.0))
        with self.assertRaisesRegex(Trouble, "shows nothing"):
            preview(self.study, task, away, (), silent())

    def test_cells_are_found_in_view_and_from_afar_one_is_told_to_zoom_in(self):
        made = nuclei(3, 900, 14.0)
        path = self.place / "section.ome.tif"
        space = picture_space(made.fluorescence.shape[1], made.fluorescence.shape[0], (5e-4, 5e-4))
        save_ome_tiff(path, Image(np.asfortranarray(made.fluorescence.T[:, :, None]), space, "Section"))
        image = open_image(path)
        task = settle(self.study, "find-cells", {"image": image, "diameter": 7.0})
        view = fitted(AXIAL, space, 200, 200).moved(pixel=5e-4)
        part = preview(self.study, task, view, (), silent())
        true = found = both = 0
        for x in range(0, 200, 3):
            for y in range(0, 200, 3):
                world = view.to_world(x, y)
                i, j, _ = space.nearest_voxel(world)
                here, there = made.numbers[j, i] > 0, bool(part.thing.at(world))
                true, found, both = true + here, found + there, both + (here and there)
        self.assertGreater(2 * both / (true + found), 0.9)
        image.levels = [coarse_image(image, (8, 8, 1))]
        with mock.patch("kestrelmist.study.preview.MOST", 50_000), self.assertRaisesRegex(Trouble, "zoom in, or"):
            preview(self.study, task, fitted(AXIAL, space, 200, 200), (), silent())

    def test_what_looks_at_channels_sees_all_of_them(self):
        made = nuclei(3, 500, 14.0)
        space = picture_space(made.fluorescence.shape[1], made.fluorescence.shape[0], (5e-4, 5e-4))
        rng = np.random.default_rng(0)
        other = rng.normal(100, 5, made.fluorescence.shape).astype(np.float32)
        both = np.stack((other, made.fluorescence.astype(np.float32)), -1)
        axis = Axis("channel", 2, labels=("marker", "DAPI"))
        image = Image(np.asfortranarray(both.transpose(1, 0, 2)[:, :, None, :]), space, "Section", axes=(axis,))
        view = fitted(AXIAL, space, 200, 200).moved(pixel=5e-4)
        table, nucleus = LabelTable().with_new("Nucleus")
        table, _ = table.with_new("Ground")
        strokes = np.zeros(space.shape, np.uint16)
        strokes[::7, ::5, 0] = np.where(made.numbers.T > 0, nucleus.number, 2)[::7, ::5]
        taught = train(image, LabelMap(space, strokes, table)).classifier
        for name, more in (("find-cells", {"diameter": 7.0}), ("classify", {"by": taught})):
            for place in ((0,), (1,)):  # whichever channel is looked at
                task = settle(self.study, name, {"image": image, **more})
                part = preview(self.study, task, view, place, silent())
                found = np.array(
                    [part.thing.at(view.to_world(x, y)) for x in range(0, 200, 5) for y in range(0, 200, 5)]
                )
                true = [
                    made.numbers[space.nearest_voxel(view.to_world(x, y))[1::-1]] > 0
                    for x in range(0, 200, 5)
                    for y in range(0, 200, 5)
                ]
                mine = found == 1 if name == "classify" else found > 0
                self.assertGreater(2 * np.sum(mine & true) / (mine.sum() + np.sum(true)), 0.9)

    def test_a_hand_may_draw_on_what_is_previewed(self):
        space = straight_space((20, 20, 20))
        labels = LabelMap(space, np.ones(space.shape, np.uint16), LabelTable().with_new("Body")[0])
        whole = ((0, 0, 0), (19, 19, 19))
        cut = _cut(labels, space, space, whole, (1, 1, 1))
        self.assertFalse(np.shares_memory(cut.kji, labels.kji))
        np.testing.assert_array_equal(cut.kji, labels.kji)

    def test_slices_are_bridged_in_view_with_an_image_and_without(self):
        space = tilted_space((40, 44, 36), (0.5, 0.5, 0.5))
        x, y, z = (space.to_world(np.indices(space.shape).reshape(3, -1).T) - space.centre).T.reshape(3, *space.shape)
        ball = x**2 + y**2 + z**2 < 36
        drawn = (ball & (np.abs(np.mod(y, 3) - 1.5) < np.abs(space.affine[1, :3]).sum() / 2)).astype(np.uint16)
        labels = LabelMap(space, drawn, LabelTable().with_new("Ball")[0])
        view = through(fitted(SAGITTAL, space, 120, 120), SAGITTAL, space.centre)
        for more in ({}, {"image": Image((100.0 * ball).astype(np.float32), space)}):
            task = settle(self.study, "bridge-slices", {"labels": labels, "label": "Ball", **more})
            part = preview(self.study, task, view, (), silent())
            inside = [view.to_world(x, y) for x in range(120) for y in range(120)]
            inside = [p for p in inside if np.linalg.norm(p - space.centre) < 4.5]
            filled = [part.thing.at(p) + labels.at(p) == 1 for p in inside]  # it shows what is added
            self.assertGreater(np.mean(filled), 0.98)

    def test_odd_images(self):
        for values in (np.zeros((5, 5, 5)), np.full((1, 1, 1), 7.0), np.full((6, 6, 6), np.nan), -np.ones((300, 2, 1))):
            space = Space(values.shape, np.diag([1e3, 1e-6, 1, 1.0]))
            image = Image(np.asfortranarray(values, np.float32), space, "Odd")
            part, whole, _ = self.tried("clip", image, low=0.0, high=1.0)
            self.assertEqual(part.thing.unit, whole.unit)
            if not np.isnan(values).any():
                self.assertTrue(np.isin(part.thing.data, whole.data).all())

    def test_cancelled(self):
        image = noisy(straight_space((24, 24, 20)))
        view = through(fitted(AXIAL, image.space, 100, 100), AXIAL, image.space.centre)
        progress = Progress()
        progress.cancel()
        with self.assertRaises(Cancelled):
            preview(self.study, settle(self.study, "reduce-noise", {"image": image}), view, (), progress)

    def test_every_reach_is_a_length(self):
        space = straight_space()
        found = 0
        for operation in all_operations().values():
            if operation.reach is not None:
                settings = {p.name: 5.0 if p.required else p.default for p in operation.settings}
                reach = operation.reach(space, settings) if callable(operation.reach) else operation.reach
                self.assertGreaterEqual(reach, 0)
                self.assertIsNotNone(operation.lead or operation.on_lead)
                found += 1
        self.assertGreater(found, 15)


class ScaleTest(PlaceCase):
    def test_ranges_are_brought_onto_one_another(self):
        before = noisy(straight_space((20, 20, 20)))
        self.assertEqual(
            scale_between(before, before.like(before.data + 3)), (1.0, 0.0)
        )  # brighter is seen as brighter
        for factor, shift in ((0.001, 0.0), (1e6, 7.0), (1.0, -1e4)):
            found = scale_between(before, before.like((factor * before.data + shift).astype(np.float32)))
            np.testing.assert_allclose(found, (factor, shift), rtol=1e-3, atol=1e-3 * abs(factor))
        flat = before.like(np.zeros((20, 20, 20), np.float32))
        self.assertEqual((scale_between(flat, before), scale_between(before, flat)), ((1.0, 0.0), (1.0, 0.0)))


class CoarseTest(PlaceCase):
    def test_colours_stay_colours(self):
        rgb = np.random.default_rng(1).integers(0, 255, (6, 4, 1, 3)).astype(np.uint8)
        image = Image(rgb, Space((6, 4, 1), np.eye(4)), colour=True)
        coarse = coarse_image(image, (3, 2, 1))
        self.assertTrue(coarse.colour)
        expected = rgb.reshape(2, 3, 2, 2, 1, 3).mean((1, 3))
        np.testing.assert_allclose(coarse.rgb(), expected, atol=0.51)

    def test_means_at_the_same_places(self):
        image = noisy(tilted_space((20, 24, 16)))
        coarse = coarse_image(image, (2, 3, 1))
        self.assertEqual(coarse.space.shape, (10, 8, 16))
        block = image.data[4:6, 9:12, 5]
        self.assertAlmostEqual(float(coarse.data[2, 3, 5]), float(block.mean()), places=4)
        corners = [image.space.to_world((i, j, 5)) for i in (4, 5) for j in (9, 10, 11)]
        np.testing.assert_allclose(coarse.space.to_world((2, 3, 5)), np.mean(corners, 0), atol=1e-9)

    def test_voxels_without_a_value_do_not_count(self):
        values = np.full((4, 4, 4), 3.0, np.float32)
        values[0, 0, 0], values[2:, 2:, 2:] = np.nan, np.inf
        coarse = coarse_image(Image(np.asfortranarray(values), Space((4, 4, 4), np.eye(4))), (2, 2, 2))
        self.assertEqual(float(coarse.data[0, 0, 0]), 3.0)
        self.assertTrue(np.isnan(coarse.data[1, 1, 1]))

    def test_labels_keep_their_numbers(self):
        data = np.zeros((9, 9, 9), np.uint16)
        data[3:6, 3:6, 3:6] = 7
        coarse = middle_of_blocks(data, (3, 3, 3), (3, 3, 3))
        self.assertEqual(np.argwhere(coarse == 7).tolist(), [[1, 1, 1]])
        self.assertTrue(np.shares_memory(coarse, data))

    def test_short_axes_stay(self):
        self.assertEqual(steps_for((4000, 4000, 1), 1_000_000)[2], 1)
        self.assertEqual(steps_for((10, 10, 10), 5), (1, 1, 1))
        a, b, c = steps_for((512, 512, 512), 1_000_000)
        self.assertLessEqual((512 // a) * (512 // b) * (512 // c), 1_000_000)
        view = through(fitted(AXIAL, straight_space(), 50, 50), AXIAL, (0, 0, 0.3))
        self.assertEqual([end[2] for end in box_in_view(view, straight_space())], [16, 17])
