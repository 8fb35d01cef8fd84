"""Images side by side and other arrangements: which panes there are, what moves together, what comes back."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest

from kestrelmist.core.axis import Axis
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.desk.widgets.carrying import carried
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.formats.saving import save_image
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase, pause
from tests.making import straight_space


def ramp(shape, spacing: float, shift=(0.0, 0.0, 0.0), scale: float = 100.0) -> Image:
    """Values that tell their place: scale times x + 2 y + 4 z of the world, in mm."""
    space = straight_space(shape, spacing)
    affine = space.affine.copy()
    affine[:3, 3] += shift
    space = Space(shape, affine)
    world = space.to_world(np.indices(shape).reshape(3, -1).T)
    values = (scale * (world @ (1, 2, 4))).reshape(shape).astype(np.float32)
    return Image(np.asfortranarray(values), space)


class BesideCase(DeskCase):
    def setUp(self):
        super().setUp()
        sources = self.place / "in"
        sources.mkdir()
        self.images = {
            "Fine": ramp((40, 36, 32), 0.5),
            "Coarse": ramp((14, 12, 10), 1.5, (0.7, 0.2, -0.4)),
            "Shifted": ramp((40, 36, 32), 0.5, (6.0, 0, 0)),
        }
        for name, image in self.images.items():
            write_nifti(sources / f"{name}.nii", image.data, image.space)
        run = np.stack([np.full((8, 8, 6), 10.0 * (t + 1), np.float32) for t in range(7)], -1)
        axes = (Axis.even("time", 7, 2.0, "s"),)
        save_image(sources / "Run.nii", Image(np.asfortranarray(run), straight_space((8, 8, 6), 2.0), axes=axes))
        other = Image(np.asfortranarray(run[..., :5] + 500), straight_space((8, 8, 6), 2.0), axes=(Axis("time", 5),))
        save_image(sources / "Short run.nii", other)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=sources, subject="T-1")
            self.ids = {r.name: r.id for r in study.records()}
        self.window = self.open(self.place / "study")
        self.desk, self.viewing = self.window.desk, self.window.desk.viewing
        self.beside, self.table = self.desk.beside, self.window.table
        self.show("Fine")

    def show(self, name: str) -> None:
        self.viewing.show_image(self.ids[name])
        self.settle(self.window)

    def side_by_side(self, *names: str) -> list:
        self.beside.show([self.ids[name] for name in names])
        self.settle(self.window)
        return self.table.beside

    def key(self, key, modifier=Qt.KeyboardModifier.NoModifier, canvas=None) -> None:
        (canvas or self.window).window().activateWindow()
        self.settle(self.window)
        QTest.keyClick(canvas or self.table.working.canvas, key, modifier)
        self.settle(self.window)

    def value(self, pane, world) -> float:
        return pane.sight.image.value_at(world)


class SideBySideTest(BesideCase):
    def test_moved_in_one_the_others_go_to_the_same_place(self):
        panes = self.side_by_side("Fine", "Coarse", "Shifted")
        self.assertEqual([p.sight.record.name for p in panes], ["Fine", "Coarse", "Shifted"])
        self.assertEqual([p.isVisible() for p in self.table.slices], [False] * 3)
        place = (2.0, -1.5, 0.75)
        self.viewing.go_to(place)
        for pane in panes:
            np.testing.assert_allclose(pane.sight.crosshair, place)
            x, y = pane.canvas.current_view().to_pixel(place)
            there = pane.canvas.world_at(QPointF(x + 0.5, y + 0.5))
            np.testing.assert_allclose(there, place, atol=1e-6)
            wanted = 100 * (np.array(place) @ (1, 2, 4))
            self.assertAlmostEqual(self.value(pane, place), wanted, delta=100 * 0.8 * 7)
        # a click in one that does not lead: it leads now, and the place is the one that was clicked
        canvas = panes[1].canvas
        wanted = panes[1].sight.crosshair + (1.5, 0, -1.5)
        QTest.mouseClick(canvas, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, self.pixel(canvas, wanted))
        self.settle(self.window)
        self.assertEqual(self.viewing.record.name, "Coarse")
        np.testing.assert_allclose(self.viewing.crosshair, wanted, atol=0.1)
        np.testing.assert_allclose(panes[0].sight.crosshair, self.viewing.crosshair)
        self.assertEqual(self.table.beside, panes)  # the panes stay where they are

    def test_by_voxel_and_apart(self):
        fine, coarse = self.side_by_side("Fine", "Coarse")
        self.key(Qt.Key.Key_T)
        self.assertEqual((self.beside.follow, self.window.strip.follow.text()), ("voxel", "Together by voxel"))
        self.viewing.go_to(self.images["Fine"].space.to_world((5, 6, 7)))
        np.testing.assert_allclose(self.images["Coarse"].space.to_voxel(coarse.sight.crosshair), (5, 6, 7), atol=1e-6)
        self.wheel(coarse.canvas, 1)  # a step in the coarse one is a voxel of it, and one of the other
        across = [self.images[n].space.to_voxel(p.sight.crosshair)[1] for n, p in (("Fine", fine), ("Coarse", coarse))]
        np.testing.assert_allclose(across, (7, 7), atol=1e-6)
        self.key(Qt.Key.Key_T)
        self.assertEqual(self.beside.follow, "apart")
        kept = coarse.sight.crosshair.copy()
        self.viewing.go_to((1, 1, 1))
        np.testing.assert_allclose(coarse.sight.crosshair, kept)
        self.wheel(coarse.canvas, 1)
        self.assertGreater(coarse.sight.crosshair[1], kept[1])
        np.testing.assert_allclose(self.viewing.crosshair, (1, 1, 1))
        moved = coarse.sight.crosshair.copy()
        self.beside.make_lead(self.ids["Coarse"])  # each keeps its place when the other leads
        self.settle(self.window)
        np.testing.assert_allclose(self.viewing.crosshair, moved)
        np.testing.assert_allclose(fine.sight.crosshair, (1, 1, 1))

    def test_zoom_range_and_place_are_linked_or_not(self):
        fine, coarse = self.side_by_side("Fine", "Coarse")
        fine.canvas.zoom(2.0)
        self.assertAlmostEqual(coarse.canvas.view.pixel, fine.canvas.view.pixel)
        fine.canvas.pan(20, 10)
        off = [np.array(p.canvas.view.centre) - p.sight.crosshair for p in (fine, coarse)]
        np.testing.assert_allclose(off[0], off[1], atol=1e-9)
        self.beside.set_linked("zoom", False)
        pixel = coarse.canvas.view.pixel
        fine.canvas.zoom(1.5)
        self.assertEqual(coarse.canvas.view.pixel, pixel)
        before = self.viewing.stacks[self.ids["Coarse"]].layers[0].look
        self.desk.layers.set_look(low=-50.0, high=60.0)
        self.assertEqual(self.viewing.stacks[self.ids["Coarse"]].layers[0].look, before)
        self.beside.set_linked("range", True)
        self.desk.layers.set_look(low=-70.0)
        after = self.viewing.stacks[self.ids["Coarse"]].layers[0].look
        self.assertEqual((after.low, after.high), (-70.0, 60.0))
        run, short = self.side_by_side("Run", "Short run")
        self.beside.make_lead(self.ids["Run"])
        self.settle(self.window)
        self.viewing.go_along(0, 3)
        self.settle(self.window)
        self.assertEqual((self.value(run, (0, 0, 0)), self.value(short, (0, 0, 0))), (40, 510))
        self.beside.set_linked("place", True)
        self.viewing.go_along(0, 6)
        self.settle(self.window)
        self.assertEqual((self.value(run, (0, 0, 0)), self.value(short, (0, 0, 0))), (70, 550))  # its last one

    def test_added_taken_away_replaced_and_kept(self):
        self.side_by_side("Fine", "Coarse")
        entry = next(do for line, do in self.window.findable.images() if line.name == "Show beside: T-1 · Shifted")
        entry()
        self.settle(self.window)
        self.assertEqual(len(self.table.beside), 3)
        self.press(self.table.beside[0].header.away)  # the one that leads: the next one leads
        self.settle(self.window)
        self.assertEqual([p.sight.record.name for p in self.table.beside], ["Coarse", "Shifted"])
        self.assertEqual(self.viewing.record.name, "Coarse")
        self.show("Run")  # chosen on the Shelf: it takes the place of the one that led
        self.assertEqual([p.sight.record.name for p in self.table.beside], ["Run", "Shifted"])
        self.desk.session.run("take-off", {"thing": self.ids["Shifted"]})
        self.settle(self.window)
        self.assertEqual((self.table.beside, self.beside.keys), ([], ()))
        self.side_by_side("Fine", "Coarse")
        self.viewing.arrange(follow="voxel", three=True)
        self.viewing.go_to(self.images["Fine"].space.to_world((6, 6, 5)))  # a voxel that both have
        self.window.close()
        window = self.open(self.place / "study")
        self.assertEqual([p.sight.record.name for p in window.table.beside], ["Fine"] * 3 + ["Coarse"] * 3)
        self.assertEqual(window.desk.beside.follow, "voxel")
        self.assertGreater(len(np.unique(window.table.beside[4].canvas.render_pixels())), 20)

    def test_a_look_of_one_and_the_pointer_over_another(self):
        fine, coarse = self.side_by_side("Fine", "Coarse")
        self.beside.add(self.ids["Shifted"])
        self.settle(self.window)
        place = np.array((3.0, 0.0, 1.5))
        canvas = coarse.canvas
        world = canvas.world_at(QPointF(self.pixel(canvas, place)) + QPointF(0.5, 0.5))
        QTest.mouseMove(canvas, self.pixel(canvas, place))
        pause(30)
        told = self.window.readout.fields["Value"].text().replace("−", "-")
        self.assertAlmostEqual(float(told.split()[0]), coarse.sight.image.value_at(world), delta=0.1)
        self.beside.show([self.ids["Fine"]] * 3)  # the same one three times is one
        self.assertEqual(self.beside.keys, ())


class ArrangementTest(BesideCase):
    def area(self) -> float:
        window, table = self.window, self.table
        return table.width() * table.height() / (window.width() * window.height())

    def test_the_picture_keeps_more_than_half_of_the_window(self):
        window = self.window
        self.assertEqual((window.width(), window.height()), (1280, 800))
        self.assertGreaterEqual(self.area(), 0.55)
        self.side_by_side("Fine", "Coarse", "Shifted", "Run")
        self.assertGreaterEqual(self.area(), 0.55)
        boxes = [p.geometry() for p in self.table.beside]
        self.assertEqual(len({(b.x(), b.y()) for b in boxes}), 4)
        self.assertLess(max(b.width() for b in boxes) - min(b.width() for b in boxes), 4)
        self.key(Qt.Key.Key_F7, canvas=window)
        self.assertEqual([p.plane.name for p in self.table.beside[:3]], ["Coronal", "Axial", "Sagittal"])
        self.assertGreaterEqual(self.area(), 0.55)
        self.key(Qt.Key.Key_F6, canvas=window)
        self.desk.layers.lay_over(self.ids["Coarse"])
        self.settle(window)
        self.assertGreaterEqual(self.area(), 0.55)

    def test_folded_away_and_brought_back(self):
        window, before = self.window, self.area()
        self.window.drawer.open_page("logbook")
        self.viewing.arrange(alone=True)
        pane = self.table.slices[1]
        self.table.set_floating(pane, True)
        self.settle(window)
        self.assertIsNot(pane.window(), window)
        self.key(Qt.Key.Key_F12, canvas=pane.canvas)  # keys of the window work there too
        self.assertEqual([w.isVisible() for w in (window.left, window.bench, window.drawer)], [False] * 3)
        self.assertGreater(self.area(), 0.85)
        self.key(Qt.Key.Key_F12, canvas=window)
        self.assertEqual([w.isVisible() for w in (window.left, window.bench, window.drawer)], [True, True, False])
        self.assertIs(pane.window(), window)
        self.assertEqual([p.isVisible() for p in self.table.panes], [True] * 4)
        self.assertAlmostEqual(self.area(), before, delta=0.01)

    def test_a_pane_floats_and_comes_back_when_its_window_is_closed(self):
        pane = self.table.lead
        self.press(pane.header.float)
        self.settle(self.window)
        (floating,) = self.table.floating
        self.assertTrue(floating.isVisible())
        self.viewing.go_to((1.0, 1.0, 1.0))
        self.assertGreater(len(np.unique(pane.canvas.render_pixels())), 20)
        floating.close()
        self.settle(self.window)
        self.assertEqual((self.table.floating, pane.window()), ([], self.window))
        self.assertTrue(pane.isVisible())
        self.table.set_floating(pane, True)
        self.window.close()  # and it goes with the window
        self.assertFalse(pane.isVisible())

    def test_every_volume_on_one_sheet(self):
        self.show("Run")
        self.window.strip.layouts["times"].click()
        self.settle(self.window)
        sheet = self.table.times.sheet
        self.assertTrue(sheet.isVisible())
        self.assertEqual(sheet.count, 7)
        pixels = [sheet.grab().toImage().pixelColor(sheet.box(n).center().toPoint()).lightness() for n in range(7)]
        self.assertEqual(pixels, sorted(pixels))
        self.assertGreater(pixels[-1], pixels[0] + 50)
        middle = sheet.box(4).center().toPoint()
        QTest.mouseClick(sheet, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, middle)
        self.settle(self.window)
        self.assertEqual(self.viewing.place, (4,))
        self.show("Fine")  # one volume: the usual panes come back
        self.assertFalse(sheet.isVisible())
        self.window.table.set_times(True)
        self.assertIn("one volume only", self.troubles[-1])

    def test_images_are_switched_by_keys_and_each_keeps_its_view(self):
        canvas = self.table.lead.canvas
        canvas.zoom(3.0)
        canvas.pan(30, 0)
        seen = canvas.current_view()
        self.key(Qt.Key.Key_Down, Qt.KeyboardModifier.ControlModifier, self.window)
        other = self.viewing.record.name
        self.assertNotEqual(other, "Fine")
        self.key(Qt.Key.Key_Tab, Qt.KeyboardModifier.ControlModifier, self.window)
        self.assertEqual(self.viewing.record.name, "Fine")
        self.assertEqual(canvas.current_view(), seen)
        self.key(Qt.Key.Key_Up, Qt.KeyboardModifier.ControlModifier, self.window)
        self.assertNotEqual(self.viewing.record.name, "Fine")

    def test_carried_from_the_shelf_it_is_laid_over(self):
        from PySide6.QtCore import QPointF as Point
        from PySide6.QtGui import QDropEvent

        def drop(key: int, y: float) -> None:
            data = carried(key)  # the event does not own it
            self.window.on_table.dropEvent(
                QDropEvent(
                    Point(20, y),
                    Qt.DropAction.CopyAction,
                    data,
                    Qt.MouseButton.LeftButton,
                    Qt.KeyboardModifier.NoModifier,
                )
            )
            self.settle(self.window)

        drop(self.ids["Coarse"], 50)
        drop(self.ids["Shifted"], 50)
        names = [row.record.name for row in self.desk.layers.rows]
        self.assertEqual(names, ["Shifted", "Coarse", "Fine"])
        drop(self.ids["Shifted"], self.window.on_table.cards[1].geometry().bottom())  # below the other card
        self.assertEqual([row.record.name for row in self.desk.layers.rows], ["Coarse", "Shifted", "Fine"])
        self.key(Qt.Key.Key_Backspace, Qt.KeyboardModifier.ControlModifier, self.window)
        self.assertEqual([row.record.name for row in self.desk.layers.rows], ["Fine"])
