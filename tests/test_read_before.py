"""Images of studies of older versions, whose files are read in another way today: seen as they were, found, mended."""

import json
import unittest

import numpy as np
import SimpleITK as sitk
import tifffile
from PIL import Image as Opened

from kestrelmist.checks.notice import Subject, run_checks
from kestrelmist.core.labels import LabelMap
from kestrelmist.study.study import Study
from tests.dicom_making import one
from tests.making import PlaceCase, straight_space

RANDOM = np.random.default_rng(9)


class OlderCase(PlaceCase):
    def setUp(self):
        super().setUp()
        self.scans = self.place / "scans"
        self.scans.mkdir()

    def study(self, change=None) -> Study:
        """A study with what lies in the folder, as an older version left it; `change` works on the body and the row."""
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.scans, subject="T-1")
        study = Study(self.place / "study")
        self.addCleanup(study.close)
        with study.catalogue.change() as db:
            for record in study.records():
                body = {k: v for k, v in record.body.items() if k != "read"}
                space, content = record.grid.as_dict(), record.hash
                if change is not None:
                    space, content = change(body, space, content)
                db.execute(
                    "UPDATE item SET body = ?, space = ?, hash = ? WHERE id = ?",
                    (json.dumps(body), json.dumps(space), content, record.id),
                )
        study.items.forget()
        return study

    def said(self, study: Study) -> list:
        (record,) = [r for r in study.records() if not r.body.get("read")]
        image = study.image(record.id)
        subject = Subject(image, LabelMap(record.grid), records=study.records(), record_id=record.id)
        return [n for n in run_checks(subject, "gather") if n.check == "read_before"]


class FoundTest(OlderCase):
    def nrrd(self) -> None:
        path = self.scans / "v.nrrd"
        sitk.WriteImage(sitk.GetImageFromArray(RANDOM.integers(0, 99, (6, 7, 8)).astype(np.int16)), str(path))
        head, _, rest = path.read_bytes().partition(b"\n\n")
        path.write_bytes(head + b'\nspace units: "um" "um" "um"\n\n' + rest)

    def test_nothing_is_said_of_what_is_read_as_before(self):
        for name, values in (("a.png", RANDOM.integers(0, 99, (6, 7), dtype=np.uint8)),):
            Opened.fromarray(values).save(self.scans / name)
        study = self.study()
        self.assertEqual(self.said(study), [])
        self.assertEqual(study.run("read-otherwise").rows, [])

    def test_micrometres_that_were_read_as_millimetres(self):
        self.nrrd()

        def older(body, space, content):
            space["affine"] = [[1000 * v for v in row] for row in space["affine"][:3]] + [[0, 0, 0, 1]]
            return space, content

        study = self.study(older)
        (notice,) = self.said(study)
        self.assertIn("its voxels are 0.001 × 0.001 × 0.001, not 1 × 1 × 1 mm", notice.sentence)
        self.assertEqual((notice.level, notice.mend.operation), ("wrong", "take-in-again"))
        (row,) = study.run("read-otherwise").rows
        self.assertEqual(row[:2], ("v", "T-1"))
        study.run("paint", image="v", label="Part", point=(0.0, 0.0, 0.0), diameter=3000.0)
        painted = study.labels("v").data.copy()
        (made,) = study.run("take-in-again", image="v")
        np.testing.assert_allclose(study.image(made).space.spacing, 0.001)
        np.testing.assert_array_equal(study.image(made).data, study.image("v").data)
        np.testing.assert_array_equal(study.labels(made).data, painted)
        self.assertEqual(study.labels(made).table[1].name, "Part")
        self.assertEqual(study.run("read-otherwise").count, 1)  # the new one is right, the old one is still there

    def test_a_scale_that_somebody_set_is_theirs(self):
        self.nrrd()
        study = self.study()
        study.run("set-spacing", image="v", spacing=(0.5, 0.5, 0.5))
        self.assertEqual(self.said(study), [])

    def test_times_over_midnight(self):
        for t, (day, clock) in enumerate((("20260101", "235950.0"), ("20260102", "000010.0"))):
            for k in range(3):
                one(
                    self.scans / f"{t}{k}.dcm",
                    RANDOM.integers(0, 99, (8, 9)).astype(np.uint16),
                    space=straight_space((9, 8, 3)),
                    k=k,
                    instance=3 * t + k,
                    SeriesInstanceUID="1.2.3",
                    AcquisitionDate=day,
                    AcquisitionTime=clock,
                    AcquisitionNumber=t + 1,
                )

        def older(body, space, content):
            body["axes"][0]["values"] = [0.0, -86380.0]
            return space, content

        study = self.study(older)
        (notice,) = self.said(study)
        self.assertIn("its places along “time” are others", notice.sentence)
        (made,) = study.run("take-in-again", image=study.records()[0].id)
        self.assertEqual(study.image(made).axes[0].values, (0.0, 20.0))

    def test_values_that_wrapped(self):
        for k in range(3):
            one(
                self.scans / f"{k}.dcm",
                RANDOM.integers(0, 99, (8, 9)).astype(np.uint16),
                space=straight_space((9, 8, 3)),
                k=k,
                instance=k,
                SeriesInstanceUID="1.2.3",
            )
        study = self.study(lambda body, space, content: (space, "0" * 64))
        study.image(study.records()[0].id).data  # noqa: B018
        (notice,) = self.said(study)
        self.assertIn("its values are others", notice.sentence)
        self.assertEqual(study.run("read-otherwise").count, 1)


class SeenTest(OlderCase):
    def test_turned_pictures_and_palettes_stay_as_they_were_until_taken_in_again(self):
        numbers = RANDOM.integers(0, 7, (12, 20), dtype=np.uint8)
        tifffile.imwrite(
            self.scans / "turned.tif", numbers, photometric="minisblack", extratags=[(274, "H", 1, 6, True)]
        )
        study = self.study()
        with study.catalogue.change() as db:  # as it was kept: not turned
            db.execute("UPDATE item SET space = json_set(space, '$.shape', json('[20, 12, 1]')) WHERE kind = 'image'")
        study.items.forget()
        (record,) = study.records()
        np.testing.assert_array_equal(study.image(record.id).data[:, :, 0].T, numbers)
        (notice,) = self.said(study)
        self.assertIn("it is 12 × 20 × 1, not 20 × 12 × 1", notice.sentence)
        (made,) = study.run("take-in-again", image=record.id)
        np.testing.assert_array_equal(study.image(made).data[:, :, 0].T, np.rot90(numbers, -1))

    def test_colours_of_a_palette(self):
        picture = Opened.fromarray(RANDOM.integers(0, 7, (12, 20), dtype=np.uint8), "P")
        picture.putpalette(list(RANDOM.integers(0, 255, 768)))
        picture.save(self.scans / "p.tif")

        def older(body, space, content):
            body["colour"] = False
            return space, content

        study = self.study(older)
        (record,) = study.records()
        np.testing.assert_array_equal(study.image(record.id).data[:, :, 0].T, np.asarray(picture))
        (notice,) = self.said(study)
        self.assertIn("its numbers stand for colours", notice.sentence)
        (made,) = study.run("take-in-again", image=record.id)
        np.testing.assert_array_equal(
            study.image(made).rgb()[:, :, 0].swapaxes(0, 1), np.asarray(picture.convert("RGB"))
        )


if __name__ == "__main__":
    unittest.main()
