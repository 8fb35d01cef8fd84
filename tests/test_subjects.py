"""Subjects and their visits: said, read, written, renamed; things moved from one to another."""

import csv

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit

from kestrelmist.core.errors import Trouble
from kestrelmist.core.subject import Subject, date_of
from kestrelmist.formats.nifti import write_nifti
from kestrelmist.study.study import Study
from kestrelmist.study.subjects import known_subjects, subject_of, visit_of
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, two_balls


class SubjectCase(PlaceCase):
    """A study of two subjects with two images each; the first ones come from a BIDS folder."""

    def study(self) -> Study:
        image = two_balls()
        folder = self.place / "bids"
        for n, (subject, session) in enumerate((("HM07", "before"), ("HM07", "after"), ("HM08", "before"))):
            home = folder / f"sub-{subject}" / f"ses-{session}" / "anat"
            home.mkdir(parents=True)
            write_nifti(home / f"sub-{subject}_ses-{session}_T1w.nii.gz", image.data + n, image.space)
        (folder / "participants.tsv").write_text("participant_id\tage\tgroup\nsub-HM07\t3\tcold\nsub-HM08\tn/a\tcold\n")
        study = Study(self.place / "study", create=True)
        self.addCleanup(study.close)
        study.run("gather", folder=folder, subject_from="folder", subject_pattern="sub-(HM0[78])")
        return study

    def keys(self, study: Study) -> dict[str, int]:
        return {f"{r.subject} {r.name}": r.id for r in study.records()}


