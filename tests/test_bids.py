"""Folders as the BIDS standard has them: made, joined, read back; every name checked by the standard's own schema."""

import json
from pathlib import Path

import nibabel as nib
import numpy as np
from bidsschematools.validator import validate_bids

from kestrelmist.core.errors import Trouble
from kestrelmist.formats.bids_names import parsed, parsed_rest
from kestrelmist.gather.bids import convert_folder
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.dicom_making import stack
from tests.making import PlaceCase, dicom_folder, tilted_space, two_balls

RNG = np.random.default_rng(21)
SHAPE = (6, 7, 5)


def noise(shape=SHAPE) -> np.ndarray:
    return RNG.integers(0, 999, shape).astype(np.uint16)


class BidsCase(PlaceCase):
    def scan(self, description: str, number: int, start: int, **elements) -> None:
        stack(self.place / "scans", noise(), start=start, description=description, number=number, **elements)

    def run_of(self, description: str, number: int, start: int, **elements) -> None:
        for t in range(3):
            said = {"TemporalPositionIdentifier": t + 1, "RepetitionTime": "2000", "EchoTime": "30"} | elements
            self.scan(description, number, start + 100 * t, ScanningSequence="EP", **said)

    def session(self, start: int = 0, first: int = 2, **elements) -> None:
        """T1, single volume and run of an odour task, a field map of two echoes with its difference, a resting run."""
        self.scan("Head T1", first, start, EchoTime="3", RepetitionTime="9", **elements)
        said = {"ScanningSequence": "EP", "EchoTime": "30", "RepetitionTime": "2000"} | elements
        self.scan("Odour run, single volume", first + 1, start + 100, **said)
        self.run_of("Odour run", first + 2, start + 200, **elements)
        size, phase = (elements | {"ImageType": ["ORIGINAL", "PRIMARY", letter]} for letter in "MP")
        for n, echo in enumerate(("4.92", "7.38")):
            self.scan("Field map", first + 3, start + 600 + 100 * n, EchoTime=echo, **size)
        self.scan("Field map", first + 4, start + 800, EchoTime="7.38", **phase)
        self.run_of("Rest run", first + 5, start + 900, **elements)

    def converted(self, **given) -> list[str]:
        self.bids = self.place / "bids"
        self.table = convert_folder(self.place / "scans", self.bids, **given)
        return sorted(str(p.relative_to(self.bids)) for p in self.bids.rglob("*.nii.gz"))

    def sidecar(self, name: str) -> dict:
        return json.loads((self.bids / f"{name}.json").read_text())

    def assert_valid(self) -> None:
        """By the validator of the schema: every file that is not listed as ignored has its place."""
        found = validate_bids(str(self.bids))
        ignored = ("extra/", "/converted", ".bidsignore")
        self.assertEqual([p for p in found["path_tracking"] if not any(word in p for word in ignored)], [])


class NamesTest(PlaceCase):
    def test_parts(self):
        name = parsed("sub-01_run-2_task-tap_ses-pre_bold")
        self.assertEqual((name.subject, name.suffix, name.rest), ("01", "bold", "ses-pre_task-tap_run-2_bold"))
        self.assertEqual(parsed_rest("ses-pre_task-tap_run-2_bold").entities["task"], "tap")
        for text in ("sub-01", "Head T1", "sub-_bold", "sub-01_task_bold", "sub-01_task-a b_bold", "../sub-01_bold"):
            self.assertIsNone(parsed(text), text)


