"""Here: every layer and label map at one place, pinned, copied; colours over values; two subjects that lie together."""

import numpy as np
from PySide6.QtWidgets import QApplication

from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.formats.label_files import write_label_map
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.formats.saving import save_image
from kestrelmist.study.study import Study
from tests.desk_case import DeskCase
from tests.making import straight_space


class HereTest(DeskCase):
    def setUp(self):
        super().setUp()
        space = straight_space((20, 20, 20), 1.0)
        values = np.asfortranarray(np.indices((20, 20, 20)).sum(0).astype(np.int16))
        write_nifti(self.place / "Head.nii", values, space)
        rgb = np.zeros((10, 10, 10, 3), np.uint8)
        rgb[..., 0], rgb[..., 1] = 200, np.arange(10, dtype=np.uint8)[:, None, None] * 20
        colours = Image(np.asfortranarray(rgb), straight_space((10, 10, 10), 2.0), "Colours", colour=True)
        save_image(self.place / "Colours.nrrd", colours)
        table = LabelTable()
        for name in ("Brain", "Left out", "Eyes"):
            table, _ = table.with_new(name)
        labels = LabelMap(space, table=table.without(2))
        labels.data[2:8], labels.data[12:18] = 1, 3
        labels.recount()
        write_label_map(self.place / "colleague.nii.gz", labels)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "Head.nii", subject="T-1")
            study.run("gather", folder=self.place / "Colours.nrrd", subject="T-2")
            self.ids = {r.name: r.id for r in study.records()}
            study.run("together", image="Head", others=["Colours"])
            study.run("new-labels", image="Head", name="By a colleague")
            study.run("open-labels", image="Head", file=self.place / "colleague.nii.gz")
            study.run("new-labels", image="Head", name="Own")
            study.run("paint", image="Head", label="Spot", point=tuple(space.to_world((14, 10, 10))), diameter=3.0)
        self.space = space
        self.window = self.open(self.place / "study")
        self.viewing, self.layers = self.window.desk.viewing, self.window.desk.layers
        self.here = self.window.bench.here
        self.viewing.show_image(self.ids["Head"])
        self.settle(self.window)

    def told(self) -> dict[str, str]:
        return dict(self.here.told)

    def test_layers_label_maps_and_the_voxel_of_the_chosen_one(self):
        self.assertFalse(self.here.isVisible())  # the Readout tells as much
        self.viewing.maps.show_others(True)
        self.layers.lay_over(self.ids["Colours"])
        self.settle(self.window)
        self.viewing.go_to(self.space.to_world((14, 10, 10)))
        told = self.told()
        self.assertEqual((told["Head"], told["Own"], told["By a colleague"]), ("34", "1 Spot", "3 Eyes"))
        at = self.layers.image(self.ids["Colours"]).space.nearest_voxel(self.viewing.crosshair)
        self.assertEqual(told["Colours"], f"200 {20 * at[0]} 0")
        self.assertEqual(told["Voxel in Colours"], " ".join(map(str, at)))
        self.here.point(self.space.to_world((4, 10, 10)))
        self.assertEqual((self.told()["Own"], self.told()["By a colleague"]), ("none", "1 Brain"))
        self.here.pin.setChecked(True)
        self.assertEqual(self.told()["By a colleague"], "3 Eyes")
        self.here.point(self.space.to_world((4, 10, 10)))
        self.assertEqual(self.told()["By a colleague"], "3 Eyes")
        self.press(self.here.copy)
        lines = dict(line.split("\t") for line in QApplication.clipboard().text().splitlines())
        self.assertEqual(lines["Head"], "34")
        self.assertEqual(lines["World"].split(), ["+4.50", "+0.50", "+0.50", "mm"])

    def test_a_missing_number_is_noticed_and_found(self):
        self.viewing.set_stage("Outline")
        key = next(m.id for m in self.viewing.maps.others() if m.name == "By a colleague")
        self.viewing.maps.choose(key)
        self.settle(self.window)
        self.assertTrue(any("2" in n.sentence for n in self.window.bench.checks.notices))
        self.viewing.go_to(self.space.to_world((14, 10, 10)))
        self.window.readout.point(None)
        self.assertEqual(self.window.readout.fields["Label"].text(), "3 Eyes")

    def test_two_subjects_lie_together_once_it_is_said(self):
        meant = self.window.desk.study.items.of_kind("transform")[0]
        self.assertEqual(meant.name, "Colours lies with Head")
        self.window.desk.study.set_removed(meant.id, True)
        self.layers.lay_over(self.ids["Colours"])
        self.settle(self.window)
        self.assertRegex(
            self.troubles[-1], "“Colours” lies in another space .scanner of T-2. than “Head” .scanner of T-1."
        )
        self.window.desk.session.undo()
        self.layers.lay_over(self.ids["Colours"])
        self.settle(self.window)
        self.assertIsNotNone(self.layers.image(self.ids["Colours"]))

    def test_colours_lie_over_values(self):
        canvas, place = self.window.table.lead.canvas, self.space.to_world((10, 10, 10))
        self.viewing.go_to(place)
        self.layers.lay_over(self.ids["Colours"])
        self.settle(self.window)
        self.layers.set_opacity(self.ids["Colours"], 1.0)
        x, y = (round(v) for v in canvas.current_view().to_pixel(place))
        pixel = int(canvas.render_pixels()[y, x])
        self.assertEqual((pixel >> 16 & 255, pixel & 255), (200, 0))
        self.assertFalse(self.window.bench.look.values.isVisible())  # a range has no meaning for it
