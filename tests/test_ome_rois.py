"""Images saved with their marks as OME-TIFF: regions of the standard, all of it back, files of other programs."""

import unittest
import xml.etree.ElementTree as ElementTree
from dataclasses import replace

import numpy as np
import tifffile

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.geometry.mark import Mark
from kestrelmist.core.geometry.marks import Marks
from kestrelmist.core.image import Image
from kestrelmist.core.space import Space, picture_space
from kestrelmist.formats.mark_files import read_marks
from kestrelmist.formats.opening import open_image
from kestrelmist.report.save_with_marks import save_with_marks
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase

SPACE = picture_space(60, 40, (0.002, 0.001))
UP = (0.0, 0.0, 1.0)
OME = "{http://www.openmicroscopy.org/Schemas/OME/2016-06}"
ORDER = {"Image": 0, "StructuredAnnotations": 1, "ROI": 2}


def picture() -> Image:
    values = np.arange(60 * 40, dtype=np.uint16).reshape(60, 40, 1, order="F")
    return Image(values, SPACE, "tail", "HM-07")


def at(x: float, y: float) -> tuple[float, float, float]:
    """The world position of a place in pixels, from the outer corner."""
    return tuple(SPACE.to_world((x - 0.5, y - 0.5, 0)).tolist())


def drawn() -> Marks:
    ends = at(10, 5), at(30, 20)
    marks = [
        Mark("point", (at(3, 4),), cls=2, name="nucleus & more", notes={"note": "<faint>"}),
        Mark("line", ends, normal=UP, sure=1e-4, colour="#12AB9F", width=3.0),
        Mark("arrow", ends, normal=UP, text="here"),
        Mark("polyline", (*ends, at(40, 8)), normal=UP),
        Mark("polygon", (*ends, at(40, 8)), normal=UP, letters=20.0, unit="um", digits=1, spread=False),
        Mark("rectangle", (at(10, 10), at(20, 10), at(20, 30), at(10, 30)), normal=UP),
        Mark("ellipse", (at(40, 20), at(30, 25), at(20, 20), at(30, 15)), normal=UP),
        Mark("lines-angle", (at(1, 1), at(9, 1), at(1, 5), at(9, 9)), normal=UP),
        Mark("circle", (at(20, 20), at(25, 30), at(30, 20)), normal=UP),
        Mark("text", (at(50, 30),), text="tail"),
        Mark("scale-bar", (at(5, 35), at(30, 35)), normal=UP),
    ]
    numbered = {3 * n: replace(mark, id=3 * n) for n, mark in enumerate(marks, 1)}
    return Marks(numbered, world=SPACE.world, unit="mm", name="Reader A")