class ConvertTest(BidsCase):
    def test_a_session_with_its_field_map(self):
        self.session()
        found = self.converted()
        self.assertEqual(found, [
            "sub-T5/anat/sub-T5_T1w.nii.gz",
            "sub-T5/fmap/sub-T5_magnitude1.nii.gz",
            "sub-T5/fmap/sub-T5_magnitude2.nii.gz",
            "sub-T5/fmap/sub-T5_phasediff.nii.gz",
            "sub-T5/func/sub-T5_task-Odourrun_bold.nii.gz",
            "sub-T5/func/sub-T5_task-Odourrun_sbref.nii.gz",
            "sub-T5/func/sub-T5_task-Restrun_bold.nii.gz",
        ])  # fmt: skip
        self.assert_valid()
        self.assertEqual([p for p in self.table.column("problem") if p], [])
        for n, echo in enumerate((0.00492, 0.00738), 1):
            self.assertEqual(nib.load(self.bids / f"sub-T5/fmap/sub-T5_magnitude{n}.nii.gz").shape, SHAPE)
            self.assertAlmostEqual(self.sidecar(f"sub-T5/fmap/sub-T5_magnitude{n}")["EchoTime"], echo)
        difference = self.sidecar("sub-T5/fmap/sub-T5_phasediff")
        self.assertEqual((difference["EchoTime1"], difference["EchoTime2"]), (0.00492, 0.00738))
        self.assertEqual(difference["IntendedFor"], [
            "bids::sub-T5/func/sub-T5_task-Odourrun_sbref.nii.gz",
            "bids::sub-T5/func/sub-T5_task-Odourrun_bold.nii.gz",
            "bids::sub-T5/func/sub-T5_task-Restrun_bold.nii.gz",
        ])  # fmt: skip
        run, single = (self.sidecar(f"sub-T5/func/sub-T5_task-Odourrun_{kind}") for kind in ("bold", "sbref"))
        self.assertEqual((run["TaskName"], single["TaskName"], run["RepetitionTime"]), ("Odour run", "Odour run", 2.0))

    def test_two_maps_each_for_what_came_after(self):
        self.session()
        for start, number in ((2000, 11), (3000, 13)):
            for n, echo in enumerate(("4.92", "7.38")):
                self.scan("Field map", number, start + 100 * n, EchoTime=echo, ImageType=["ORIGINAL", "PRIMARY", "M"])
            self.scan("Field map", number + 1, start + 300, EchoTime="7.38", ImageType=["ORIGINAL", "PRIMARY", "P"])
        found = [name for name in self.converted() if "fmap" in name]
        for run in ("", "run-2_", "run-3_"):
            for kind in ("magnitude1", "magnitude2", "phasediff"):
                self.assertIn(f"sub-T5/fmap/sub-T5_{run}{kind}.nii.gz", found)
        self.assertEqual(len(found), 9)
        self.assert_valid()
        meant = [self.sidecar(f"sub-T5/fmap/sub-T5_{run}phasediff").get("IntendedFor", []) for run in ("", "run-2_")]
        self.assertEqual(sum(map(len, meant)), 3)

    def test_visits_by_date_and_by_a_pattern(self):
        self.session(StudyDate="20310210", SeriesDate="20310210")
        self.session(5000, 22, StudyDate="20310402", SeriesDate="20310402")
        dicom_folder(self.place / "scans", two_balls(), "Skull CT", 12)
        found = self.converted()
        for date in ("20310210", "20310402"):
            at = f"sub-T5/ses-{date}"
            self.assertIn(f"{at}/func/sub-T5_ses-{date}_task-Odourrun_bold.nii.gz", found)
            meant = self.sidecar(f"{at}/fmap/sub-T5_ses-{date}_phasediff")["IntendedFor"]
            self.assertTrue(all(f"ses-{date}/" in one for one in meant) and len(meant) == 3)
        self.assertEqual(len(found), 15)
        self.assertIn("extra/sub-T1/sub-T1_desc-SkullCT_CT.nii.gz", found)  # one date: no visit is made up
        self.assert_valid()
        for number, session in enumerate("ab", 1):
            place = self.place / "by folder" / f"visit-{session}"
            place.mkdir(parents=True)
            stack(place, noise(), description="Head T1", EchoTime="3", number=number)
        table = convert_folder(
            self.place / "by folder", self.place / "2", session_from="folder", session_pattern="visit-([a-z])"
        )
        self.assertEqual(sorted(table.column("file")), [
            "sub-T5/ses-a/anat/sub-T5_ses-a_T1w.nii.gz", "sub-T5/ses-b/anat/sub-T5_ses-b_T1w.nii.gz",
        ])  # fmt: skip

    def test_a_second_time_is_another_run_and_says_so(self):
        self.scan("Head T1", 2, 0, EchoTime="3")
        self.converted()
        self.assertEqual(len(self.converted()), 2)
        self.assertIn("sub-T5/anat/sub-T5_run-2_T1w.nii.gz", self.table.column("file"))
        self.assertIn("another run", self.table.column("problem")[0])
        self.assert_valid()

    def test_echoes_of_a_run_are_a_file_each(self):
        for t in range(3):
            for n, echo in enumerate(("12", "28")):
                self.scan("Odour run", 4, 100 * (2 * t + n), ScanningSequence="EP", EchoTime=echo,
                          RepetitionTime="2000", TemporalPositionIdentifier=t + 1)  # fmt: skip
        found = self.converted()
        self.assertEqual(found, [f"sub-T5/func/sub-T5_task-Odourrun_echo-{n}_bold.nii.gz" for n in (1, 2)])
        self.assert_valid()
        times = [self.sidecar(f"sub-T5/func/sub-T5_task-Odourrun_echo-{n}_bold")["EchoTime"] for n in (1, 2)]
        self.assertEqual(times, [0.012, 0.028])
        self.assertEqual({nib.load(self.bids / name).shape for name in found}, {(*SHAPE, 3)})

    def test_a_map_whose_echoes_nobody_knows(self):
        self.scan("Field map", 5, 0, ImageType=["ORIGINAL", "PRIMARY", "M"])
        self.scan("Field map, phase difference", 6, 100, ImageType=["ORIGINAL", "PRIMARY", "P"])
        self.converted()
        problems = dict(zip(self.table.column("file"), self.table.column("problem")))
        self.assertIn("EchoTime1 and EchoTime2 are not known", problems["sub-T5/fmap/sub-T5_phasediff.nii.gz"])


