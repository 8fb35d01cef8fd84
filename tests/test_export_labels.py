import json
from pathlib import Path

import numpy as np
import pydicom
from PIL import Image as Picture

from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import silent
from kestrelmist.core.space import picture_space
from kestrelmist.core.surface.of_label import surfaces_of
from kestrelmist.formats.dicom.labels import read_dicom_labels
from kestrelmist.formats.label_files import read_label_map
from kestrelmist.formats.mark_geojson import read_geojson
from kestrelmist.formats.saving import save_thing
from kestrelmist.outline.contours.fill_marks import fill_marks
from kestrelmist.outline.export.export_labels import apart, export_labels
from tests.command import kestrelmist
from tests.making import PlaceCase, dicom_folder, opened, straight_space, tilted_space
from tests.test_bridge import ellipsoid
from tests.test_contours import image_on
from tests.test_shaping import after, blobs, mapped, voxels


class ExportLabelsTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.space = tilted_space((26, 24, 20))
        self.labels = mapped(
            self.space, Bone=blobs(self.space.shape, 4, 1.5, 0.6), Eye=blobs(self.space.shape, 9, 1.5, 0.85)
        )
        self.labels.subject = "T-1"
        self.image = image_on(self.space, np.random.default_rng(0).integers(0, 900, self.space.shape).astype(np.int16))

    def export(self, as_, labels=None, **more):
        table = export_labels(labels or self.labels, as_, self.place / as_, **more)
        return Path(table.rows[0][-1])

    def same(self, found):
        for name in ("Bone", "Eye"):
            np.testing.assert_array_equal(voxels(found, name), voxels(self.labels, name))

    def test_dicom_segmentation_by_two_readers(self):
        path = self.export("seg")
        self.same(read_dicom_labels(path, self.space))
        import highdicom

        seg = highdicom.seg.segread(path)
        self.assertEqual([s.segment_label for s in seg.SegmentSequence], ["Bone", "Eye"])
        volume = seg.get_volume(combine_segments=True)
        back = np.zeros((20, 24, 26), np.uint16)
        lps = np.diag([-1.0, -1.0, 1.0, 1.0])
        at = np.argwhere(volume.array)
        places = (lps @ volume.affine @ np.column_stack((at, np.ones(len(at)))).T)[:3].T
        ijk = np.round(self.space.to_voxel(places)).astype(int)
        back[tuple(ijk[:, ::-1].T)] = volume.array[tuple(at.T)]
        np.testing.assert_array_equal(back, self.labels.kji)

    def test_structure_set_and_its_source(self):
        dicom_folder(self.place / "scan", Image(self.image.data, straight_space((26, 24, 20)), "Head", "T-1", "CT"))
        image = opened(self.place / "scan")[0]
        labels = mapped(
            image.space, Bone=blobs(image.space.shape, 4, 1.5, 0.6), Eye=blobs(image.space.shape, 9, 1.5, 0.85)
        )
        for as_ in ("rtstruct", "seg"):
            path = export_labels(labels, as_, self.place / f"{as_}.dcm", image).rows[0][-1]
            back = read_dicom_labels(path, image.space)
            for name in ("Bone", "Eye"):
                np.testing.assert_array_equal(voxels(back, name), voxels(labels, name))
            ds = pydicom.dcmread(path)
            known = {str(pydicom.dcmread(f).SOPInstanceUID) for f in image.origin.files}
            text = ds.to_json()
            self.assertTrue(any(uid in text for uid in known))
            self.assertEqual(str(ds.FrameOfReferenceUID), image.facts["FrameOfReferenceUID"])
        ds = pydicom.dcmread(self.place / "rtstruct.dcm")
        self.assertEqual([str(r.ROIName) for r in ds.StructureSetROISequence], ["Bone", "Eye"])

    def test_volumes_of_numbers_with_names(self):
        for as_ in ("nifti", "nrrd", "ome-tiff"):
            self.same(read_label_map(self.export(as_)))

    def test_geojson_fills_the_same_voxels(self):
        marks = read_geojson(self.export("geojson"))
        empty = mapped(self.space)
        self.same(after(empty, fill_marks(marks, self.image, empty)))

    def test_png_of_a_picture_and_of_slices(self):
        space = picture_space(30, 20, (0.001, 0.001))
        labels = mapped(space, A=np.eye(20, 30, dtype=bool)[None])
        image = image_on(space, np.arange(600, dtype=np.uint16).reshape(30, 20, 1))
        table = export_labels(labels, "png", self.place / "m.png", image)
        np.testing.assert_array_equal(np.asarray(Picture.open(table.rows[0][-1])), labels.kji[0])
        np.testing.assert_array_equal(np.asarray(Picture.open(table.rows[1][-1])), image.kji[0])
        labels.table = labels.table.changed(1, name="A")
        many = mapped(space, **{f"L{n}": (np.arange(600).reshape(1, 20, 30) == n) for n in range(300)})
        path = export_labels(many, "png", self.place / "n.png").rows[0][-1]
        np.testing.assert_array_equal(np.asarray(Picture.open(path)), many.kji[0])
        self.export("png", image=self.image)
        for k in (0, 7, 19):
            mask = np.asarray(Picture.open(self.place / "png" / f"{k + 1:04d} mask.png"))
            np.testing.assert_array_equal(mask, self.labels.kji[k])
        self.assertEqual(len(list((self.place / "png").iterdir())), 40)

    def test_png_of_values_that_are_not_known(self):
        values = np.linspace(0, 900, 26 * 24 * 20, dtype=np.float32).reshape(26, 24, 20)
        values[0, 0, :3] = np.inf, np.nan, -np.inf
        self.export("png", image=Image(values, self.space))
        shown = [np.asarray(Picture.open(self.place / "png" / f"{k:04d} image.png"))[0, 0] for k in (1, 2, 3)]
        self.assertEqual(shown, [255, 0, 0])

    def test_coco_says_where_each_object_lies(self):
        space = picture_space(40, 30, (0.001, 0.001))
        mask = np.zeros((1, 30, 40), bool)
        mask[0, 5:12, 3:10] = mask[0, 20:25, 20:33] = True
        path = self.export("coco", mapped(space, Cell=mask))
        found = json.loads(path.read_text())
        self.assertEqual([a["bbox"] for a in found["annotations"]], [[3, 5, 7, 7], [20, 20, 13, 5]])
        self.assertEqual([a["area"] for a in found["annotations"]], [49, 65])
        x, y = np.array(found["annotations"][1]["segmentation"][0]).reshape(-1, 2).T
        area = abs(float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum())) / 2
        self.assertAlmostEqual(area, 65 - 0.5, delta=0.6)  # corners are cut by half a pixel
        self.assertEqual((x.min(), x.max(), y.min(), y.max()), (20, 33, 20, 25))
        self.assertEqual(found["categories"], [{"id": 1, "name": "Cell", "supercategory": ""}])

    def test_surfaces_enclose_the_volume_and_look_outwards(self):
        space = straight_space((40, 36, 20), 0.5)
        space = type(space)(space.shape, space.affine @ np.diag([1, 1, 3, 1]))
        body = ellipsoid(space, space.centre, (6, 5, 9))
        labels = mapped(space, Eye=body)
        surface = surfaces_of(labels).parts[0]
        a, b, c = (surface.corners[surface.triangles[:, n]].astype(float) for n in range(3))
        volume = float(np.einsum("ij,ij->i", a - space.centre, np.cross(b - space.centre, c - space.centre)).sum()) / 6
        self.assertLess(abs(volume / (4 / 3 * np.pi * 6 * 5 * 9) - 1), 0.04)
        for as_, ending in (("stl", "stl"), ("obj", "obj"), ("ply", "ply"), ("gltf", "glb")):
            path = self.place / f"{as_}.{ending}"
            self.assertEqual(self.export(as_, labels), path)
            blob = path.read_bytes()
            if as_ == "stl":
                rows = np.frombuffer(blob[84:], [("n", "<f4", 3), ("c", "<f4", (3, 3)), ("x", "<u2")])
                self.assertEqual(len(rows), len(surface.triangles))
                np.testing.assert_array_equal(rows["c"], surface.corners[surface.triangles].astype(np.float32))
            elif as_ == "obj":
                lines = blob.decode().splitlines()
                self.assertEqual(sum(line.startswith("f ") for line in lines), len(surface.triangles))
                self.assertIn("o Eye", lines)
            elif as_ == "ply":
                size = len(blob) - blob.index(b"end_header\n") - 11
                self.assertEqual(size, 27 * len(surface.corners) + 13 * len(surface.triangles))
            else:
                length = int.from_bytes(blob[12:16], "little")
                said = json.loads(blob[20 : 20 + length])
                self.assertEqual(said["accessors"][1]["count"], surface.triangles.size)
                self.assertEqual(int.from_bytes(blob[8:12], "little"), len(blob))

    def test_what_was_written_is_taken_again_with_its_image(self):
        image, labels = self.place / "head.nii.gz", self.place / "labels.nii.gz"
        save_thing(image, self.image)
        save_thing(labels, self.labels)
        with self.assertRaisesRegex(Trouble, "folder to write into does not exist"):
            export_labels(self.labels, "seg", self.place / "none" / "x")
        self.assertFalse((self.place / "none").exists())
        for as_, ending in (("seg", ".dcm"), ("rtstruct", ".dcm"), ("nrrd", ".nrrd"), ("ome-tiff", ".ome.tif")):
            with self.subTest(as_=as_):
                to = self.place / f"again {as_}{ending}"
                kestrelmist("export-labels", labels, "--as", as_, "--image", image, "--out", to)
                out = self.place / f"measured {as_}.csv"
                kestrelmist("measure-labels", image, "--labels", to, "--out", out)
                rows = [line.split(",")[2:6] for line in out.read_text().splitlines()[1:]]
                self.assertEqual([(row[0], int(row[2])) for row in rows], self.counts())
        alone = kestrelmist(
            "fill-holes", self.place / "again seg.dcm", "--out", self.place / "holes.nii.gz", code=1
        ).stderr
        self.assertIn("name the image too", alone)

    def counts(self):
        return [(row.name, int(self.labels.counts[row.number])) for row in self.labels.table]

    def test_a_number_each_piece(self):
        found = apart(self.labels, silent())
        from scipy import ndimage

        count = sum(ndimage.label(voxels(self.labels, n), np.ones((3, 3, 3)))[1] for n in ("Bone", "Eye"))
        self.assertEqual(len(found.table), count)
        np.testing.assert_array_equal(found.kji > 0, self.labels.kji > 0)
        path = self.export("nifti", instances=True)
        self.assertEqual(int(read_label_map(path).kji.max()), count)

    def test_wrong_input_and_by_command(self):
        flat = mapped(picture_space(9, 9, (0.001, 0.001)), A=np.ones((1, 9, 9), bool))
        for labels, as_, words in (
            (mapped(self.space), "seg", "no label that is drawn"),
            (flat, "seg", "no place in a body"),
            (flat, "rtstruct", "no place in a body"),
            (flat, "stl", "has no surface"),
        ):
            with self.subTest(as_=as_), self.assertRaisesRegex(Trouble, words):
                self.export(as_, labels)
        self.assertEqual(list(self.place.iterdir()), [])
        self.export("nrrd")
        with self.assertRaisesRegex(Trouble, "something of this name|There is"):
            self.export("nrrd")
        source = self.export("nifti")
        kestrelmist("export-labels", source, "--as", "seg", "--out", self.place / "by command.dcm")
        self.same(read_dicom_labels(self.place / "by command.dcm", self.space))
