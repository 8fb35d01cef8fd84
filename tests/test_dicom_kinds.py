"""Every common kind of DICOM: many frames, colours, packings, tiles, times, detectors, labels."""

import shutil

import imagecodecs
import numpy as np
import pydicom
from pydicom.encaps import encapsulate
from pydicom.uid import (
    DeflatedExplicitVRLittleEndian,
    ExplicitVRBigEndian,
    ImplicitVRLittleEndian,
    JPEG2000Lossless,
    JPEGLSLossless,
    RLELossless,
)

from kestrelmist.core.errors import Trouble
from kestrelmist.demo.functional_run import odour_space
from kestrelmist.demo.scenes.heart_clip import write_clip
from kestrelmist.demo.scenes.planar_pair import write_planar_pair
from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image
from kestrelmist.gather.open_labels import open_labels
from kestrelmist.gather.plan import plan_folder
from kestrelmist.scene.showing import low_is_bright
from tests.dicom_making import CT, SC, enhanced, item, one, segmentation, stack, structures
from tests.making import PlaceCase, labelled, opened, tilted_space

RNG = np.random.default_rng(21)


class KindsCase(PlaceCase):
    def setUp(self):
        super().setUp()
        self.folder = self.place / "scans"
        self.folder.mkdir()

    def images(self, uneven="refuse"):
        return [series_image(s, uneven) for s in scan_folder(self.folder)]

    def image(self):
        (found,) = self.images()
        return found

    def assert_places(self, image, values, space, index=()):
        """Every world position has the value it was written with, whichever way the stack is counted."""
        got = image.stored(index).exact()
        for voxel in map(tuple, RNG.integers(0, space.shape, (25, 3))):
            at = image.space.nearest_voxel(space.to_world(voxel))
            self.assertEqual(got[at], values[voxel])