class JoinTest(BidsCase):
    """A folder that is there already, somebody's own."""

    def setUp(self):
        super().setUp()
        self.scan("Head T1", 2, 0, EchoTime="3")
        dicom_folder(self.place / "scans", two_balls(), "Skull CT", 12)
        self.bids = self.place / "bids"
        self.bids.mkdir()
        self.own = {
            "README.md": b"# My study\nas I wrote it\n",
            "dataset_description.json": b'{"Name": "Mine", "BIDSVersion": "1.8.0"}',
            "participants.tsv": b"participant_id\tage\tgroup\nsub-A7\t3\tcold\nsub-T5\tn/a\twarm\n",
            "participants.json": b'{"age": {"Units": "month"}}',
            ".bidsignore": b"notes/",
            "converted.csv": b"when,who\n2031,me\n",
            "CHANGES": b"1.0 2031-01-01\n",
        }
        for name, content in self.own.items():
            (self.bids / name).write_bytes(content)

    def test_what_is_there_stays(self):
        self.converted()
        joined = (self.bids / "participants.tsv").read_text()
        self.assertEqual(joined, "participant_id\tage\tgroup\nsub-A7\t3\tcold\nsub-T5\tn/a\twarm\nsub-T1\tn/a\tn/a\n")
        self.assertEqual((self.bids / ".bidsignore").read_text(), "notes/\nextra/\nconverted*.csv\n")
        for name in set(self.own) - {"participants.tsv", ".bidsignore"}:
            self.assertEqual((self.bids / name).read_bytes(), self.own[name], name)
        self.assertFalse((self.bids / "README").exists())
        listed = (self.bids / "converted 2.csv").read_text()
        self.assertIn("sub-T5/anat/sub-T5_T1w.nii.gz", listed)
        self.converted()  # and once more: rows join those of the first run
        self.assertEqual((self.bids / "participants.tsv").read_text(), joined)
        again = (self.bids / "converted 2.csv").read_text()
        self.assertTrue(again.startswith(listed) and "run-2" in again)
        self.assertEqual(again.count("source,"), 1)
        self.assert_valid()

    def test_line_ends_and_marks_of_the_table_stay(self):
        table = self.bids / "participants.tsv"
        table.write_bytes(b"\xef\xbb\xbfage\tparticipant_id\r\n3\tsub-A7\r\n")
        self.converted()
        wanted = b"\xef\xbb\xbfage\tparticipant_id\r\n3\tsub-A7\r\nn/a\tsub-T1\r\nn/a\tsub-T5\r\n"
        self.assertEqual(sorted(table.read_bytes().split(b"\r\n")), sorted(wanted.split(b"\r\n")))

    def test_a_table_that_is_none_is_said_before_anything_is_written(self):
        table = self.bids / "participants.tsv"
        for content, said in (
            (b"name\tage\nA\t3\n", "no column participant_id"),
            (b"participant_id\tage\nsub-A7\n", "Line 2 of the table of participants has 1 cells"),
            (b"\xff\xfe\x00bad", "cannot be read"),
            (b"", "no column participant_id"),
        ):
            table.write_bytes(content)
            with self.assertRaisesRegex(Trouble, said):
                self.converted()
            self.assertEqual(table.read_bytes(), content)
            self.assertEqual(sorted(p.name for p in self.bids.iterdir()), sorted(self.own))

    def test_a_whole_study_into_it(self):
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.place / "scans")
            study.run("convert-study", to=str(self.bids))
        self.assertEqual((self.bids / "README.md").read_bytes(), self.own["README.md"])
        self.assertIn("sub-A7\t3\tcold\n", (self.bids / "participants.tsv").read_text())
        self.assertTrue((self.bids / "sub-T5/anat/sub-T5_T1w.nii.gz").exists())


