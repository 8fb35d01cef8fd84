"""Headers of NRRD and MetaImage: units of lengths, values as text, values that lie beside and nowhere else."""

import numpy as np
import SimpleITK as sitk

from kestrelmist.core.caveat import SCALE_UNSURE, has_caveat
from kestrelmist.core.errors import Trouble
from kestrelmist.formats.opening import open_image
from kestrelmist.study.study import Study
from tests.making import PlaceCase

HEAD = "NRRD0004\ntype: uint8\ndimension: 3\nsizes: 2 3 4\nencoding: raw\n"
TURNED = "space: left-posterior-superior\nspace directions: (0,5,0) (-7,0,0) (0,0,9)\nspace origin: (10,20,30)\n"
VALUES = np.arange(24, dtype=np.uint8)


class UnitsTest(PlaceCase):
    def nrrd(self, more: str, head: str = HEAD):
        path = self.place / "a.nrrd"
        path.write_bytes((head + more + "\n").encode() + VALUES.tobytes())
        return open_image(path)

    def test_units_of_the_space_count_for_directions_and_origin(self):
        plain = self.nrrd(TURNED).space.affine
        np.testing.assert_allclose(plain[:3, 3], (-10, -20, 30))
        for unit, factor in (
            ("mm", 1),
            ("um", 1e-3),
            ("µm", 1e-3),
            ("microns", 1e-3),
            ("cm", 10),
            ("m", 1e3),
            ("nm", 1e-6),
        ):
            image = self.nrrd(TURNED + f'space units: "{unit}" "{unit}" "{unit}"\n')
            np.testing.assert_allclose(image.space.affine[:3], plain[:3] * factor, rtol=1e-12, err_msg=unit)
            self.assertFalse(has_caveat(image.caveats, SCALE_UNSURE), unit)
        image = self.nrrd(TURNED + 'space units: "mm" "cm" "µm"\n')  # one for each axis of the world
        np.testing.assert_allclose(image.space.affine[:3], plain[:3] * np.array([[1], [10], [1e-3]]))

    def test_a_unit_that_is_no_length_is_said(self):
        image = self.nrrd(TURNED + 'space units: "furrow" "furrow" "s"\n')
        self.assertEqual([c.sentence for c in image.caveats if c.code == SCALE_UNSURE],
                         ["The file gives lengths in “furrow”, which is no length; they are taken for mm",
                          "The file gives lengths in “s”, which is no length; they are taken for mm"])  # fmt: skip
        np.testing.assert_allclose(image.space.spacing, (5, 7, 9))

    def test_units_of_axes_count_for_spacings(self):
        image = self.nrrd('spacings: 2 3 4\nunits: "um" "um" "cm"\n')
        np.testing.assert_allclose(image.space.spacing, (0.002, 0.003, 40))
        series = (
            "NRRD0004\ntype: uint8\ndimension: 4\nsizes: 2 2 2 3\nencoding: raw\nkinds: domain domain domain time\n"
        )
        image = self.nrrd('spacings: 2 3 4 50\nunits: "µm" "µm" "µm" "ms"\n', series)
        np.testing.assert_allclose(image.space.spacing, (0.002, 0.003, 0.004))
        self.assertEqual((image.axes[0].step, image.axes[0].unit), (50, "ms"))
        picture = "NRRD0004\ntype: uint8\ndimension: 2\nsizes: 4 6\nencoding: raw\n"
        image = self.nrrd('spacings: 2 3\nunits: "nm" "nm"\n', picture)
        np.testing.assert_allclose(image.space.spacing[:2], (2e-6, 3e-6))
        self.assertEqual(image.space.unit, "mm")

    def test_metaimage(self):
        text = "ObjectType = Image\nNDims = 3\nDimSize = 2 3 4\nElementType = MET_UCHAR\nElementSpacing = 5 7 9\n"
        for unit, factor in (("", 1), ("mm", 1), ("um", 1e-3), ("cm", 10)):
            more = f"DistanceUnits = {unit}\n" if unit else ""
            path = self.place / "a.mha"
            path.write_bytes((text + more + "Offset = 1 2 3\nElementDataFile = LOCAL\n").encode() + VALUES.tobytes())
            space = open_image(path).space
            np.testing.assert_allclose(space.spacing, np.array([5, 7, 9]) * factor)
            np.testing.assert_allclose(space.affine[:3, 3], np.array([-1, -2, 3]) * factor)