class ManyFramesTest(KindsCase):
    def test_enhanced_frames_go_by_their_positions_and_times(self):
        space = tilted_space((7, 9, 6))
        volumes = RNG.integers(0, 4000, (3, 6, 9, 7)).astype(np.uint16)
        enhanced(self.folder / "e", volumes, space, order=RNG.permutation(18))
        image = self.image()
        self.assertEqual((image.shape, image.axes[0].name), ((7, 9, 6, 3), "time"))
        for t in range(3):
            self.assert_places(image, volumes[t].transpose(2, 1, 0).astype(float) * 2 - 5, space, (t,))

    def test_several_stacks_in_one_file_stay_apart(self):
        space = tilted_space((7, 9, 6))
        enhanced(self.folder / "e", RNG.integers(0, 99, (1, 6, 9, 7)).astype(np.uint16), space, stacks=2)
        found = scan_folder(self.folder)
        self.assertEqual([s.depth for s in found], [3, 3])
        self.assertIn("2 kinds of slices", found[0].problems[0])

    def test_frames_without_a_place_are_pictures_one_after_another(self):
        volume = RNG.integers(0, 99, (1, 6, 9, 7)).astype(np.uint16)
        for gone in (("PlanePositionSequence",), ("PlanePositionSequence", "PixelMeasuresSequence")):
            ds = enhanced(self.folder / "e", volume, tilted_space((7, 9, 6)))
            for groups in (*ds.SharedFunctionalGroupsSequence, *ds.PerFrameFunctionalGroupsSequence):
                for name in gone:
                    if name in groups:
                        delattr(groups, name)
            ds.save_as(self.folder / "e")
            (line,) = plan_folder(self.folder)
            self.assertTrue(line.take)
            image = line.open()
            self.assertEqual((image.shape, image.axes[0].name, image.space.sides_known), ((7, 9, 1, 6), "frame", False))
            self.assertEqual(image.space.unit, "px" if len(gone) == 2 else "mm")
            for k in range(6):
                np.testing.assert_array_equal(image.stored((k,)).exact()[:, :, 0].T, volume[0, k].astype(float) * 2 - 5)

    def test_places_without_the_size_of_pixels_are_not_planned(self):
        ds = enhanced(self.folder / "e", RNG.integers(0, 99, (1, 6, 9, 7)).astype(np.uint16), tilted_space((7, 9, 6)))
        del ds.SharedFunctionalGroupsSequence[0].PixelMeasuresSequence
        ds.save_as(self.folder / "e")
        (line,) = plan_folder(self.folder)
        self.assertFalse(line.take)
        self.assertIn("does not say how large its pixels are", line.refused)

    def test_a_file_without_enough_groups_is_named(self):
        space = tilted_space((7, 9, 4))
        ds = enhanced(self.folder / "e", np.zeros((1, 4, 9, 7), np.uint16), space)
        ds.PerFrameFunctionalGroupsSequence = ds.PerFrameFunctionalGroupsSequence[:2]
        ds.save_as(self.folder / "e")
        for image in scan_folder(self.folder):
            self.assertLessEqual(image.depth, 4)

    def test_colour_clip(self):
        write_clip(self.folder, "T-5", frames=6)
        image = self.image()
        self.assertTrue(image.colour)
        self.assertEqual(
            (image.shape, round(image.axes[0].step, 4), image.space.unit), ((480, 360, 1, 6), 0.0833, "mm")
        )
        np.testing.assert_allclose(image.space.spacing[:2], 0.06)
        (path,) = image.origin.files
        ds = pydicom.dcmread(path)
        frame = next(iter(pydicom.encaps.generate_frames(ds.PixelData, number_of_frames=6)))
        wanted = imagecodecs.jpeg_decode(frame)
        np.testing.assert_allclose(image.rgb((0,))[:, :, 0].swapaxes(0, 1).astype(int), wanted, atol=3)

    def test_planar_pair_from_front_and_back(self):
        path = write_planar_pair(self.folder, "T-5")
        image = self.image()
        self.assertEqual((image.axes[0].name, image.axes[0].labels), ("detector", ("front", "back")))
        raw = pydicom.dcmread(path).pixel_array
        np.testing.assert_array_equal(image.data[:, :, 0, 0].T, raw[0])
        np.testing.assert_array_equal(image.data[:, :, 0, 1].T, raw[1][:, ::-1])  # turned over: the sides agree
        self.assertIn("turned over", " ".join(c.sentence for c in image.caveats))
        self.assertLess(
            image.space.to_world((127, 0, 0))[0], image.space.to_world((0, 0, 0))[0]
        )  # seen from the front, left is on the right
        self.assertTrue(image.space.sides_known)

    def test_detectors_and_time_slots_are_two_axes(self):
        frames = np.arange(6, dtype=np.uint16)[:, None, None] * np.ones((1, 5, 4), np.uint16)
        one(
            self.folder / "n",
            frames,
            "NM",
            "1.2.840.10008.5.1.4.1.1.20",
            FrameIncrementPointer=[0x00540020, 0x00540070],
            DetectorVector=[1, 2] * 3,
            TimeSlotVector=[1, 1, 2, 2, 3, 3],
            PixelSpacing=["2", "2"],
            NumberOfDetectors=2,
        )
        image = self.image()
        self.assertEqual([(a.name, a.size) for a in image.axes], [("detector", 2), ("time slot", 3)])
        for d in range(2):
            for t in range(3):
                self.assertTrue((image.stored((d, t)).values == 2 * t + d).all())