class SaidTest(SubjectCase):
    def test_what_files_say_and_what_somebody_says(self):
        study = self.study()
        one, other = known_subjects(study)
        self.assertEqual((one.name, one.columns), ("HM07", {"age": "3", "group": "cold"}))
        self.assertEqual(({v.name for v in one.visits}, other.columns), ({"before", "after"}, {"group": "cold"}))
        image = next(r for r in study.records() if "after" in r.name)
        self.assertEqual(visit_of(study, image).name, "after")
        study.run("set-subject", subject="hm07", column="age", value="4")
        study.run("set-subject", subject="HM07", column="weight", value="12 g")
        self.assertEqual(subject_of(study, "HM07").columns, {"age": "4", "group": "cold", "weight": "12 g"})
        study.run("set-visit", image=image.id, visit="late", date="2026-03-02")
        again = study.items.get(image.id)
        self.assertEqual(visit_of(study, again).words, "late (2026-03-02)")
        table = study.run("subjects")
        self.assertEqual(table.column("subject"), ["HM07", "HM08"])
        self.assertEqual((table.column("images"), table.column("weight")), ([2, 1], ["12 g", ""]))
        self.assertIn("late (2026-03-02)", table.column("visits")[0])
        for _ in range(3):
            study.history.undo()
        self.assertEqual(subject_of(study, "HM07").columns, {"age": "3", "group": "cold"})
        self.assertEqual(visit_of(study, study.items.get(image.id)).name, "after")
        for _ in range(3):
            study.history.redo()
        study.close()
        with Study(self.place / "study") as study:
            self.assertEqual(subject_of(study, "HM07").columns["weight"], "12 g")
            self.assertEqual(visit_of(study, study.items.get(image.id)).date, "2026-03-02")

    def test_wrong_words(self):
        study = self.study()
        keys = list(self.keys(study).values())
        for operation, given, said in (
            (
                "set-subject",
                {"subject": "HM99", "column": "age", "value": "1"},
                "No subject is called “HM99”.*HM07, HM08",
            ),
            ("set-subject", {"subject": "HM07", "column": "participant_id", "value": "1"}, "is no column"),
            ("set-visit", {"image": keys[0], "visit": "x", "date": "31.12."}, "“31.12.” is no date"),
            ("set-visit", {"image": keys[0], "visit": "  "}, "visit needs a name"),
            ("set-visit", {"image": keys[0], "visit": "x", "others": [keys[2]]}, "is of HM08 and not of HM07"),
            ("rename-subject", {"subject": "HM07", "name": "hm08"}, "There is a subject “hm08” already"),
            ("move-to-subject", {"thing": keys[0], "subject": "HM07"}, "is of HM07 already"),
        ):
            with self.subTest(operation, given=given), self.assertRaisesRegex(Trouble, said):
                study.run(operation, **given)
        self.assertEqual(date_of("20260302"), "2026-03-02")
        self.assertEqual(Subject("A").with_column("age", "n/a").columns, {})

    def test_renamed_and_moved_with_all_that_is_of_them(self):
        study = self.study()
        image = study.find("HM07/ses-before_T1w")
        study.run("threshold", image=image.id, label="Ball", low=500, high=2000)
        study.run("set-subject", subject="HM07", column="age", value="5")
        labels = study.label_maps(image.id)[0].id
        study.run("rename-subject", subject="HM07", name="Erna")
        self.assertEqual({study.items.get(k).subject for k in (image.id, labels)}, {"Erna"})
        self.assertEqual((study.image(image.id).subject, subject_of(study, "Erna").columns["age"]), ("Erna", "5"))
        self.assertEqual([one.name for one in known_subjects(study)], ["Erna", "HM08"])
        study.run("move-to-subject", thing=image.id, subject="HM08")
        self.assertEqual({study.items.get(k).subject for k in (image.id, labels)}, {"HM08"})
        self.assertEqual(study.items.get(image.id).name, "ses-before_T1w (2)")  # the name is taken there
        self.assertEqual(int(study.labels(image.id).counts[1]), int((study.image(image.id).data >= 500).sum()))
        with self.assertRaisesRegex(Trouble, "goes where that goes"):
            study.run("move-to-subject", thing=labels, subject="X")
        study.history.undo()
        study.history.undo()
        self.assertEqual({study.items.get(k).subject for k in (image.id, labels)}, {"HM07"})
        self.assertEqual([one.name for one in known_subjects(study)], ["HM07", "HM08"])

    def test_tables_of_participants_both_ways(self):
        study = self.study()
        out = self.place / "participants.tsv"
        study.run("set-subject", subject="HM08", column="sex", value="f")
        study.run("export-participants", to=out)
        rows = list(csv.reader(out.read_text().splitlines(), delimiter="\t"))
        self.assertEqual(rows, [["participant_id", "age", "group", "sex"], ["sub-HM07", "3", "cold", "n/a"],
                                ["sub-HM08", "n/a", "cold", "f"]])  # fmt: skip
        with self.assertRaisesRegex(Trouble, "file of this name already"):
            study.run("export-participants", to=out)
        more = self.place / "more.csv"
        more.write_text("participant_id,age,hand\nHM-07,6,left\nsub-HM08,n/a,\nsub-HM99,1,right\n")
        told = study.run("import-participants", file=more)
        self.assertEqual(told.column("subject"), ["HM07", "HM08", "not in this study"])
        self.assertEqual(subject_of(study, "HM07").columns, {"age": "6", "group": "cold", "hand": "left"})
        self.assertEqual(subject_of(study, "HM08").columns, {"group": "cold", "sex": "f"})
        for text, said in (
            ("name,age\nA,1\n", "no first column participant_id"),
            ("participant_id,age\nA,1\nA,2\n", "“A” stands in this table twice"),
            ("participant_id,age,age\nHM07,1,2\n", "“age” stands in this table twice"),
            ("participant_id,age\nHM07,1\nsub-HM07,2\n", "Two rows of this table are for “HM07”"),
            ("participant_id,visits\nHM07,1\n", "itself tells what stands under “visits”"),
            ("participant_id,age\nHM07," + "9" * 200_000 + "\n", "cannot be read"),
            ("participant_id,age\nA\n", "Line 2 has 1 cells and not 2"),
            ("participant_id,age\nNobody,1\n", "names no subject of the study"),
        ):
            more.write_text(text)
            with self.subTest(text), self.assertRaisesRegex(Trouble, said):
                study.run("import-participants", file=more)
        study.run("set-visit", image=self.keys(study)["HM08 ses-before_T1w"], visit="late")
        study.run("convert-study", to=self.place / "out")
        written = (self.place / "out" / "participants.tsv").read_text()
        self.assertIn("left", written)
        self.assertEqual(len(list((self.place / "out" / "sub-HM08" / "ses-late").rglob("*.nii.gz"))), 1)
        study.close()
        said = kestrelmist("subjects", "--study", self.place / "study").stdout
        self.assertIn("HM07", said)

    def test_its_own_table_says_the_same_again(self):
        study = self.study()
        odd = {"=1+1": "=2+2", "<b>": 'a "quoted" one, and more', "weight": "-3.5"}
        for column, value in odd.items():
            study.run("set-subject", subject="HM07", column=column, value=value)
        before = subject_of(study, "HM07").columns
        for name in ("p.tsv", "p.csv"):
            study.run("export-participants", to=self.place / name)
            study.run("import-participants", file=self.place / name)
            self.assertEqual(subject_of(study, "HM07").columns, before)

    def test_what_was_taken_out_stays_out_and_goes_nowhere(self):
        study = self.study()
        study.run("set-subject", subject="HM07", column="age")  # which the files say
        study.run("set-subject", subject="HM07", column="weight", value="12 g")
        self.assertEqual(subject_of(study, "HM07").known, {"group": "cold", "weight": "12 g"})
        study.run("convert-study", to=self.place / "out")
        rows = [line.split("\t") for line in (self.place / "out" / "participants.tsv").read_text().splitlines()]
        one = next(dict(zip(rows[0], row)) for row in rows if row[0] == "sub-HM07")
        self.assertEqual((one.get("age", "n/a"), one["weight"]), ("n/a", "12 g"))
        # what the files of an image say of its subject is of that one, and stays when the image goes to another
        image = study.find("HM07/ses-before_T1w").id
        study.run("move-to-subject", thing=image, subject="hm08")
        self.assertEqual(study.items.get(image).subject, "HM08")
        self.assertEqual(subject_of(study, "HM08").known, {"group": "cold"})
        study.run("undo")
        self.assertIn("Participant age", study.items.get(image).facts)

    def test_told_columns_and_the_same_name_are_refused(self):
        study = self.study()
        for name in ("Images", "visits", "x" * 300):
            with self.assertRaises(Trouble):
                study.run("set-subject", subject="HM07", column=name, value="1")
        with self.assertRaisesRegex(Trouble, "is called so already"):
            study.run("rename-subject", subject="HM07", name="HM07")


