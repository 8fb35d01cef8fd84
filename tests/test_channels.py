"""Channels of a picture: apart, together, by other names."""

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.space import picture_space
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.tiff_write import save_ome_tiff
from kestrelmist.prepare.stains.channels import merge_channels, name_channels, split_channels
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, two_balls


def channelled(names=("lipid", "nuclei"), seed: int = 1) -> Image:
    values = np.random.default_rng(seed).integers(0, 4000, (40, 30, 1, len(names))).astype(np.uint16)
    axes = (Axis("channel", len(names), labels=tuple(names)),)
    return Image(np.asfortranarray(values), picture_space(40, 30, (5e-4, 5e-4)), "Section", "T-1", axes=axes)


class ChannelsTest(PlaceCase):
    def test_apart_and_together_again(self):
        image = channelled()
        apart = split_channels(image)
        self.assertEqual([one.name for one in apart], ["Section, lipid", "Section, nuclei"])
        for n, one in enumerate(apart):
            np.testing.assert_array_equal(one.data, image.data[..., n])
            self.assertEqual(one.axes, ())
        again = merge_channels(apart[0], apart[1:])
        self.assertEqual(again.axes, image.axes)
        np.testing.assert_array_equal(again.data, image.data)
        other = merge_channels(apart[1], [apart[0]], names="DAPI, fat")
        self.assertEqual(other.axes[0].labels, ("DAPI", "fat"))
        np.testing.assert_array_equal(other.data[..., 1], image.data[..., 0])

    def test_colours_apart(self):
        colours = np.random.default_rng(1).integers(0, 255, (3000, 2200, 1, 3)).astype(np.uint8)
        image = Image(colours, picture_space(3000, 2200, (5e-4, 5e-4)), "Section", colour=True)
        for n, one in enumerate(split_channels(image)):
            np.testing.assert_array_equal(one.data, colours[..., n])
        save_ome_tiff(self.place / "large.ome.tif", image)
        large = open_image(self.place / "large.ome.tif")
        green = split_channels(large)[1]
        self.assertTrue(green.levels)
        np.testing.assert_array_equal(green.part((), (100, 200, 50, 90)), colours[100:200, 50:90, :, 1])
        red, green, blue = split_channels(large)
        merged = merge_channels(red, [green, blue])
        np.testing.assert_array_equal(merged.part((2,), (100, 200, 50, 90)), colours[100:200, 50:90, :, 2])
        self.assertEqual([m.space for m in merged.levels], [m.space for m in large.levels])
        np.testing.assert_array_equal(merged.levels[0].frame((1,)).data, green.levels[0].data)

    def test_other_axes_stay(self):
        values = np.arange(4 * 3 * 2 * 5, dtype=np.float32).reshape(4, 3, 1, 2, 5)
        axes = (Axis("channel", 2), Axis.even("time", 5, 1.0, "s"))
        image = Image(np.asfortranarray(values), picture_space(4, 3, None), "Film", axes=axes)
        apart = split_channels(image)
        self.assertEqual([a.name for a in apart[1].axes], ["time"])
        np.testing.assert_array_equal(apart[1].data, values[:, :, :, 1])

    def test_names_in_a_study_can_be_undone(self):
        save_ome_tiff(self.place / "section.ome.tif", channelled())
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "section.ome.tif")
            study.run("name-channels", image=1, names="<b>fat</b>, =1+1")
            self.assertEqual(study.image(1).axes[0].labels, ("<b>fat</b>", "=1+1"))
            np.testing.assert_array_equal(study.image(1).data, channelled().data)
            study.history.undo()
            self.assertEqual(study.image(1).axes[0].labels, ("lipid", "nuclei"))
            study.run("split-channels", image=1)
            self.assertEqual([r.name for r in study.records()][1:], ["section, lipid", "section, nuclei"])

    def test_sentences(self):
        image = channelled()
        for words, call in (
            ("one channel", lambda: split_channels(two_balls())),
            ("nothing to merge", lambda: merge_channels(image, [])),
            ("another grid", lambda: merge_channels(split_channels(image)[0], [two_balls()])),
            ("2 channels need 2 names", lambda: name_channels(image, "a")),
            ("need names", lambda: name_channels(image, " ")),
            ("same name", lambda: name_channels(image, "a, a")),
            ("need 2 names", lambda: merge_channels(*(lambda a, b: (a, [b]))(*split_channels(image)), names="a,,")),
        ):
            with self.subTest(words), self.assertRaisesRegex(Trouble, words):
                call()

    def test_on_the_command_line(self):
        save_ome_tiff(self.place / "section.ome.tif", channelled(("../up", "a:b")))
        out = self.place / "apart"
        kestrelmist("split-channels", self.place / "section.ome.tif", "--out", out)
        self.assertEqual(sorted(p.name for p in out.iterdir()), ["-up.ome.tif", "a-b.ome.tif"])
        both = [out / "-up.ome.tif", out / "a-b.ome.tif"]
        kestrelmist("merge-channels", both[0], "--others", both[1], "--names", "a,b", "--out", self.place / "m.ome.tif")
        merged = open_image(self.place / "m.ome.tif")
        np.testing.assert_array_equal(merged.data, channelled().data)
        self.assertEqual(merged.axes[0].labels, ("a", "b"))
        kestrelmist("split-channels", self.place / "section.ome.tif", code=1)