class ColoursAndPackingsTest(KindsCase):
    def colours(self):
        return RNG.integers(0, 256, (6, 8, 3)).astype(np.uint8)

    def only_colours(self):
        return self.image().rgb()[:, :, 0].swapaxes(0, 1)

    def test_rgb_and_planar_configuration(self):
        wanted = self.colours()
        one(self.folder / "c", wanted, "OT", SC, "RGB")
        np.testing.assert_array_equal(self.only_colours(), wanted)
        ds = pydicom.dcmread(self.folder / "c")
        ds.PixelData, ds.PlanarConfiguration = wanted.transpose(2, 0, 1).tobytes(), 1
        ds.save_as(self.folder / "c")
        np.testing.assert_array_equal(self.only_colours(), wanted)

    def test_ybr_becomes_rgb(self):
        ybr = np.dstack([np.full((6, 8), 81), np.full((6, 8), 90), np.full((6, 8), 240)]).astype(np.uint8)
        one(self.folder / "y", ybr, "US", SC, "YBR_FULL")
        np.testing.assert_allclose(self.only_colours()[0, 0], (238, 14, 14), atol=1)  # ITU-R BT.601
        half = np.dstack([ybr[..., 0].reshape(6, 4, 2), ybr[:, ::2, 1:]]).astype(np.uint8)
        ds = pydicom.dcmread(self.folder / "y")
        ds.PhotometricInterpretation, ds.PixelData = "YBR_FULL_422", half.tobytes()
        ds.save_as(self.folder / "y")
        np.testing.assert_allclose(self.only_colours()[0, 0], (238, 14, 14), atol=1)

    def test_palette(self):
        index = RNG.integers(0, 4, (6, 8)).astype(np.uint8)
        tables = RNG.integers(0, 256, (3, 4)).astype(np.uint16) * 257
        names = ("Red", "Green", "Blue")
        elements = {f"{n}PaletteColorLookupTableDescriptor": [4, 0, 16] for n in names} | {
            f"{n}PaletteColorLookupTableData": t.astype("<u2").tobytes() for n, t in zip(names, tables)
        }
        one(self.folder / "p", index, "US", SC, "PALETTE COLOR", **elements)
        np.testing.assert_array_equal(self.only_colours(), (tables >> 8).T[index])

    def test_every_lossless_packing_reads_the_same(self):
        values = RNG.integers(0, 4096, (64, 48, 5)).astype(np.uint16)
        space = stack(self.folder, values, sop=CT, modality="CT", BitsStored=12, HighBit=11)
        for syntax in (RLELossless, JPEG2000Lossless, JPEGLSLossless):
            with self.subTest(syntax=syntax.name):
                for path in sorted(self.folder.iterdir()):
                    ds = pydicom.dcmread(path)
                    if ds.file_meta.TransferSyntaxUID.is_compressed:
                        ds.decompress()
                    ds.compress(syntax, generate_instance_uid=False)
                    ds.save_as(path)
                self.assert_places(self.image(), values, space)
        for path in sorted(self.folder.iterdir()):
            ds = pydicom.dcmread(path)
            ds.decompress()
            frame = imagecodecs.ljpeg_encode(ds.pixel_array)
            ds.file_meta.TransferSyntaxUID = pydicom.uid.JPEGLosslessSV1
            ds.PixelData = encapsulate([frame])
            ds["PixelData"].is_undefined_length = True
            ds.save_as(path)
        self.assert_places(self.image(), values, space)

    def test_other_byte_orders_deflated_and_bare_files(self):
        values = RNG.integers(-2000, 2000, (8, 6, 5)).astype(np.int16)
        space = stack(self.folder, values)
        paths = sorted(self.folder.iterdir())
        for path, syntax in zip(paths, (ExplicitVRBigEndian, DeflatedExplicitVRLittleEndian, ImplicitVRLittleEndian)):
            ds = pydicom.dcmread(path)
            if syntax == ExplicitVRBigEndian:
                ds.PixelData = ds.pixel_array.astype(">i2").tobytes()
            ds.file_meta.TransferSyntaxUID = syntax
            pydicom.dcmwrite(
                path, ds, implicit_vr=syntax.is_implicit_VR, little_endian=syntax.is_little_endian, force_encoding=True
            )
        for path, implicit in ((paths[3], True), (paths[4], False)):
            ds = pydicom.dcmread(path)
            with open(path, "wb") as stream:  # no preamble, no file meta
                fp = pydicom.filebase.DicomBytesIO()
                fp.is_little_endian, fp.is_implicit_VR = True, implicit
                pydicom.filewriter.write_dataset(fp, ds)
                stream.write(fp.getvalue())
        self.assert_places(self.image(), values, space)

    def test_one_bit_and_wide_numbers_and_floats(self):
        bits = RNG.integers(0, 2, (6, 8)).astype(bool)
        ds = one(self.folder / "b", bits.astype(np.uint8), "OT", SC)
        ds.BitsAllocated = ds.BitsStored = 1
        ds.HighBit, ds.PixelData = 0, np.packbits(bits.ravel(), bitorder="little").tobytes()
        ds.save_as(self.folder / "b")
        np.testing.assert_array_equal(self.image().stored().exact()[:, :, 0].T, bits)
        (self.folder / "b").unlink()
        for kind in ("i1", "u4", "i4"):
            wanted = RNG.integers(np.iinfo(kind).min, np.iinfo(kind).max, (6, 8)).astype(kind)
            one(self.folder / "w", wanted, "OT", SC)
            np.testing.assert_array_equal(self.image().stored().exact()[:, :, 0].T, wanted)
        wanted = RNG.normal(0, 1, (6, 8)).astype(np.float32)
        ds = one(self.folder / "w", np.zeros((6, 8), np.uint32), "OT", "1.2.840.10008.5.1.4.1.1.30")
        del ds.PixelData
        ds.FloatPixelData = wanted.tobytes()
        ds.save_as(self.folder / "w")
        np.testing.assert_array_equal(self.image().stored().exact()[:, :, 0].T, wanted)

    def test_monochrome1_keeps_its_values(self):
        wanted = RNG.integers(0, 4000, (6, 8)).astype(np.uint16)
        one(
            self.folder / "x",
            wanted,
            "DX",
            "1.2.840.10008.5.1.4.1.1.1.1",
            "MONOCHROME1",
            ImagerPixelSpacing=["0.1", "0.2"],
            PatientOrientation=["R", "P"],
        )
        image = self.image()
        np.testing.assert_array_equal(image.data[:, :, 0].T, wanted)
        self.assertTrue(low_is_bright(image))
        np.testing.assert_allclose(image.space.spacing[:2], (0.2, 0.1))
        np.testing.assert_allclose(
            image.space.to_world((1, 1, 0)) - image.space.to_world((0, 0, 0)), (0.2, -0.1, 0), atol=1e-9
        )

    def test_real_world_values_and_look_up_tables(self):
        stored = RNG.integers(0, 4, (6, 8)).astype(np.uint16)
        one(
            self.folder / "r",
            stored,
            "PT",
            "1.2.840.10008.5.1.4.1.1.128",
            RealWorldValueMappingSequence=[
                item(
                    RealWorldValueSlope=0.5,
                    RealWorldValueIntercept=1.0,
                    MeasurementUnitsCodeSequence=[item(CodeValue="Bq/ml", CodingSchemeDesignator="UCUM")],
                )
            ],
        )
        image = self.image()
        np.testing.assert_array_equal(image.stored().exact()[:, :, 0].T, stored * 0.5 + 1)
        self.assertEqual(image.unit, "Bq/ml")
        one(
            self.folder / "r",
            stored,
            "OT",
            SC,
            ModalityLUTSequence=[
                item(LUTDescriptor=[4, 0, 16], LUTData=np.array([7, 5, 3, 900], "<u2").tobytes(), ModalityLUTType="OD")
            ],
        )
        np.testing.assert_array_equal(self.image().stored().exact()[:, :, 0].T, np.array([7, 5, 3, 900])[stored])


