"""The plan of a folder, taking it in, converting, sorting into a BIDS-style folder, reordering axes."""

import json
import shutil
import subprocess
from pathlib import Path
from unittest import mock

import imagecodecs
import nibabel
import numpy as np
import tifffile

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Cancelled, Partly, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.formats import header_reading
from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image
from kestrelmist.formats.nifti import read_nifti, write_nifti
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.sidecar import KEY, facts_of
from kestrelmist.gather.bids import convert_folder
from kestrelmist.gather.convert import convert
from kestrelmist.gather.facts import facts
from kestrelmist.gather.gather import list_series
from kestrelmist.gather.plan import plan_folder
from kestrelmist.gather.reorient import reorient
from kestrelmist.gather.subject_rule import UNNAMED, SubjectRule
from kestrelmist.study.gathering import take_lines
from kestrelmist.study.recipes.of_logbook import recipe_of
from kestrelmist.study.recipes.one_subject import run_recipe
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.dicom_making import item, stack
from tests.making import PlaceCase, dicom_folder, opened, straight_space, tilted_space, two_balls

RNG = np.random.default_rng(41)


class PlanTest(PlaceCase):
    def mixed(self):
        folder = self.place / "mixed"
        dicom_folder(folder, two_balls())
        (folder / "deep").mkdir()
        write_nifti(
            folder / "deep" / "T-1 brain.nii.gz",
            RNG.integers(0, 9, (4, 5, 6)).astype(np.int16),
            straight_space((4, 5, 6)),
        )
        for n in (9, 10, 11, 12):
            (folder / f"lapse {n}.png").write_bytes(imagecodecs.png_encode(np.full((5, 6), n, np.uint8)))
        tifffile.imwrite(folder / "section.tif", RNG.integers(0, 255, (20, 30)).astype(np.uint8))
        (folder / "notes.txt").write_text("fed at nine\n")
        (folder / "half.nrrd").write_bytes(b"NRRD0004\ntype: short\n")
        return folder

    def test_every_kind_has_its_line(self):
        lines = {line.name: line for line in plan_folder(self.mixed())}
        self.assertEqual(
            {n: line.kind for n, line in lines.items()},
            {"Two balls": "DICOM", "T-1 brain": "NIfTI", "lapse": "sequence", "section": "TIFF", "half": "NRRD"},
        )
        self.assertEqual((lines["lapse"].size, lines["lapse"].seems), ("6×5 · 4 times", "Sequence of 4 pictures"))
        self.assertEqual((lines["section"].size, lines["section"].spacing), ("30×20", "no scale given"))
        self.assertEqual(
            (lines["T-1 brain"].subject, lines["section"].subject), ("T-1", UNNAMED)
        )  # the name stands in its path
        self.assertIn("damaged", lines["half"].refused)
        self.assertEqual([n for n, line in lines.items() if not line.take], ["half"])
        self.assertEqual(lines["lapse"].picture.shape, (88, 88))

    def test_subjects_by_a_pattern(self):
        folder = self.place / "scans" / "visit HM-0042 b"
        folder.mkdir(parents=True)
        write_nifti(folder / "x.nii", np.zeros((3, 3, 3), np.int16), straight_space((3, 3, 3)))
        (line,) = plan_folder(self.place / "scans", SubjectRule("folder", r"(HM-\d+)"))
        self.assertEqual(line.subject, "HM-0042")
        (line,) = plan_folder(self.place / "scans", SubjectRule("file name", r"([a-z])\.nii"))
        self.assertEqual(line.subject, "x")
        (line,) = plan_folder(self.place / "scans", known=["HM-0042"])
        self.assertEqual(line.subject, "HM-0042")
        with self.assertRaisesRegex(Trouble, "not a regular expression"):
            plan_folder(self.place / "scans", SubjectRule("folder", "(HM"))

    def test_many_files_are_read_by_two_processes_alike(self):
        folder = self.mixed()
        one = [(s.description, [p.name for p in s.files]) for s in scan_folder(folder)]
        with mock.patch.object(header_reading, "MANY", 1):
            other = [(s.description, [p.name for p in s.files]) for s in scan_folder(folder)]
            self.assertEqual(one, other)
            with mock.patch.object(subprocess, "Popen", wraps=_Dead):
                self.assertEqual([(s.description, [p.name for p in s.files]) for s in scan_folder(folder)], one)

    def test_taking_in_keeps_what_is_finished_when_stopped(self):
        lines = plan_folder(self.mixed())
        told, progress = [], Progress()
        done = []

        def tell(line, words):
            told.append((line.name, words))
            done.append(words) if words == "taken in" else None
            if len(done) == 2:
                progress.cancel()

        with Study(self.place / "study", create=True) as study:
            taken = take_lines(study, lines, progress, tell)
            self.assertTrue(taken.stopped)
            self.assertEqual(len(taken.keys), 2)
            self.assertEqual(len(study.records()), 2)
            self.assertEqual(told[-1][1], "stopped")
            self.assertEqual([e.operation for e in study.logbook.entries()], ["gather"] * 2)
            rest = take_lines(study, plan_folder(self.mixed_again()))
            self.assertEqual((len(rest.keys), len(rest.known), len(rest.refused)), (2, 2, 0))
            self.assertIn("in the study already", str(rest.known[0][1]))
        with Study(self.place / "study") as study:
            for record in study.records():
                image = study.image(record.id)
                self.assertEqual(image.data.shape, image.shape, record.name)
        self.assertEqual(sorted(p.name for p in (self.place / "study" / "images").iterdir()), ["1", "2", "3", "4"])

    def test_a_disk_that_runs_full_says_which_images_are_in(self):
        lines = plan_folder(self.mixed())
        names = [line.name for line in lines if line.take]
        copied, copy = [], shutil.copyfile

        def until_full(source, target):
            copied.append(source)
            if Path(source).suffix == ".tif":
                raise OSError(28, "No space left on device")
            return copy(source, target)

        with Study(self.place / "study", create=True) as study:
            with mock.patch.object(shutil, "copyfile", until_full):
                taken = take_lines(study, lines)
            at = names.index("section")
            self.assertEqual((sorted(r.name for r in study.records()), taken.refused), (sorted(names[:at]), []))
            self.assertEqual([line.name for line in taken.left], names[at:])
            self.assertRegex(taken.ending, f"disk is full.*{at} images? (is|are) in the study: “{names[0]}”")
            self.assertRegex(taken.ending, "Not taken in: “section”")
            self.assertEqual(list((self.place / "study" / "images").glob(".*")), [])
            rest = take_lines(study, lines)  # with room made, the rest comes in
            self.assertEqual((len(rest.keys), len(study.records())), (len(names) - at, len(names)))

    def test_what_is_in_stays_when_the_disk_runs_full(self):
        folder = self.mixed()
        (folder / "half.nrrd").unlink()
        copy = shutil.copyfile
        with Study(self.place / "study", create=True) as study:

            def until_full(source, target):
                if source.suffix in (".png", ".tif", ".gz"):
                    raise OSError(28, "No space left on device")
                return copy(source, target)

            with mock.patch.object(shutil, "copyfile", until_full):
                with self.assertRaisesRegex(Partly, "disk is full.*1 image is in the study: “Two balls”. Not taken"):
                    study.run("gather", folder=folder)
            (record,) = study.records()
            left = [p.name for p in (self.place / "study" / "images").iterdir()]
            self.assertEqual(left, [str(record.id)])
            study.run("gather", folder=folder)
            self.assertEqual(len(study.records()), 4)

    def test_pictures_of_a_sequence_may_be_slices(self):
        folder = self.mixed()
        (image,) = opened(folder, series="lapse", along="slice")
        self.assertEqual((image.shape, image.data[0, 0].tolist()), ((6, 5, 4), [9, 10, 11, 12]))
        self.assertIn("distance between the slices is not known", " ".join(c.sentence for c in image.caveats))
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=folder, series="lapse", sequences="slice")
        with Study(self.place / "study") as study:
            self.assertEqual(study.image("lapse").data[0, 0].tolist(), [9, 10, 11, 12])

    def test_how_far_each_line_is(self):
        (self.place / "scans").mkdir()
        write_nifti(
            self.place / "scans" / "big.nii.gz",
            RNG.normal(0, 1, (160, 160, 120)).astype(np.float32),
            straight_space((160, 160, 120)),
        )
        told = []
        with Study(self.place / "study", create=True) as study:
            take_lines(study, plan_folder(self.place / "scans"), told=lambda line, words: told.append(words))
        self.assertEqual((told[0], told[-1]), ("reading", "taken in"))
        shares = [int(w.split()[0]) for w in told[1:-1]]
        self.assertGreater(len(shares), 3)
        self.assertEqual(shares, sorted(set(shares)))

    def mixed_again(self):
        return self.place / "mixed"

    def test_left_in_place_and_the_whole_folder_through_the_operation(self):
        folder = self.mixed()
        (folder / "half.nrrd").unlink()
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=folder, copy=False, subject="Mine")
            self.assertEqual({r.subject for r in study.records()}, {"Mine"})
            self.assertEqual(list((self.place / "study" / "images").iterdir()), [])
            lapse = study.image("lapse")
            self.assertEqual((lapse.axes[0].name, lapse.data[0, 0, 0].tolist()), ("time", [9, 10, 11, 12]))
        table = list_series(folder)
        self.assertEqual(sorted(table.column("series")), ["T-1 brain", "Two balls", "lapse", "section"])

    def test_a_recipe_takes_it_in_again(self):
        from kestrelmist.study.recipes.of_logbook import recipe_of
        from kestrelmist.study.recipes.one_subject import run_recipe

        folder = self.mixed()
        with Study(self.place / "one", create=True) as study:
            take_lines(study, [line for line in plan_folder(folder) if line.name == "Two balls"], folder=folder)
            recipe = recipe_of(study.logbook.entries(), with_files=True)
        with Study(self.place / "two", create=True) as study:
            run_recipe(study, recipe)
            self.assertEqual([r.name for r in study.records()], ["Two balls"])


