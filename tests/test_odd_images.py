"""Images that are hardly any: shown sensibly in every arrangement, or one sentence."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from kestrelmist.core.axis import Axis
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space
from kestrelmist.desk.command import COMMANDS
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.formats.saving import save_image
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase


def placed(shape, spacing=1.0, shift=0.0) -> Space:
    affine = np.diag([spacing, spacing, spacing, 1.0])
    affine[:3, 3] = shift
    return Space(shape, affine)


class OddTest(DeskCase):
    def setUp(self):
        super().setUp()
        box, flat, line = (6, 5, 4), (6, 5, 1), (6, 1, 1)
        ramp = np.arange(120, dtype=np.float32).reshape(box)
        holes = ramp.copy()
        holes[2:4], holes[5] = np.nan, np.inf
        sources = self.place / "in"
        sources.mkdir()
        odd = {
            "thin": (ramp[:, :, :1], placed(flat)),
            "line": (ramp[:, :1, :1], placed(line)),
            "one voxel": (np.full((1, 1, 1), 7.0, np.float32), placed((1, 1, 1))),
            "holes": (holes, placed(box)),
            "nothing": (np.full(box, np.nan, np.float32), placed(box)),
            "constant": (np.full(box, 3, np.int16), placed(box)),
            "negative": (-1e6 - ramp, placed(box)),
            "tiny": (ramp * 1e-9, placed(box, 1e-6)),
            "huge": (ramp * 1e6, placed(box, 1e6)),
            "far": (ramp, placed(box, 1.0, 1e7)),
        }
        for name, (values, space) in odd.items():
            write_nifti(sources / f"{name}.nii", np.asfortranarray(values), space)
        five = np.arange(2 * 3 * 2 * 4 * 3, dtype=np.float32).reshape(2, 3, 2, 4, 3)
        axes = (Axis.even("time", 4, 1.0, "s"), Axis("echo", 3))
        save_image(sources / "five.nii", Image(np.asfortranarray(five), placed((2, 3, 2)), axes=axes))
        self.odd = [*odd, "five"]
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=sources, subject="T-1")
            self.ids = {r.name: r.id for r in study.records()}
        self.window = self.open(self.place / "study")
        self.viewing, self.layers = self.window.desk.viewing, self.window.desk.layers

    def show(self, name: str) -> None:
        self.viewing.show_image(self.ids[name])
        self.settle(self.window)

    def test_each_is_shown_and_every_command_answers(self):
        self.assertEqual(sorted(self.ids), sorted(self.odd))
        quiet = (  # those that ask, and those that do nothing to a picture
            "panes-on-figure",
            "finder",
            "other-study",
            "save-stack",
            "print-picture",
            "float",
            "undo",
            "redo",
            "mist",
            "dusk",
            "sheet",
        )
        for name in self.odd:
            self.show(name)
            canvas = self.window.table.working.canvas
            self.assertTrue(self.viewing.ready, name)
            self.assertIsNotNone(canvas.render_pixels(), name)
            before = len(self.troubles)
            for one in COMMANDS:
                if one.name not in quiet and not one.name.startswith("stage-"):
                    one.do(canvas if one.pane else self.window)
                    self.assertIsNotNone(canvas.current_view(), (name, one.name))
            self.window.fold(False)
            self.window.desk.film.stop()
            self.viewing.arrange(beside=(), own_axes=False, crosshair_width=1.0)
            self.settle(self.window)
            for told in self.troubles[before:]:
                self.assertNotIn("Error", told)
                self.assertTrue(told.strip().endswith("."), told)
            self.assertTrue(self.viewing.ready, name)

    def test_each_over_each_other_or_one_sentence(self):
        for lead in ("holes", "thin"):
            self.show(lead)
            for over in self.odd:
                if over == lead:
                    continue
                before = len(self.troubles)
                self.layers.lay_over(self.ids[over])
                self.settle(self.window)
                there = self.layers.stack.of(self.ids[over]) is not None
                self.assertEqual(len(self.troubles) - before, 0 if there else 1, (lead, over, self.troubles[before:]))
                if not there:
                    self.assertRegex(self.troubles[-1], "does not overlap .* lie between them|no scale in common")
                for way in ("squares", "edges", "over"):
                    self.layers.compare_by(way=way)
                    self.assertIsNotNone(self.window.table.working.canvas.render_pixels())
                self.layers.take_all_away()
            self.assertEqual(len(self.layers.rows), 1)

    def test_side_by_side_whatever_they_are(self):
        for names in (("one voxel", "huge", "tiny", "far"), ("holes", "nothing", "five", "line")):
            self.window.desk.beside.show([self.ids[name] for name in names])
            self.settle(self.window)
            for follow in ("world", "voxel", "apart"):
                self.window.desk.beside.set_follow(follow)
                for pane in self.window.table.beside:
                    self.assertIsNotNone(pane.canvas.render_pixels())
                    QTest.keyClick(pane.canvas, Qt.Key.Key_PageUp)
                    pane.canvas.zoom(3.0)
                    self.assertTrue(np.isfinite(pane.canvas.current_view().pixel))
                    self.assertTrue(np.isfinite(pane.sight.crosshair).all())
            self.settle(self.window)
        self.assertEqual(self.troubles, [])