class SeriesOfVolumesTest(KindsCase):
    def test_times_as_separate_files(self):
        values = RNG.integers(0, 999, (6, 7, 4, 5)).astype(np.uint16)
        for t in (3, 0, 4, 1, 2):  # written in no order, one file a slice
            space = stack(
                self.folder,
                values[..., t],
                start=100 * t,
                AcquisitionTime=lambda k, t=t: f"1000{2 * t:02d}.{25 * k:04d}",
                RepetitionTime="2000",
            )
        image = self.image()
        self.assertEqual((image.shape, image.axes[0].step), ((6, 7, 4, 5), 2.0))
        for t in range(5):
            self.assert_places(image, values[..., t], space, (t,))

    def test_echoes_stay_apart_and_say_so(self):
        values = RNG.integers(0, 99, (6, 7, 4)).astype(np.uint16)
        for echo in (1, 2):
            stack(self.folder, values + echo, start=100 * echo, EchoNumbers=str(echo), EchoTime=str(5 * echo))
        found = scan_folder(self.folder)
        self.assertEqual([s.description for s in found], ["Stack, echo 1", "Stack, echo 2"])
        self.assertIn("2 kinds of slices", found[0].problems[0])

    def test_phase_and_magnitude_are_told_apart(self):
        values = RNG.integers(0, 99, (6, 7, 4)).astype(np.uint16)
        for n, letter in enumerate("MP"):
            stack(self.folder, values, start=100 * n, ImageType=["ORIGINAL", "PRIMARY", letter])
        self.assertEqual(sorted(s.description for s in scan_folder(self.folder)), ["Stack, magnitude", "Stack, phase"])

    def test_tiles(self):
        from kestrelmist.demo import anatomy
        from kestrelmist.demo.animal import Animal
        from kestrelmist.demo.scenes.odour_run import write_odour_run

        animal = Animal(
            "plain", np.full((anatomy.FIELDS, 3, 3, 3), -1, np.float32), *(np.zeros((3, 3, 3), np.float32),) * 2, 4
        )
        write_odour_run(self.folder, animal, "T-5", times=3)
        image = self.image()
        self.assertEqual((image.shape, image.axes[0].step), ((48, 48, 16, 3), 1.4))
        np.testing.assert_allclose(image.space.affine, odour_space().affine, atol=1e-4)
        path = image.origin.files[1]
        square = pydicom.dcmread(path).pixel_array
        np.testing.assert_array_equal(image.frame((1,)).data[:, :, 6].T, square[48:96, 96:144])

    def test_a_whole_volume_missing_a_slice_is_said(self):
        values = RNG.integers(0, 99, (6, 7, 4, 3)).astype(np.uint16)
        for t in range(3):
            stack(self.folder, values[..., t], start=100 * t, TemporalPositionIdentifier=t + 1)
        (self.folder / "0102").unlink()
        (found,) = scan_folder(self.folder)
        self.assertRegex(found.problems[0], "1 slice is missing in the stack in some of the 3 volumes")
        with self.assertRaises(Trouble):
            series_image(found)
        self.assertEqual(series_image(found, "mend").shape, (6, 7, 4, 3))