class OmeRoisTest(PlaceCase):
    def save(self, image=None, marks=None) -> tuple:
        path = self.place / "tail.ome.tif"
        table = save_with_marks(image or picture(), marks or drawn(), path, replace=True)
        return path, table

    def test_all_of_it_comes_back(self):
        path, table = self.save()
        self.assertEqual(table.rows[0][2:], (11, 0))
        image = open_image(path)
        np.testing.assert_array_equal(image.data, picture().data)
        self.assertTrue(any("11 regions are drawn in this file" in c.sentence for c in image.caveats))
        made = read_marks(path)
        self.assertEqual([m.as_dict() for m in made], [m.as_dict() for m in drawn()])
        self.assertEqual((made.name, made.unit), ("Reader A", "mm"))

    def test_the_description_is_as_the_standard_has_it(self):
        path, _ = self.save()
        with tifffile.TiffFile(path) as file:
            root = ElementTree.fromstring(file.ome_metadata)
            np.testing.assert_array_equal(file.asarray(), picture().kji[0])
        tags = [one.tag.removeprefix(OME) for one in root]
        self.assertEqual(tags, sorted(tags, key=ORDER.get))
        inside = [one.tag.removeprefix(OME) for one in root.find(f"{OME}Image")]
        self.assertEqual(inside[: inside.index("Pixels") + 1], ["Pixels"])
        self.assertEqual(set(inside[1:12]), {"ROIRef"})
        refs = [one.get("ID") for one in root.iter(f"{OME}ROIRef")]
        self.assertEqual(refs, [one.get("ID") for one in root.iter(f"{OME}ROI")])
        shapes = [[one.tag.removeprefix(OME) for one in union] for union in root.iter(f"{OME}Union")]
        self.assertEqual(shapes, [["Point"], ["Line"], ["Line"], ["Polyline"], ["Polygon"], ["Rectangle"], ["Ellipse"],
                                  ["Line", "Line"], ["Ellipse"], ["Label"], ["Line"]])  # fmt: skip
        point = next(root.iter(f"{OME}Point"))
        self.assertEqual((point.get("X"), point.get("Y"), point.get("Text")), ("3", "4", "nucleus & more"))
        box = next(root.iter(f"{OME}Rectangle"))
        self.assertEqual([box.get(n) for n in ("X", "Y", "Width", "Height")], ["10", "10", "10", "20"])
        round_one = next(root.iter(f"{OME}Ellipse"))
        self.assertEqual([round_one.get(n) for n in ("X", "Y", "RadiusX", "RadiusY")], ["30", "20", "10", "5"])
        line = next(root.iter(f"{OME}Line"))
        self.assertEqual(int(line.get("StrokeColor")) & 0xFFFFFFFF, 0x12AB9FFF)

    def rewritten(self, path, change) -> None:
        with tifffile.TiffFile(path, mode="r+b") as file:
            file.pages.first.tags["ImageDescription"].overwrite(change(file.ome_metadata).encode())

    def test_what_another_program_has_moved_or_taken_out_is_believed(self):
        path, _ = self.save()

        def change(text: str) -> str:
            a, b = text.index('<ROI ID="ROI:12"'), text.index('<ROI ID="ROI:15"')
            return (text[:a] + text[b:]).replace('X="3" Y="4"', 'X="5.5" Y="4"')

        self.rewritten(path, change)
        made = read_marks(path)
        self.assertEqual(len(made), 10)
        first = next(iter(made))
        np.testing.assert_allclose(first.points[0], at(5.5, 4), atol=1e-9)
        self.assertEqual((first.name, first.cls), ("nucleus & more", 0))
        self.assertNotIn("polyline", [m.shape for m in made])

    def test_a_file_that_we_did_not_write(self):
        path = self.place / "other.ome.tif"
        tifffile.imwrite(path, np.zeros((3, 40, 60), np.uint8), ome=True, metadata={
            "axes": "TYX", "PhysicalSizeX": 2.0, "PhysicalSizeXUnit": "µm", "PhysicalSizeY": 1.0,
            "PhysicalSizeYUnit": "µm"})  # fmt: skip
        rois = """<ROI ID="ROI:0"><Union><Rectangle ID="Shape:0:0" X="10" Y="10" Width="10" Height="20" TheT="2"
            StrokeColor="-16776961"/><Mask ID="Shape:0:1" X="0" Y="0" Width="2" Height="2"/></Union></ROI>
            <ROI ID="ROI:1" Name="cell"><Union><Polygon ID="Shape:1:0" Points="1,1 5,1 5,4"><Transform A00="1" A10="0"
            A01="0" A11="1" A02="10" A12="2"/></Polygon><Line ID="Shape:1:1" X1="0" Y1="x" X2="2" Y2="2"/>
            </Union></ROI>"""
        self.rewritten(path, lambda text: text.replace("</OME>", f"{rois}</OME>"))
        one, other = read_marks(path)
        np.testing.assert_allclose(
            [p[:2] for p in one.points], [at(*p)[:2] for p in ((10, 10), (20, 10), (20, 30), (10, 30))]
        )
        self.assertEqual((one.shape, one.place, one.colour), ("rectangle", (2,), "#FF0000"))
        np.testing.assert_allclose([p[:2] for p in other.points], [at(*p)[:2] for p in ((11, 3), (15, 3), (15, 6))])
        self.assertEqual(other.name, "cell")

    def test_volumes_times_and_what_lies_in_no_slice(self):
        space = Space((20, 16, 5), np.diag([1.0, 1.0, 2.0, 1.0]))
        values = np.zeros((20, 16, 5, 2), np.uint8, order="F")
        image = Image(values, space, "heads", axes=[Axis("time", 2, "s", (0.0, 1.5))])
        marks = Marks.numbered([
            Mark("point", (tuple(space.to_world((3, 4, 2)).tolist()),), place=(1,)),
            Mark("line", (tuple(space.to_world((3, 4, 0)).tolist()), tuple(space.to_world((3, 4, 4)).tolist()))),
        ], world=space.world, name="M")  # fmt: skip
        path, table = self.save(image, marks)
        self.assertEqual(table.rows[0][2:], (2, 1))
        with tifffile.TiffFile(path) as file:
            (point,) = ElementTree.fromstring(file.ome_metadata).iter(f"{OME}Point")
        self.assertEqual((point.get("TheZ"), point.get("TheT")), ("2", "1"))
        self.assertEqual([m.as_dict() for m in read_marks(path)], [m.as_dict() for m in marks])

    def test_into_a_study_and_by_command(self):
        path, _ = self.save()
        ran = kestrelmist("save-with-marks", path, "--marks", path, "--to", self.place / "again.ome.tif")
        self.assertEqual(ran.returncode, 0, ran.stderr)
        with Study(self.place / "S", create=True) as study:
            study.run("gather", folder=self.place / "again.ome.tif", subject="HM-07")
            study.run("take-marks", image=1, file=self.place / "again.ome.tif")
            marks = study.thing(study.marks.in_hand(1))
            for mine, other in zip(marks, drawn()):
                np.testing.assert_allclose(mine.array, other.array, atol=1e-9)
            self.assertEqual(len(marks), 11)

    def test_words_of_any_kind(self):
        for said in ("a\x00b", "two\nlines", "\ud800x", "日本 <b>&\"'", "=1+1" * 80, "\\"):
            marks = Marks.numbered(
                [Mark("text", (at(3, 4),), text=said), Mark("point", (at(5, 5),), name=said)],
                world=SPACE.world,
                name="M",
            )
            path, _ = self.save(marks=marks)
            with tifffile.TiffFile(path) as file:
                ElementTree.fromstring(file.ome_metadata)  # others can read it
            self.assertEqual([m.as_dict() for m in read_marks(path)], [m.as_dict() for m in marks])

    def test_what_cannot_be(self):
        for name, told in (("tail.tif", "as .ome.tif"), ("tail.png", "as .ome.tif")):
            with self.assertRaisesRegex(Trouble, told):
                save_with_marks(picture(), drawn(), self.place / name)
        other = Marks.numbered([Mark("point", ((1, 2, 0),))], world=SPACE.world, unit="px", name="M")
        with self.assertRaisesRegex(Trouble, "“M” counts in px and “tail” in mm"):
            save_with_marks(picture(), other, self.place / "x.ome.tif")
        self.assertFalse((self.place / "x.ome.tif").exists())
        plain = self.place / "plain.ome.tif"
        tifffile.imwrite(plain, np.zeros((4, 5), np.uint8), ome=True)
        with self.assertRaisesRegex(Trouble, "holds no marks"):
            read_marks(plain)


if __name__ == "__main__":
    unittest.main()