class PageTest(SubjectCase, DeskCase):
    def test_edited_in_the_table(self):
        self.study().close()
        window = self.open(self.place / "study")
        window.drawer.open_page("subjects")
        page = window.drawer.subjects
        model = page.model
        heads = [model.headerData(n, Qt.Orientation.Horizontal) for n in range(model.columnCount())]
        self.assertEqual(heads, ["subject", "age", "group", "visits", "images"])
        self.assertTrue(model.setData(model.index(1, 1), "7"))
        self.settle(window)
        self.assertEqual(subject_of(window.desk.study, "HM08").columns["age"], "7")
        self.assertEqual(model.data(model.index(1, 1)), "7")
        self.assertFalse(bool(model.flags(model.index(0, 4)) & Qt.ItemFlag.ItemIsEditable))
        self.assertTrue(model.setData(model.index(0, 0), "Erna"))
        self.settle(window)
        self.assertEqual(model.data(model.index(0, 0)), "Erna")
        window.desk.session.undo()
        self.settle(window)
        self.assertEqual(model.data(model.index(0, 0)), "HM07")
        self.assertEqual(self.troubles, [])

    def test_what_others_change_does_not_take_away_what_is_typed(self):
        self.study().close()
        window = self.open(self.place / "study")
        window.drawer.open_page("subjects")
        page, desk = window.drawer.subjects, window.desk
        heads = [c.name for c in page.model.table.columns]
        at = page.model.index(1, heads.index("age"))
        page.view.setCurrentIndex(at)
        page.view.edit(at)
        editor = page.view.findChild(QLineEdit)
        QTest.keyClicks(editor, "9")
        desk.run_now("set-subject", {"subject": "HM07", "column": "hand", "value": "left"})
        self.settle(window)
        QTest.keyClicks(editor, "5")
        QTest.keyClick(editor, Qt.Key.Key_Return)
        self.settle(window)
        self.assertEqual(subject_of(desk.study, "HM08").known["age"], "95")
        self.assertEqual(subject_of(desk.study, "HM07").known["hand"], "left")
        self.assertIn("hand", [c.name for c in page.model.table.columns])
