"""Stacks under a name: saved, laid out again, drawn without a window; and what is said when one cannot be."""

import json

import numpy as np
from PIL import Image as Picture

from kestrelmist.core.errors import Trouble
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.formats.label_files import write_label_map
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.report.files.stack import read_stack
from kestrelmist.scene.laid import VERSION
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, straight_space


def pixels(path) -> np.ndarray:
    with Picture.open(path) as picture:
        return np.asarray(picture.convert("RGB")).astype(int)


class StackCase(PlaceCase):
    def setUp(self):
        super().setUp()
        head = np.zeros((40, 40, 40), np.int16)
        head[5:35, 5:35, 5:35] = 400
        found = np.zeros((10, 10, 10), np.float32)
        found[6:9, 4:7, 4:7], found[2:4, 4:7, 4:7] = 9.0, -9.0
        for name, values, spacing in (("Head", head, 0.5), ("Found", found, 2.0)):
            write_nifti(self.place / f"{name}.nii", np.asfortranarray(values), straight_space(values.shape, spacing))
        self.at = straight_space((10, 10, 10), 2.0).to_world((7, 5, 5))


class SavedTest(StackCase, DeskCase):
    def setUp(self):
        super().setUp()
        with Study(self.place / "study", create=True) as study:
            for name in ("Head", "Found"):
                study.run("gather", folder=self.place / f"{name}.nii", subject="T-1")
            self.ids = {r.name: r.id for r in study.records()}
        self.window = self.open(self.place / "study")
        self.desk = self.window.desk
        self.desk.viewing.show_image(self.ids["Head"])
        self.settle(self.window)
        self.desk.layers.lay_over(self.ids["Found"])
        self.settle(self.window)
        self.desk.layers.set_look(low=3.0, high=8.0, colour_map="Lagoon")
        self.desk.layers.set_opacity(self.ids["Found"], 0.5)
        self.desk.viewing.go_to(self.at)
        self.settle(self.window)

    def test_saved_laid_out_and_drawn_headless_as_in_the_pane(self):
        self.window.on_table.save("What responds")
        self.settle(self.window)
        self.desk.layers.take_all_away()
        self.desk.viewing.show_image(self.ids["Found"])
        self.settle(self.window)
        self.assertNotIn("stack", [card.record.kind for card in self.window.shelf.cards.values()])
        entry = next(do for line, do in self.window.findable.fixed() if line.name == "Lay out: T-1 · What responds")
        entry()
        self.settle(self.window)
        rows = self.desk.layers.rows
        self.assertEqual([row.record.name for row in rows], ["Found", "Head"])
        self.assertEqual((rows[0].layer.look.low, rows[0].layer.look.colour_map), (3.0, "Lagoon"))
        self.assertEqual(rows[0].layer.opacity, 0.5)
        self.desk.viewing.go_to(self.at)
        self.settle(self.window)
        canvas = self.window.table.lead.canvas
        x, y = (round(v) for v in canvas.current_view().to_pixel(self.at))
        shown = [int(canvas.render_pixels()[y, x]) >> shift & 255 for shift in (16, 8, 0)]
        self.window.close()
        out = self.place / "picture.png"
        at = f"{self.at[1]:g}"
        words = ("--stack", "What responds", "--plane", "coronal", "--at", at, "--size", "400x400", "--out", out)
        kestrelmist("picture", "--study", self.place / "study", *words)
        drawn = pixels(out)
        self.assertEqual(drawn.shape, (400, 400, 3))
        self.assertTrue((np.abs(drawn - shown).max(-1) <= 2).sum() > 50, "the colour of the pane is in the picture")
        with Study(self.place / "study") as study:  # undo takes the stack away
            study.history.undo()
            self.assertEqual(study.items.of_kind("stack"), [])

    def test_marks_in_hand_are_layers_of_it(self):
        study = self.desk.study
        line = "; ".join(f"{self.at[0] + d:g},{self.at[1]:g},{self.at[2]:g}" for d in (-4, 4))
        study.run("mark", marks=self.ids["Head"], shape="line", points=line, colour="#00FF00")
        first = study.marks.in_hand(self.ids["Head"])
        self.settle(self.window)
        self.window.on_table.save("With a line")
        self.settle(self.window)
        study.run("new-marks", image=self.ids["Head"], name="Second")
        self.desk.viewing.show_image(self.ids["Found"])
        self.settle(self.window)
        (record,) = study.items.of_kind("stack")
        self.desk.layers.lay_out(record.id)
        self.settle(self.window)
        self.assertEqual(self.desk.marks.key, first)
        self.assertEqual([row.record.name for row in self.desk.layers.rows], ["Found", "Head"])
        self.window.close()
        out, at = self.place / "line.png", f"{self.at[1]:g}"
        words = ("--plane", "coronal", "--at", at, "--size", "400x400", "--to", out)
        kestrelmist("picture", "--stack", "With a line", "--study", self.place / "study", *words)
        green = (pixels(out) == (0, 255, 0)).all(-1)
        rows, columns = np.nonzero(green)
        self.assertGreater(columns.max() - columns.min(), 8 * 15)  # 8 mm of 24, on 400 pixels
        self.assertLess(np.count_nonzero(green.any(1)), 40)

    def test_saved_without_a_window(self):
        self.window.close()
        study, out = self.place / "study", self.place / "bare.png"
        kestrelmist("save-stack", "Head", "--over", "Found", "--name", "Bare", "--study", study)
        kestrelmist("picture", "--stack", "Bare", "--study", study, "--plane", "axial", "--at", "0.5", "--to", out)
        other = self.place / "other.png"
        more = ("--plane", "axial", "--at", "0.5", "--to", other)
        kestrelmist("picture", "Head", "--over", "Found", "--study", study, *more)
        np.testing.assert_array_equal(pixels(out), pixels(other))

    def test_a_layer_that_is_gone_and_a_newer_stack(self):
        self.window.on_table.save("Mine")
        self.settle(self.window)
        study = self.desk.study
        (record,) = study.items.of_kind("stack")
        self.desk.session.run("take-off", {"thing": self.ids["Found"]})
        self.settle(self.window)
        self.desk.layers.lay_out(record.id)
        self.settle(self.window)
        self.assertIn("A layer of the stack “Mine” is no longer in the study", self.troubles[-1])
        with study.catalogue.change() as db:
            study.items.update(db, record.id, {"body.version": VERSION + 1})
        self.desk.layers.lay_out(record.id)
        self.settle(self.window)
        self.assertIn("saved by a newer version", self.troubles[-1])
        self.assertEqual(self.desk.viewing.record.name, "Head")

    def test_a_layer_whose_file_is_gone(self):
        layers = self.desk.layers
        layers.take_all_away()
        (self.place / "study" / "images" / str(self.ids["Found"]) / "Found.nii").unlink()
        self.window.close()
        window = self.open(self.place / "study")
        window.desk.layers.lay_over(self.ids["Found"])
        self.settle(window)
        self.assertIn("no longer there", self.troubles[-1])
        self.assertEqual([row.record.name for row in window.desk.layers.rows], ["Head"])
        self.assertTrue(window.desk.viewing.ready)