class _Dead:
    """A helper process that dies at once."""

    def __init__(self, *_, **__):
        self.returncode = 1

    def wait(self):
        return 1

    def poll(self):
        return 1

    def kill(self):
        pass


class ConvertTest(PlaceCase):
    def series(self, times=4, **more):
        values = RNG.integers(0, 999, (6, 7, 5, times)).astype(np.uint16)
        for t in range(times):
            space = stack(
                self.place / "scans",
                values[..., t],
                start=100 * t,
                TemporalPositionIdentifier=t + 1,
                RepetitionTime="2000",
                EchoTime="30",
                ScanningSequence="EP",
                MagneticFieldStrength="7",
                FlipAngle="70",
                InPlanePhaseEncodingDirection="COL",
                description="Odour run",
                AcquisitionTime=lambda k, t=t: f"1000{2 * t:02d}.{(k * 2 % 5) * 40:04d}00",
                **more,
            )
        return values, space

    def test_sidecar_has_the_acquisition_facts(self):
        values, _ = self.series()
        image = series_image(scan_folder(self.place / "scans")[0])
        table = convert(image, self.place / "run.nii.gz")
        self.assertEqual(len(table.rows), 2)
        sidecar = json.loads((self.place / "run.json").read_text())
        wanted = {
            "RepetitionTime": 2.0,
            "EchoTime": 0.03,
            "MagneticFieldStrength": 7.0,
            "FlipAngle": 70.0,
            "PhaseEncodingAxis": "j",
            "Manufacturer": "Hollowmere Workshop",
        }
        self.assertEqual({k: sidecar[k] for k in wanted}, wanted)
        back = nibabel.load(self.place / "run.nii.gz")
        self.assertAlmostEqual(back.header.get_zooms()[3], 2.0)
        # the stack is counted from its other end in the file; times go with their slices
        order = [
            int(
                np.argmin(
                    [
                        np.abs(image.space.to_world((0, 0, k)) - tilted_space((6, 7, 5)).to_world((0, 0, n))).sum()
                        for n in range(5)
                    ]
                )
            )
            for k in range(5)
        ]
        self.assertEqual([round(t / 0.004) for t in sidecar["SliceTiming"]], [n * 2 % 5 for n in order])
        self.assertEqual(values.shape, image.shape)
        with self.assertRaisesRegex(Trouble, "already"):
            convert(image, self.place / "run.nii.gz")
        self.assertEqual(len(convert(image, self.place / "run.nii.gz", sidecar=False, replace=True).rows), 1)

    def test_diffusion_directions_turn_with_the_axes(self):
        directions = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0], [0, 0, 1], [0.6, 0.8, 0]])
        values = RNG.integers(0, 999, (6, 7, 5)).astype(np.uint16)
        for t, g in enumerate(directions):
            space = stack(
                self.place / "scans",
                values,
                start=100 * t,
                DiffusionBValue=0.0 if t == 0 else 1000.0,
                DiffusionGradientOrientation=[float(v) for v in g],
            )
        image = series_image(scan_folder(self.place / "scans")[0])
        convert(image, self.place / "d.nii.gz")
        self.assertEqual((self.place / "d.bval").read_text().split(), ["0", "1000", "1000", "1000", "1000"])
        vectors = np.loadtxt(self.place / "d.bvec").T
        # from the files back to the world: the first component has the sign of the other hand where the axes are
        # right-handed
        self.assertEqual(space.shape, (6, 7, 5))
        turn = image.space.affine[:3, :3] / np.array(image.space.spacing)
        sign = np.array([-1 if np.linalg.det(turn) > 0 else 1, 1, 1])
        axis = [int(np.argmax(np.abs(v))) for v in directions[1:4]]
        world = (vectors * sign) @ turn.T
        given = {tuple(np.round(np.abs(v), 5)) for v in directions * (-1, -1, 1)}
        self.assertEqual({tuple(np.round(np.abs(v), 5)) for v in world}, given)
        self.assertEqual(axis, [0, 1, 2])
        standard = reorient(image)
        facts_after = facts_of(standard)
        turn = standard.space.affine[:3, :3] / np.array(standard.space.spacing)
        sign = np.array([-1 if np.linalg.det(turn) > 0 else 1, 1, 1])
        np.testing.assert_allclose((np.array(facts_after["bVectors"]) * sign) @ turn.T, world, atol=1e-6)

    def test_folder_becomes_a_bids_folder(self):
        self.series()
        stack(
            self.place / "scans",
            RNG.integers(0, 99, (6, 7, 5)).astype(np.uint16),
            start=900,
            description="Head T1 fine",
            number=7,
            RepetitionTime="9",
            EchoTime="3",
        )
        stack(
            self.place / "scans",
            RNG.integers(0, 99, (6, 7, 5)).astype(np.uint16),
            start=950,
            description="Head T1 fine",
            number=8,
            RepetitionTime="9",
            EchoTime="3",
        )
        for n, letter in enumerate("MP"):
            stack(
                self.place / "scans",
                RNG.integers(0, 99, (6, 7, 5)).astype(np.uint16),
                start=1000 + 100 * n,
                description="Field map",
                number=9,
                ImageType=["ORIGINAL", "PRIMARY", letter],
            )
        dicom_folder(self.place / "scans", two_balls(), "Skull CT", 12)
        table = convert_folder(self.place / "scans", self.place / "bids")
        found = sorted(str(p.relative_to(self.place / "bids")) for p in (self.place / "bids").rglob("*.nii.gz"))
        self.assertEqual(
            found,
            [
                "extra/sub-T1/sub-T1_desc-SkullCT_CT.nii.gz",
                "sub-T5/anat/sub-T5_T1w.nii.gz",
                "sub-T5/anat/sub-T5_run-2_T1w.nii.gz",
                "sub-T5/fmap/sub-T5_magnitude1.nii.gz",
                "sub-T5/fmap/sub-T5_phase1.nii.gz",
                "sub-T5/func/sub-T5_task-Odourrun_bold.nii.gz",
            ],
        )
        sidecar = json.loads((self.place / "bids/sub-T5/func/sub-T5_task-Odourrun_bold.json").read_text())
        self.assertEqual((sidecar["TaskName"], sidecar["RepetitionTime"]), ("Odour run", 2.0))
        self.assertEqual(
            json.loads((self.place / "bids/sub-T5/fmap/sub-T5_phase1.json").read_text())["ImageComponent"], "phase"
        )
        self.assertEqual(
            (self.place / "bids/participants.tsv").read_text().split(),
            ["participant_id", "subject", "sub-T1", "T-1", "sub-T5", "T-5"],
        )
        self.assertEqual(sorted(table.column("file")), found)
        self.assertTrue((self.place / "bids/converted.csv").exists())

    def test_a_series_that_cannot_be_converted_is_named_in_the_table(self):
        self.series()
        files = dicom_folder(self.place / "scans", two_balls(), "Skull CT", 12)
        files[4].unlink()
        table = convert_folder(self.place / "scans", self.place / "bids")
        problems = dict(zip(table.column("source"), table.column("problem")))
        self.assertIn("missing", problems["Skull CT"])
        self.assertEqual(problems["Odour run"], "")

    def test_cancel_leaves_no_half_file(self):
        image = Image(RNG.integers(0, 99, (60, 60, 60)).astype(np.int16), straight_space((60, 60, 60)))
        for name in ("a.nii.gz", "a.nrrd", "a.mha", "a.ome.tif", "a.ome.zarr", "a.dicom"):
            progress = Progress()
            progress.listener = lambda f, what, p=progress: p.cancel() if f > 0.6 else None
            with self.assertRaises(Cancelled):
                convert(image, self.place / name, progress=progress)
            self.assertEqual([p.name for p in self.place.iterdir()], [], name)

    def test_echo_spacing_from_the_bandwidth(self):
        import pydicom

        self.series()
        for path in (self.place / "scans").iterdir():
            ds = pydicom.dcmread(path)
            ds.private_block(0x0019, "HOLLOWMERE MR HEADER", create=True).add_new(0x28, "FD", 40.0)
            ds.save_as(path)
        found = facts_of(series_image(scan_folder(self.place / "scans")[0]))
        self.assertAlmostEqual(found["EffectiveEchoSpacing"], 1 / (40.0 * 7))
        self.assertAlmostEqual(found["TotalReadoutTime"], 6 / (40.0 * 7))

    def test_enhanced_files_say_the_same(self):
        from tests.dicom_making import enhanced

        space = tilted_space((7, 9, 6))
        (self.place / "e").mkdir()
        enhanced(
            self.place / "e" / "f",
            RNG.integers(0, 99, (2, 6, 9, 7)).astype(np.uint16),
            space,
            MREchoSequence=[item(EffectiveEchoTime=42.0)],
            MRTimingAndRelatedParametersSequence=[item(RepetitionTime=1500.0, FlipAngle=12.0)],
            MRFOVGeometrySequence=[item(InPlanePhaseEncodingDirection="ROW")],
        )
        found = facts_of(series_image(scan_folder(self.place / "e")[0]))
        self.assertEqual(
            (found["EchoTime"], found["RepetitionTime"], found["FlipAngle"], found["PhaseEncodingAxis"]),
            (0.042, 1.5, 12.0, "i"),
        )