class TextTest(PlaceCase):
    def metaimage(self, values: str, kind: str = "MET_SHORT"):
        path = self.place / "a.mha"
        path.write_text(
            f"ObjectType = Image\nNDims = 3\nBinaryData = False\nDimSize = 2 3 4\nElementType = {kind}\n"
            f"ElementSpacing = 1 1 1\nElementDataFile = LOCAL\n{values}\n"
        )
        return path

    def test_values_as_text(self):
        numbers = np.arange(24) * 37 - 400
        path = self.metaimage(" ".join(map(str, numbers)))
        np.testing.assert_array_equal(open_image(path).data.ravel(order="F"), numbers)
        np.testing.assert_array_equal(open_image(path).data, sitk.GetArrayFromImage(sitk.ReadImage(str(path))).T)
        path = self.metaimage("\n".join(f"{v / 8:.3e}" for v in numbers), "MET_FLOAT")
        np.testing.assert_allclose(open_image(path).data.ravel(order="F"), numbers / 8, rtol=1e-3)

    def test_text_that_is_none(self):
        for values, said in (("1 2 3", "cut short: 3 of 24|promises more"), ("x " * 24, "no numbers"),
                             ("99999999 " * 24, "no numbers"), ("1.5 " * 24, "no numbers")):  # fmt: skip
            with self.assertRaisesRegex(Trouble, said):
                _ = open_image(self.metaimage(values + " " * 60)).data


class BesideTest(PlaceCase):
    def headers(self, named: str, folder) -> list:
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "a.mhd").write_text(
            "ObjectType = Image\nNDims = 3\nDimSize = 2 3 4\nElementType = MET_UCHAR\nElementSpacing = 1 1 1\n"
            f"ElementDataFile = {named}\n"
        )
        (folder / "a.nhdr").write_text(HEAD + f"data file: {named}\n\n")
        return [folder / "a.mhd", folder / "a.nhdr"]

    def test_beside_and_below(self):
        folder = self.place / "scans"
        (folder / "sub").mkdir(parents=True)
        for place in (folder / "v.raw", folder / "sub" / "v.raw"):
            place.write_bytes(VALUES.tobytes())
        for named in ("v.raw", "sub/v.raw", "sub/../v.raw", "./v.raw", str(folder / "sub" / "v.raw")):
            for header in self.headers(named, folder):
                np.testing.assert_array_equal(open_image(header).data.ravel(order="F"), VALUES, f"{header} {named}")

    def test_elsewhere_is_refused(self):
        (self.place / "v.raw").write_bytes(VALUES.tobytes())
        for named in (
            "../v.raw",
            "sub/../../v.raw",
            str(self.place / "v.raw"),
            "/etc/passwd",
            "../../../../etc/passwd",
        ):
            for header in self.headers(named, self.place / "scans"):
                with self.assertRaisesRegex(Trouble, "outside its folder.*put them beside"):
                    _ = open_image(header).data

    def test_values_below_are_copied_with_their_header(self):
        folder = self.place / "scans"
        (folder / "sub").mkdir(parents=True)
        (folder / "sub" / "v.raw").write_bytes(VALUES.tobytes())
        self.headers("sub/v.raw", folder)
        for name in ("a.mhd", "a.nhdr"):
            with Study(self.place / f"study {name}", create=True) as study:
                study.run("gather", folder=folder / name, subject="S")
                (record,) = study.records()
                (folder / "sub").rename(folder / "gone")
                try:
                    np.testing.assert_array_equal(study.image(record.id).data.ravel(order="F"), VALUES, name)
                finally:
                    (folder / "gone").rename(folder / "sub")