class DescribedTest(StackCase):
    def describe(self, **facts):
        path = self.place / "stack.json"
        path.write_text(json.dumps(facts))
        return path

    def test_marks_described_in_a_file(self):
        spots = {"type": "Feature", "geometry": {"type": "Point", "coordinates": list(self.at)}, "properties": {}}
        for unit, done in (("mm", True), ("µm", False)):
            own = {"unit": unit}
            (self.place / "a.geojson").write_text(
                json.dumps({"type": "FeatureCollection", "kestrelmist": own, "features": [spots]})
            )
            path = self.describe(layers=[{"thing": "Head.nii"}, {"thing": "a.geojson", "kind": "marks"}])
            out = self.place / "marks.png"
            words = ("--stack", path, "--plane", "axial", "--at", f"{self.at[2]:g}", "--to", out)
            said = kestrelmist("picture", *words, code=0 if done else 1)
            self.assertEqual(out.exists(), done, said)
            if done:
                self.assertTrue((np.abs(pixels(out) - (0xE8, 0xB6, 0x8C)).max(-1) < 30).any())
                out.unlink()

    def test_described_in_a_file(self):
        labels = LabelMap(straight_space((40, 40, 40), 0.5), table=LabelTable().with_new("Box", "#00FF00")[0])
        labels.data[8:12, 8:32, 8:32] = 1
        labels.recount()
        write_label_map(self.place / "labels.nii.gz", labels)
        path = self.describe(
            layers=[
                {"thing": "Head.nii", "look": {"low": 0, "high": 500}},
                {"thing": "Found.nii", "look": {"colour_map": "Foxglove"}, "opacity": 1.0},
                {"thing": "labels.nii.gz", "kind": "labels", "look": {"fill": 1.0, "edges": False}},
            ],
            comparison={"way": "over", "glow": 3},
        )
        out = self.place / "out.png"
        kestrelmist("picture", "--stack", path, "--plane", "axial", "--at", "0", "--size", "300x300", "--to", out)
        drawn, stack = pixels(out), read_stack(path)
        self.assertGreater((np.abs(drawn - (0, 255, 0)).max(-1) < 3).sum(), 300)
        self.assertGreater((np.abs(drawn - 204).max(-1) < 4).sum(), 3000)  # 400 of 500
        self.assertEqual(stack.layers[1].look.below_map, "Deep water")  # what is not said is chosen from the values

    def test_what_is_no_stack(self):
        for facts, said in (
            ({"layers": []}, "is no image"),
            ({"layers": [{"thing": "Nothing.nii"}]}, "no file or folder"),
            ({"layers": [{"thing": 5}]}, "is no file"),
            ({"version": VERSION + 4, "layers": [{"thing": "Head.nii"}]}, "newer version"),
            ({"things": 1}, "no stack of layers"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                read_stack(self.describe(**facts))
        (self.place / "bad.json").write_text("{")
        ran = kestrelmist("picture", "--stack", self.place / "bad.json", "--to", self.place / "x.png", code=1)
        self.assertIn("it is no JSON", ran.stderr)
        self.assertFalse((self.place / "x.png").exists())
        ran = kestrelmist("picture", "--to", self.place / "x.png", code=1)
        self.assertIn("an image or of a stack", ran.stderr)