class ReorientTest(PlaceCase):
    def test_every_voxel_keeps_its_place_and_value(self):
        for shape, columns in (
            ((4, 5, 6), [(0, -1, 0), (0, 0, 1), (-1, 0, 0)]),
            ((3, 7, 5), [(0, 0, -1), (1, 0, 0), (0, 1, 0)]),
        ):
            affine = np.eye(4)
            affine[:3, :3] = np.array(columns).T * (0.5, 0.7, 1.1)
            affine[:3, 3] = (1, 2, 3)
            image = Image(
                RNG.integers(-99, 99, (*shape, 2)).astype(np.int16), Space(shape, affine), axes=(Axis("time", 2),)
            )
            made = reorient(image)
            self.assertTrue(np.all(np.diag(made.space.affine[:3, :3]) > 0))
            self.assertEqual(made.space.world_axis_of, (0, 1, 2))
            for voxel in np.ndindex(shape):
                at = made.space.nearest_voxel(image.space.to_world(voxel))
                np.testing.assert_allclose(made.space.to_world(at), image.space.to_world(voxel), atol=1e-9)
                for t in range(2):
                    self.assertEqual(made.stored((t,)).values[at], image.stored((t,)).values[voxel])

    def test_scale_and_colours_and_the_independent_view(self):
        file = nibabel.Nifti1Image(RNG.integers(0, 99, (4, 5, 6)).astype(np.int16), tilted_space((4, 5, 6)).affine)
        file.header.set_slope_inter(0.25, 3)
        nibabel.save(file, self.place / "s.nii")
        made = reorient(read_nifti(self.place / "s.nii"))
        theirs = nibabel.as_closest_canonical(nibabel.load(self.place / "s.nii"))
        np.testing.assert_allclose(made.stored().exact(), theirs.get_fdata())
        np.testing.assert_allclose(made.space.affine, theirs.affine, atol=1e-6)
        colours = Image(RNG.integers(0, 255, (4, 5, 6, 3)).astype(np.uint8), tilted_space((4, 5, 6)), colour=True)
        self.assertEqual(reorient(colours).rgb().shape[-1], 3)

    def test_directions_of_the_acquisition_follow(self):
        affine = np.diag([-1.0, -1.0, 1.0, 1.0])[:, [1, 0, 2, 3]]
        image = Image(
            np.zeros((4, 5, 6), np.int16),
            Space((4, 5, 6), affine),
            facts={KEY: json.dumps({"PhaseEncodingDirection": "j", "SliceTiming": [0, 1, 2, 3, 4, 5]})},
        )
        self.assertEqual(facts_of(reorient(image))["PhaseEncodingDirection"], "i-")