class ReadBackTest(BidsCase):
    def test_our_own_output_comes_back_as_it_was(self):
        self.session(StudyDate="20310210", SeriesDate="20310210")
        self.session(5000, 22, StudyDate="20310402", SeriesDate="20310402")
        found = self.converted()
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=self.bids)
            self.assertEqual({r.subject for r in study.records()}, {"T-5"})  # as it was called before
            names = {r.name for r in study.records()}
            self.assertIn("ses-20310210_task-Odourrun_bold", names)
            self.assertIn("ses-20310402_T1w", names)
            study.run("convert-study", to=str(self.place / "again"))
        again = sorted(str(p.relative_to(self.place / "again")) for p in (self.place / "again").rglob("*.nii.gz"))
        self.assertEqual(again, found)
        for name in found:
            a, b = (nib.load(folder / name) for folder in (self.bids, self.place / "again"))
            np.testing.assert_array_equal(a.get_fdata(), b.get_fdata())
        table = convert_folder(self.bids, self.place / "third")
        self.assertEqual(sorted(table.column("file")), found)

    def test_names_and_participants_of_others(self):
        folder = self.place / "theirs"
        for name in ("sub-01/func/sub-01_task-tap_run-2_bold", "sub-02/ses-b/anat/sub-02_ses-b_acq-fine_T1w"):
            path = folder / f"{name}.nii.gz"
            path.parent.mkdir(parents=True)
            shape = (*SHAPE, 4) if "bold" in name else SHAPE
            nib.save(nib.Nifti1Image(noise(shape).astype(np.int16), tilted_space(SHAPE).affine), path)
        (folder / "sub-01/func/sub-01_task-tap_run-2_bold.json").write_text(
            '{"RepetitionTime": 1.5, "TaskName": "Tap"}'
        )
        (folder / "participants.tsv").write_text("participant_id\tage\tgroup\nsub-01\t3\tcold\nsub-02\tn/a\twarm\n")
        listed = json.loads(kestrelmist("scan", folder, "--json").stdout)["rows"]
        self.assertEqual({(row["series"], row["subject"]) for row in listed},
                         {("task-tap_run-2_bold", "01"), ("ses-b_acq-fine_T1w", "02")})  # fmt: skip
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=folder)
            record = study.find("01/task-tap_run-2_bold")
            self.assertEqual(
                {k: v for k, v in record.facts.items() if k.startswith("Participant")},
                {"Participant age": "3", "Participant group": "cold"},
            )
        self.bids = self.place / "bids"
        convert_folder(folder, self.bids)
        self.assert_valid()
        self.assertTrue((self.bids / "sub-01/func/sub-01_task-tap_run-2_bold.nii.gz").exists())
        self.assertTrue((self.bids / "sub-02/ses-b/anat/sub-02_ses-b_acq-fine_T1w.nii.gz").exists())
        rows = [line.split("\t") for line in (self.bids / "participants.tsv").read_text().splitlines()]
        self.assertEqual(rows, [["participant_id", "age", "group"], ["sub-01", "3", "cold"], ["sub-02", "n/a", "warm"]])

    def test_a_pattern_of_the_person_goes_before(self):
        path = self.place / "HM-09" / "sub-01_T1w.nii.gz"
        path.parent.mkdir()
        nib.save(nib.Nifti1Image(noise().astype(np.int16), np.eye(4)), path)
        words = ("--subject-from", "folder", "--subject-pattern", "(HM-[0-9]+)", "--json")
        rows = json.loads(kestrelmist("scan", self.place / "HM-09", *words).stdout)["rows"]
        self.assertEqual(rows[0]["subject"], "HM-09")

    def test_a_folder_of_the_demo_kind(self):
        """Files without the standard's names, whose sidecars say what they are."""
        space = tilted_space(SHAPE)
        (self.place / "scans").mkdir()
        said = {"Modality": "MR", "PhaseEncodingDirection": "j-", "EffectiveEchoSpacing": 0.0005, "EchoTime": 0.018,
                "RepetitionTime": 1.5, "SliceTiming": [0.0] * SHAPE[2]}  # fmt: skip
        for name, shape, facts in (
            ("odour run", (*SHAPE, 4), said),
            ("odour run, single volume", SHAPE, said),
            ("field map, magnitude 1", SHAPE, {"Modality": "MR", "EchoTime": 0.004}),
            ("field map, magnitude 2", SHAPE, {"Modality": "MR", "EchoTime": 0.006}),
            ("field map, phase difference", SHAPE, {"Modality": "MR", "EchoTime1": 0.004, "EchoTime2": 0.006,
                                                    "ImageComponent": "phase"}),
        ):  # fmt: skip
            path = self.place / "scans" / f"{name}.nii.gz"
            nib.save(nib.Nifti1Image(noise(shape).astype(np.int16), space.affine), path)
            path.with_suffix("").with_suffix(".json").write_text(json.dumps(facts))
        found = self.converted(subject_from="folder", subject_pattern="(scans)")
        self.assertEqual(found, [
            "sub-scans/fmap/sub-scans_magnitude1.nii.gz",
            "sub-scans/fmap/sub-scans_magnitude2.nii.gz",
            "sub-scans/fmap/sub-scans_phasediff.nii.gz",
            "sub-scans/func/sub-scans_task-odourrun_bold.nii.gz",
            "sub-scans/func/sub-scans_task-odourrun_sbref.nii.gz",
        ])  # fmt: skip
        self.assert_valid()
        self.assertEqual(self.sidecar("sub-scans/fmap/sub-scans_magnitude2")["EchoTime"], 0.006)
        self.assertEqual(len(self.sidecar("sub-scans/fmap/sub-scans_phasediff")["IntendedFor"]), 2)


class SchemaTest(BidsCase):
    def test_the_check_can_fail(self):
        self.scan("Head T1", 2, 0, EchoTime="3")
        self.converted()
        self.assert_valid()
        wrong = self.bids / "sub-T5" / "anat" / "sub-T5_head_T1w.nii.gz"
        (self.bids / "sub-T5" / "anat" / "sub-T5_T1w.nii.gz").rename(wrong)
        with self.assertRaises(AssertionError):
            self.assert_valid()
        self.assertEqual(Path(wrong).exists(), True)