class NotImagesTest(KindsCase):
    def test_objects_that_are_no_images_are_named(self):
        stack(self.folder, np.zeros((4, 4, 2), np.uint16))
        for sop, name in (
            ("1.2.840.10008.5.1.4.1.1.88.11", "report"),
            ("1.2.840.10008.5.1.4.1.1.11.1", "state"),
            ("1.2.840.10008.5.1.4.1.1.481.5", "plan"),
        ):
            ds = one(self.folder / name, np.zeros((2, 2), np.uint8), "SR", sop, description=name, number=7)
            for keyword in ("PixelData", "Rows", "Columns"):
                delattr(ds, keyword)
            ds.save_as(self.folder / name)
        lines = {line.name: line for line in plan_folder(self.folder)}
        self.assertEqual(
            [lines[n].kind for n in ("Stack", "report", "state", "plan")], ["DICOM", "other", "other", "other"]
        )
        self.assertEqual(lines["report"].seems, "Report (Basic Text SR)")
        self.assertIn("Presentation state (", lines["state"].seems)
        self.assertEqual(lines["plan"].seems, "Treatment plan (RT Plan)")
        self.assertEqual([i.name for i in opened(self.folder)], ["Stack"])

    def test_dicomdir_lists_its_files(self):
        from pydicom.fileset import FileSet

        values = RNG.integers(0, 99, (6, 7, 4)).astype(np.uint16)
        stack(self.folder, values)
        files = FileSet()
        for path in self.folder.iterdir():
            ds = pydicom.dcmread(path)
            ds.StudyID, ds.SeriesNumber = "1", 1
            files.add(ds)
        files.write(self.place / "disc")
        (line,) = plan_folder(self.place / "disc" / "DICOMDIR")
        self.assertEqual(line.size, "6×7×4")
        next(p for p in (self.place / "disc").rglob("*") if p.is_file() and p.name != "DICOMDIR").unlink()
        (line,) = plan_folder(self.place / "disc" / "DICOMDIR")
        self.assertIn("1 files that the DICOM directory lists are not there", " ".join(line.problems))