class FactsTest(PlaceCase):
    def test_acquisition_stands_on_top_and_all_else_below(self):
        stack(self.place / "scans", np.zeros((4, 4, 3), np.uint16), EchoTime="12")
        table = facts(open_image(self.place / "scans"))
        names = table.column("fact")
        self.assertLess(names.index("Acquisition: EchoTime"), names.index("EchoTime"))
        self.assertEqual(dict(table.rows)["Acquisition: EchoTime"], "0.012")
        self.assertIn("PatientSpeciesDescription", names)

    def test_gather_names_what_there_is_when_nothing_is_an_image(self):
        from tests.dicom_making import one

        ds = one(
            self.place / "r" / "sr",
            np.zeros((2, 2), np.uint8),
            "SR",
            "1.2.840.10008.5.1.4.1.1.88.11",
            description="Report",
        )
        for keyword in ("PixelData", "Rows", "Columns"):
            delattr(ds, keyword)
        ds.save_as(self.place / "r" / "sr")
        with self.assertRaisesRegex(Trouble, "“Report” is a report .Basic Text SR"):
            opened(self.place / "r")


class PartlyTest(PlaceCase):
    """A file that cannot be read leaves the rest in, through every door."""

    def folder(self) -> Path:
        folder = self.place / "scans"
        folder.mkdir()
        for n in range(3):
            balls = two_balls()
            write_nifti(folder / f"v{n}.nii.gz", balls.data + np.int16(n), balls.space)
        whole = (folder / "v1.nii.gz").read_bytes()
        (folder / "v1.nii.gz").write_bytes(whole[: len(whole) // 2])
        return folder

    def test_from_python_and_again(self):
        with Study(self.place / "study", create=True) as study:
            with self.assertRaisesRegex(Partly, "2 images are in the study: “v0”, “v2”. “v1” is not: .*v1.nii") as said:
                study.run("gather", folder=self.folder())
            self.assertEqual([study.items.get(k).name for k in said.exception.done["image"]], ["v0", "v2"])
            self.assertEqual([r.name for r in study.records()], ["v0", "v2"])
            self.assertEqual(len(list((study.folder / "images").iterdir())), 2)
            with self.assertRaisesRegex(Trouble, "0 images are in the study. “v1” is not"):
                study.run("gather", folder=self.place / "scans")
            self.assertEqual([r.name for r in study.records()], ["v0", "v2"])
            study.history.undo()
            self.assertEqual(study.records(), [])

    def test_on_the_command_line(self):
        words = ("gather", self.folder(), "--study", self.place / "study")
        ran = kestrelmist(*words, code=1)
        self.assertIn("v0", ran.stdout)
        self.assertIn("v2", ran.stdout)
        self.assertIn("“v1” is not", ran.stderr)
        words = ("gather", self.place / "scans", "--study", self.place / "2", "--json")
        told = json.loads(kestrelmist(*words, code=1).stdout)
        self.assertEqual([i["name"] for i in told["images"]], ["v0", "v2"])
        self.assertIn("“v1” is not", told["trouble"])
        with Study(self.place / "study") as study:
            self.assertEqual([r.name for r in study.records()], ["v0", "v2"])

    def test_files_of_one_name_in_two_folders_are_told_apart_by_a_recipe(self):
        for n, name in enumerate("ab"):
            (self.place / "in" / name).mkdir(parents=True)
            balls = two_balls()
            write_nifti(self.place / "in" / name / "v.nii.gz", balls.data + np.int16(n), balls.space)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "in")
            recipe = recipe_of(study.logbook.entries(), with_files=True)
            self.assertEqual([s.settings["series"] for s in recipe.steps], ["a/v.nii.gz", "b/v.nii.gz"])
        with Study(self.place / "second", create=True) as study:
            run_recipe(study, recipe)
            self.assertEqual([int(study.image(r.id).data.min()) for r in study.records()], [0, 1])
            self.assertEqual([d.found for d in run_recipe(study, recipe)], [True, True])