class LabelObjectsTest(KindsCase):
    def setUp(self):
        super().setUp()
        self.values = RNG.integers(0, 99, (12, 14, 8)).astype(np.uint16)
        self.space = stack(self.folder, self.values)
        ds = pydicom.dcmread(self.folder / "0000")
        self.uids = str(ds.SeriesInstanceUID), str(ds.FrameOfReferenceUID)

    def masks(self):
        i, j, k = np.indices(self.space.shape)
        return {
            "Left": (i - 3) ** 2 + (j - 6) ** 2 + (k - 3) ** 2 < 9,
            "Right": (i - 9) ** 2 + (j - 8) ** 2 + (k - 4) ** 2 < 8,
        }

    def assert_labels(self, labels):
        for name, mask in self.masks().items():
            number = labels.table.named(name).number
            voxels = np.argwhere(mask)
            found = [labels.at(p) for p in self.space.to_world(voxels)]
            self.assertEqual(set(found), {number}, name)
            self.assertEqual(int(labels.counts[number]), len(voxels))

    def test_segmentation_comes_in_on_its_image(self):
        segmentation(self.folder / "seg", self.masks(), self.space, *self.uids)
        with self.study() as study:
            study.run("gather", folder=self.folder)
            self.assert_labels(study.labels("Stack"))
            (key,) = (m.id for m in study.label_maps(1))
            study.history.undo()  # with its image
            self.assertEqual((study.records(), study.history.to_undo()), ([], None))
            study.history.redo()
            self.assert_labels(study.label_map(key))
        with self.study() as study:
            self.assert_labels(study.labels("Stack"))

    def study(self):
        from kestrelmist.study.study import Study

        return Study(self.place / "study", create=True)

    def test_two_objects_on_one_image_join(self):
        masks = self.masks()
        segmentation(self.folder / "seg1", {"Left": masks["Left"]}, self.space, *self.uids)
        segmentation(self.folder / "seg2", {"Right": masks["Right"]}, self.space, *self.uids)
        with self.study() as study:
            study.run("gather", folder=self.folder)
            self.assert_labels(study.labels("Stack"))

    def test_segmentation_opened_later_respects_locks(self):
        segmentation(self.place / "seg", self.masks(), self.space, *self.uids)
        image = self.image()
        labels = labelled(image, "Right")
        open_labels(image, labels, self.place / "seg").apply(labels)
        self.assert_labels(labels)
        locked = labelled(image, "Mine")
        locked.kji[:] = 1
        locked.counts[:2] = (0, locked.kji.size)
        locked.table = locked.table.changed(1, locked=True)
        with self.assertRaisesRegex(Trouble, "locked"):
            open_labels(image, locked, self.place / "seg")

    def test_structure_set_by_the_even_odd_rule(self):
        def ring(k, radius):
            turn = np.linspace(0, 2 * np.pi, 73)[:-1]
            return self.space.to_world(
                np.column_stack([6 + radius * np.cos(turn), 7 + radius * np.sin(turn), np.full(72, k)])
            )

        structures(self.folder / "rt", {"Ring": [ring(k, r) for k in (2, 3) for r in (4.6, 2.3)]}, self.uids[1])
        with self.study() as study:
            study.run("gather", folder=self.folder)
            labels = study.labels("Stack")
        i, j, k = np.indices(self.space.shape)
        radius = np.hypot(i - 6, j - 7)
        wanted = (radius < 4.58) & (radius > 2.32) & ((k == 2) | (k == 3))
        unsure = (np.abs(radius - 4.6) < 0.03) | (np.abs(radius - 2.3) < 0.03)
        for voxel in np.argwhere(wanted & ~unsure):
            self.assertEqual(labels.at(self.space.to_world(voxel)), 1)
        self.assertAlmostEqual(int(labels.counts[1]), int(wanted.sum()), delta=int(unsure.sum()))
        self.assertEqual(labels.table[1].colour, "#C81E3C")

    def test_labels_of_another_image_are_refused(self):
        far = self.space.affine.copy()
        far[:3, 3] += 500
        from kestrelmist.core.space import Space

        segmentation(self.place / "seg", self.masks(), Space(self.space.shape, far), *self.uids)
        with self.assertRaisesRegex(Trouble, "lies on this image"):
            open_labels(self.image(), labelled(self.image()), self.place / "seg")
        with self.assertRaisesRegex(Trouble, "no labels"):
            open_labels(self.image(), labelled(self.image()), self.folder / "0000")

    def test_overlays_in_the_header_become_labels(self):
        path = self.folder / "0002"
        ds = pydicom.dcmread(path)
        mark = np.zeros((14, 12), np.uint8)
        mark[3:6, 2:9] = 1
        ds.add_new(0x60000010, "US", 14)
        ds.add_new(0x60000011, "US", 12)
        ds.add_new(0x60000040, "CS", "G")
        ds.add_new(0x60000050, "SS", [1, 1])
        ds.add_new(0x60000100, "US", 1)
        ds.add_new(0x60000102, "US", 0)
        ds.add_new(0x60001500, "LO", "Old mark")
        ds.add_new(0x60003000, "OW", np.packbits(mark.ravel(), bitorder="little").tobytes())
        ds.save_as(path)
        image = self.image()
        self.assertEqual([r.name for r in image.labels.table], ["Old mark"])
        self.assertEqual(int(image.labels.counts[1]), 21)
        self.assertEqual(image.labels.at(self.space.to_world((4, 4, 2))), 1)


class CopiesTest(KindsCase):
    def test_a_series_that_is_there_twice_is_said(self):
        stack(self.folder / "a", np.zeros((4, 4, 3), np.uint16))
        shutil.copytree(self.folder / "a", self.folder / "b")
        (line,) = plan_folder(self.folder)
        self.assertIn("same place", line.problems[0])
        self.assertFalse(line.take)
        self.assertTrue(line.mendable)

    def test_private_elements_are_facts(self):
        stack(self.folder, np.zeros((4, 4, 2), np.uint16))
        for path in self.folder.iterdir():
            ds = pydicom.dcmread(path)
            ds.private_block(0x0099, "HOLLOWMERE", create=True).add_new(1, "LO", "cradle 4")
            ds.save_as(path)
        self.assertIn("cradle 4", self.image().facts.values())
