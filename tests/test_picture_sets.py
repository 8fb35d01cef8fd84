"""Sets of pictures: sizes, values, parts, what lies beside the arrays, stops and bad input."""

import errno
import json
import os
import shutil
import tempfile
import unittest
from collections import Counter
from pathlib import Path
from unittest import mock

import numpy as np
import zarr
from PIL import Image as Pillow
from pydicom.uid import DigitalXRayImageStorageForPresentation

from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.progress import Progress
from kestrelmist.demo.dicom_files import dataset_for, put_pixels
from kestrelmist.formats.table_files import read_csv
from kestrelmist.prepare.sets.box_table import Box
from kestrelmist.prepare.sets.picture_fit import fit_of, resized, scaled
from kestrelmist.prepare.sets.picture_set import picture_set
from kestrelmist.prepare.sets.set_parts import by_column, shared_out
from kestrelmist.prepare.sets.set_reading import read_picture
from tests.command import kestrelmist
from tests.making import PlaceCase


def radiograph(path: Path, values: np.ndarray, photometric: str = "MONOCHROME2", bits: int = 12) -> None:
    ds = dataset_for(DigitalXRayImageStorageForPresentation, "X", "Radiograph", 1, 1)
    put_pixels(ds, values.astype(np.uint16), photometric)
    ds.BitsStored, ds.HighBit = bits, bits - 1
    path.parent.mkdir(parents=True, exist_ok=True)
    ds.save_as(path, enforce_file_format=True)


class FitTest(unittest.TestCase):
    def test_boxes_land_on_the_same_structure_under_every_rule(self):
        rng = np.random.default_rng(1)
        for rule in ("stretch", "fit", "crop"):
            for columns, rows in ((600, 400), (400, 600), (512, 512), (90, 70), (1001, 333)):
                values = rng.normal(0, 0.01, (rows, columns)).astype(np.float32)
                left, top, wide, high = int(columns * 0.45), int(rows * 0.4), columns // 6, rows // 5
                values[top : top + high, left : left + wide] += 1
                fit = fit_of(columns, rows, (224, 160), rule)
                small, box = resized(values, fit), fit.box(Box(left, top, wide, high))
                self.assertEqual(small.shape, (160, 224))
                seen = np.argwhere(small > 0.5)
                found = (seen[:, 1].min(), seen[:, 0].min(), seen[:, 1].max() + 1, seen[:, 0].max() + 1)
                told = (box.left, box.top, box.left + box.width, box.top + box.height)
                np.testing.assert_allclose(found, told, atol=0.75, err_msg=f"{rule} {columns}x{rows}")

    def test_borders_and_what_is_cut_off(self):
        fit = fit_of(400, 200, (100, 100), "fit")
        made = resized(np.ones((200, 400), np.float32), fit, -3.0)
        self.assertEqual((made[:25].max(), made[75:].max(), made[25:75].min()), (-3, -3, 1))
        crop = fit_of(400, 200, (100, 100), "crop")
        self.assertIsNone(crop.box(Box(0, 0, 90, 200)))
        self.assertEqual(crop.box(Box(50, 0, 100, 200)), Box(0, 0, 25, 100))

    def test_means_are_kept_when_made_smaller(self):
        values = np.random.default_rng(2).normal(100, 30, (640, 640)).astype(np.float32)
        made = resized(values, fit_of(640, 640, (160, 160), "stretch"))
        blocks = values.reshape(160, 4, 160, 4).mean((1, 3))
        self.assertGreater(np.corrcoef(made.ravel(), blocks.ravel())[0, 1], 0.85)
        self.assertAlmostEqual(float(made.mean()), 100, delta=0.2)

    def test_values(self):
        values = np.array([[0, 1024, 4095, np.nan]], np.float32)
        np.testing.assert_allclose(
            scaled(values, "type", (0, 1), (0, 4095), "float32")[0], [0, 1024 / 4095, 1, 0], rtol=1e-6
        )
        np.testing.assert_array_equal(scaled(values, "range", (1024, 2048), (0, 1), "uint8")[0], [0, 0, 255, 0])
        np.testing.assert_array_equal(scaled(values, "none", (0, 1), (0, 1), "float16")[0], [0, 1024, 4096, 0])
        self.assertEqual(
            float(scaled(np.full((2, 2), 1e9, np.float32), "none", (0, 1), (0, 1), "float16").max()), 65504
        )
        self.assertEqual(
            float(scaled(np.full((2, 2), 7, np.float32), "percentiles", (1, 99), (0, 1), "float32").max()), 0
        )


class PartsTest(unittest.TestCase):
    def test_no_subject_is_in_two_and_shares_are_met(self):
        classes = {f"S{n}": ["tumour"] if n % 4 == 0 else ["", "nodule"] if n % 4 == 1 else [""] for n in range(200)}
        parts = shared_out(classes, 0.2, 0.1, 3)
        counts = {p: sum(v == p for v in parts.values()) for p in ("training", "validation", "test")}
        self.assertEqual(counts, {"training": 140, "validation": 40, "test": 20})
        for part, share in (("validation", 10), ("test", 5)):
            tumours = sum(1 for s, p in parts.items() if p == part and classes[s] == ["tumour"])
            self.assertAlmostEqual(tumours, share, delta=1)
        again = shared_out(dict(reversed(list(classes.items()))), 0.2, 0.1, 3)
        self.assertEqual(parts, again)
        self.assertNotEqual(parts, shared_out(classes, 0.2, 0.1, 4))
        self.assertEqual(sum(v == "validation" for v in shared_out(classes, 7, 0, 1).values()), 7)
        with self.assertRaisesRegex(Trouble, "leave some"):
            shared_out({"a": [""], "b": [""]}, 0.5, 0.5, 1)

    def test_by_a_column(self):
        self.assertEqual(by_column({"a": ["Train", "trn"], "b": ["VAL"]}), {"a": "training", "b": "validation"})
        with self.assertRaisesRegex(Trouble, "“a” is in training and in validation"):
            by_column({"a": ["train", "val"]})
        with self.assertRaisesRegex(Trouble, "“often” is none"):
            by_column({"a": ["often"]})


class SetTest(PlaceCase):
    """Seventy radiographs of thirty animals, each with a bright block on a dark ground, or nothing."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        holder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(holder.cleanup)
        cls.folder = Path(holder.name) / "pictures"
        rng = np.random.default_rng(1)
        lines = ["file,animal,class,x,y,w,h"]
        for n in range(70):
            rows, columns = (300, 240) if n % 3 else (200, 320)
            values = rng.normal(800, 40, (rows, columns))
            box = ""
            if n % 4:
                x, y, w, h = 40 + n, 30 + n, 50, 60
                values[y : y + h, x : x + w] += 2000
                box = f"{x},{y},{w},{h}"
            kind = "MONOCHROME1" if n % 5 == 0 else "MONOCHROME2"
            stored = 4095 - values if kind == "MONOCHROME1" else values
            radiograph(cls.folder / f"day {n % 2}" / f"{n:03d}.dcm", np.clip(stored, 0, 4095), kind)
            lines.append(f"{n:03d}.dcm,HM-{n % 30:02d},{'stone' if box else ''},{box or ',,,'}")
        cls.lines = lines

    def setUp(self):
        super().setUp()
        self.table = self.place / "boxes.csv"
        self.table.write_text("\n".join(self.lines) + "\n", encoding="utf-8")
        self.to = self.place / "set"

    def make(self, to=None, **more):
        return picture_set(self.table, self.folder, to or self.to, **({"size": "96", "test": 0.1, "workers": 0} | more))

    def said(self, table, what):
        return next(row[1] for row in table.rows if row[0] == what)

    def column(self, name, column, folder=None):
        table = read_csv((folder or self.to) / name)
        return list(table.values[[c.name for c in table.columns].index(column)])

    def test_a_whole_set(self):
        report = self.make(type="float32")
        self.assertEqual(self.said(report, "pictures for training") + self.said(report, "pictures for validation")
                         + self.said(report, "pictures for test"), 70)  # fmt: skip
        parts = dict(zip(self.column("pictures.csv", "subject"), self.column("pictures.csv", "part")))
        for subject, part in zip(self.column("pictures.csv", "subject"), self.column("pictures.csv", "part")):
            self.assertEqual(parts[subject], part)
        self.assertEqual([sum(p == part for p in parts.values()) for part in ("validation", "test")], [6, 3])
        arrays = self.column("pictures.csv", "array")
        for array in arrays:
            self.assertEqual(np.load(self.to / array).shape, (96, 96))
        boxes = read_csv(self.to / "boxes.csv")
        heads = [c.name for c in boxes.columns]
        for n in range(boxes.count):
            row = dict(zip(heads, (boxes.values[k][n] for k in range(len(heads)))))
            values = np.load(self.to / row["array"])
            seen = np.argwhere(values > (800 + 1000) / 4095)
            found = (seen[:, 1].min(), seen[:, 0].min(), seen[:, 1].max() + 1, seen[:, 0].max() + 1)
            told = (row["left"], row["top"], row["left"] + row["width"], row["top"] + row["height"])
            np.testing.assert_allclose(found, told, atol=0.8)  # also of those that were stored the other way
        training = [a for a in arrays if a.startswith("training/")]
        together = np.stack([np.load(self.to / a).astype(np.float64) for a in training])
        statistics = json.loads((self.to / "statistics.json").read_text())
        self.assertAlmostEqual(statistics["mean"], float(together.mean()), delta=1e-6)
        self.assertAlmostEqual(statistics["standard deviation"], float(together.std()), delta=1e-6)
        self.assertEqual(sorted(p.name for p in self.to.iterdir() if p.is_file()), [
            "boxes.csv", "manifest.json", "pictures.csv", "problems.csv", "statistics.json", "subjects.csv",
        ])  # fmt: skip
        self.assertFalse(any(p.name.startswith(".") for p in self.place.iterdir()))

    def test_the_same_again_in_processes_and_as_zarr(self):
        self.make()
        self.make(self.place / "second", workers=2)
        for array in self.column("pictures.csv", "array"):
            self.assertEqual((self.to / array).read_bytes(), (self.place / "second" / array).read_bytes())
        a, b = (json.loads((f / "manifest.json").read_text()) for f in (self.to, self.place / "second"))
        self.assertEqual((a["pictures"], a["settings"]), (b["pictures"], b["settings"]))
        self.make(self.place / "third", store="zarr", type="uint8")
        group = zarr.open_group(str(self.place / "third" / "pictures.zarr"), mode="r")
        names = self.column("pictures.csv", "picture", self.place / "third")
        parts = self.column("pictures.csv", "part", self.place / "third")
        self.assertEqual(
            list(group["training"].attrs["pictures"]), [n for n, p in zip(names, parts) if p == "training"]
        )
        self.assertEqual((group["training"].dtype, group["training"].shape[1:]), (np.uint8, (96, 96)))
        self.assertFalse((self.place / "third" / "training").exists())

    def test_nothing_is_dropped_in_silence(self):
        text = self.table.read_text()
        more = "none.dcm,HM-01,stone,1,2,3,4\n000.dcm,HM-09,stone,1,2,3,4\n001.dcm,HM-01,stone,9000,2,3,4\n"
        more += "bad.dcm,HM-77,,,,,\n"
        more += "002.dcm,HM-02,stone,-20,10,60,30\nno numbers.dcm,HM-02,stone,a,b,c,d\n003.dcm,HM-03,stone,1,2,0,4\n"
        self.table.write_text(text + more)
        bad = self.folder / "bad.dcm"
        bad.write_bytes(b"\0" * 128 + b"DICM" + os.urandom(300))
        (self.folder / "unnamed.dcm").write_bytes(b"x")
        self.addCleanup(bad.unlink)
        self.addCleanup((self.folder / "unnamed.dcm").unlink)
        report = self.make()
        kinds = {row[0].removeprefix("problems: "): row[1] for row in report.rows if row[0].startswith("problems")}
        self.assertEqual(kinds, {"missing": 1, "two subjects": 1, "outside": 1, "unreadable": 1, "cut": 1, "row": 2,
                                 "not in the table": 1})  # fmt: skip
        self.assertEqual(len(self.column("pictures.csv", "picture")), 69)
        self.assertNotIn("bad.dcm", self.column("pictures.csv", "picture"))
        self.assertIn("bad.dcm", self.column("problems.csv", "picture"))

    def test_a_run_that_was_stopped_goes_on(self):
        progress = Progress(lambda fraction, _: progress.cancel() if fraction > 0.4 else None)
        with self.assertRaises(Cancelled):
            self.make(progress=progress)
        self.assertFalse(self.to.exists())
        part = self.place / ".set.part"
        before = {p: p.stat().st_mtime_ns for p in part.rglob("*.npy")}
        self.assertGreater(len(before), 10)
        torn = next(iter(before))
        torn.write_bytes(torn.read_bytes()[:500])
        self.make()
        kept = [self.to / p.relative_to(part) for p in before]
        self.assertEqual([p.stat().st_mtime_ns for p in kept[1:]], list(before.values())[1:])
        self.assertEqual(np.load(kept[0]).shape, (96, 96))
        self.assertEqual(len(self.column("pictures.csv", "picture")), 70)
        self.assertFalse(part.exists())

    def test_another_run_does_not_take_what_a_stopped_one_left(self):
        progress = Progress(lambda fraction, _: progress.cancel() if fraction > 0.4 else None)
        with self.assertRaises(Cancelled):
            self.make(progress=progress)
        self.make(size="64x48", rule="stretch")
        for array in self.column("pictures.csv", "array"):
            self.assertEqual(np.load(self.to / array).shape, (48, 64))

    def test_no_room_on_disk(self):
        save, count = np.save, iter(range(1000))

        def full(path, values):
            if next(count) > 30:
                raise OSError(errno.ENOSPC, "No space left on device")
            save(path, values)

        with (
            mock.patch("kestrelmist.prepare.sets.set_work.np.save", full),
            self.assertRaisesRegex(Trouble, "disk is full.*free some space"),
        ):
            self.make()
        self.assertFalse(self.to.exists())
        self.make()
        self.assertEqual(len(self.column("pictures.csv", "picture")), 70)

    def test_parts_of_a_column(self):
        rows = [f"{line},{'val' if 'HM-0' in line else 'train'}" for line in self.lines[1:]]
        self.table.write_text("\n".join([f"{self.lines[0]},split", *rows]) + "\n")
        report = self.make(by_part_column=True)
        self.assertEqual(self.said(report, "subjects for validation"), 10)
        self.table.write_text(self.table.read_text() + "000.dcm,HM-00,stone,1,2,3,4,train\n")
        with self.assertRaisesRegex(Trouble, "“HM-00” is in training and in validation"):
            self.make(self.place / "second", by_part_column=True)
        self.assertFalse((self.place / "second").exists())

    def test_sentences(self):
        for words, more in (
            ("no size", {"size": "big"}),
            ("are not made", {"size": "0"}),
            ("lowest and its highest", {"values": "range"}),
            ("not below", {"values": "percentiles", "percentiles": (99, 1)}),
            ("leave some", {"validation": 29, "test": 5}),
            ("no whole number", {"validation": 1.5}),
            ("no column", {"columns": "class=Finding"}),
            ("which part a row", {"by_part_column": True}),
        ):
            with self.subTest(words), self.assertRaisesRegex(Trouble, words):
                self.make(**more)
            self.assertFalse(self.to.exists())
        empty = self.place / "empty"
        empty.mkdir()
        with self.assertRaisesRegex(Trouble, "No picture of the table is in this folder"):
            picture_set(self.table, empty, self.to)
        self.to.mkdir()
        (self.to / "mine.txt").write_text("keep")
        with self.assertRaisesRegex(Trouble, "something of this name"):
            self.make()
        self.assertEqual((self.to / "mine.txt").read_text(), "keep")

    def test_on_the_command_line(self):
        ran = kestrelmist(
            "picture-set", self.table, "--folder", self.folder, "--to", self.to, "--size", "224", "--type", "float16",
            "--validation", "0.2", "--seed", "1",
        )  # fmt: skip
        self.assertIn("pictures for training", ran.stdout)
        self.assertEqual(np.load(self.to / self.column("pictures.csv", "array")[0]).dtype, np.float16)
        kestrelmist("picture-set", self.table, "--folder", self.folder, "--to", self.to, code=1)


class ApartTest(PlaceCase):
    """No picture is in two parts, however often and under whatever name it comes."""

    def setUp(self):
        super().setUp()
        self.folder = self.place / "pictures"
        self.random = np.random.default_rng(3)

    def picture(self, name: str, values: np.ndarray | None = None) -> Path:
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        shape = (40, 60)
        Pillow.fromarray(self.random.integers(0, 200, shape).astype(np.uint8) if values is None else values).save(path)
        return path

    def make(self, lines: list[str], head: str = "file,animal,class,x,y,w,h", **more):
        table = self.place / "boxes.csv"
        table.write_text("\n".join([head, *lines]) + "\n")
        given = {"size": "20", "type": "float32", "workers": 0, "validation": 0.4, "test": 0.2} | more
        report = picture_set(table, self.folder, self.place / "set", **given)
        self.report = {row[0]: row[1] for row in report.rows}
        pictures, problems = (read_csv(self.place / "set" / f"{n}.csv") for n in ("pictures", "problems"))
        self.rows = [dict(zip([c.name for c in pictures.columns], row)) for row in zip(*pictures.values)]
        self.problems = [dict(zip([c.name for c in problems.columns], row)) for row in zip(*problems.values)]

    def kinds(self) -> dict[str, int]:
        return dict(Counter(one["problem"] for one in self.problems))

    def test_every_picture_has_an_array_of_its_own(self):
        names = ["x/a.png", "y/a.png", "a 2.png", "A 3.png", "z/a.tif", "a 2 2.png"]
        for name in names:
            self.picture(name)
        self.make([f"{name},S,,,,," for name in names], validation=0, test=0)
        arrays = [row["array"] for row in self.rows]
        self.assertEqual((len(set(map(str.casefold, arrays))), len(self.rows)), (6, 6))
        for row in self.rows:
            right = resized(np.asarray(Pillow.open(row["file"])), fit_of(60, 40, (20, 20), "fit")) / 255
            np.testing.assert_allclose(np.load(self.place / "set" / row["array"]), right, atol=1e-6)

    def test_unknown_subjects_are_said(self):
        for n in range(12):
            self.picture(f"im{n}.png")
        self.make([f"im{n}.png,,,,," for n in range(12)], "file,class,x,y,w,h")
        self.assertEqual(self.report["pictures that count as subjects of their own, as no column names subjects"], 12)
        self.assertIn("no column of the table names subjects", self.problems[0]["what"])
        self.assertIs(
            json.loads((self.place / "set" / "manifest.json").read_text())["settings"]["subjects known"], False
        )
        shutil.rmtree(self.place / "set")
        self.make([f"im{n}.png,{'' if n == 3 else 'S' + str(n)},,,,," for n in range(12)])
        self.assertEqual(self.kinds(), {"no subject": 1})

    def test_one_file_spelled_two_ways_and_under_two_subjects(self):
        for n in range(10):
            self.picture(f"im{n}.png")
        lines = [f"im{n}.png,,,1,2,8,9" for n in range(10)]
        lines += ["im1,,,1,2,8,9", "im1,,more,3,4,8,9", "im2.png,T,,5,5,8,9", "IM2,U,,5,5,8,9"]
        self.make(lines)
        self.assertEqual(sorted(row["picture"] for row in self.rows), sorted(f"im{n}.png" for n in range(10) if n != 2))
        self.assertEqual(len({row["file"] for row in self.rows}), 9)
        self.assertEqual(next(row["boxes"] for row in self.rows if row["picture"] == "im1.png"), 2)
        self.assertEqual(self.kinds(), {"two names": 2, "row": 1, "two subjects": 1, "no subject": 9})

    def test_the_same_content_under_two_subjects_is_in_one_part(self):
        for n in range(12):
            path = self.picture(f"im{n}.png")
            if n < 6:
                shutil.copy(path, self.folder / f"copy{n}.png")
        lines = [f"im{n}.png,S{n},,,,," for n in range(12)] + [f"copy{n}.png,T{n},,,,," for n in range(6)]
        for seed in range(6):
            self.make(lines, seed=seed, validation=0.5)
            parts = {row["picture"]: row["part"] for row in self.rows}
            self.assertEqual(len(parts), 18)
            for n in range(6):
                self.assertEqual(parts[f"im{n}.png"], parts[f"copy{n}.png"])
            self.assertGreater(len(set(parts.values())), 1)
            self.assertEqual(self.kinds(), {"same content": 6})
            shutil.rmtree(self.place / "set")

    def test_the_same_pixels_in_two_files_are_left_out_beside_training(self):
        for n in range(8):
            path = self.picture(f"im{n}.png")
            Pillow.open(path).save(self.folder / f"again{n}.bmp")
        lines = [f"im{n}.png,S{n},,,,,,{'train'}" for n in range(8)]
        lines += [f"again{n}.bmp,T{n},,,,,,{'val' if n < 5 else 'train'}" for n in range(8)]
        self.make(lines, "file,animal,class,x,y,w,h,split", by_part_column=True)
        self.assertEqual(Counter(row["part"] for row in self.rows), {"training": 11})
        self.assertEqual(self.kinds(), {"same pixels": 5})
        self.assertFalse(list((self.place / "set" / "validation").glob("*.npy")))

    def test_corners_the_other_way_round_are_listed(self):
        self.picture("a.png")
        head = "file,animal,xmin,ymin,xmax,ymax"
        self.make(["a.png,S,30,4,10,20", "a.png,S,1,2,3,4"], head, validation=0, test=0, rule="stretch")
        self.assertEqual([(p["problem"], p["line"]) for p in self.problems], [("reversed", 2)])
        boxes = read_csv(self.place / "set" / "boxes.csv")
        heads = [c.name for c in boxes.columns]
        found = [float(boxes.values[heads.index(name)][0]) for name in ("left", "top", "width", "height")]
        np.testing.assert_allclose(found, (10 / 3, 2, 20 / 3, 8), atol=1e-4)

    def test_mean_and_spread_by_channel_and_without_the_border(self):
        for n in range(5):
            self.picture(f"c{n}.png", self.random.integers((40, 90, 0), (80, 250, 20), (40, 60, 3)).astype(np.uint8))
        self.picture("grey.png")
        lines = [f"{name},S,,,,," for name in ("c0.png", "c1.png", "c2.png", "c3.png", "c4.png", "grey.png")]
        self.make(lines, validation=0, test=0, channels="colour", values="none")
        arrays = np.stack([np.load(self.place / "set" / row["array"]).astype(float) for row in self.rows])
        self.assertEqual(arrays.shape, (6, 20, 20, 3))
        grey = arrays[[row["picture"] == "grey.png" for row in self.rows]][0]
        np.testing.assert_array_equal(grey[..., 0], grey[..., 2])
        found = json.loads((self.place / "set" / "statistics.json").read_text())
        self.assertAlmostEqual(found["mean"], arrays.mean(), places=6)
        inside = arrays[:, 3:17]  # 60 × 40 in 20 × 20 leaves borders of 3 1/3 rows
        self.assertTrue((arrays[:, :3] == 0).all() and (inside[:, 0] > 0).any())
        for name, values in (("by channel", arrays), ("without the border", inside)):
            np.testing.assert_allclose(found[name]["mean"], values.mean((0, 1, 2)), rtol=1e-9)
            np.testing.assert_allclose(found[name]["standard deviation"], values.std((0, 1, 2)), rtol=1e-9)
        self.assertAlmostEqual(self.report["mean without the border, green"], inside[..., 1].mean())


class ReadingTest(PlaceCase):
    def test_kinds_of_files(self):
        values = np.random.default_rng(1).integers(0, 4095, (40, 50))
        radiograph(self.place / "a.dcm", values)
        read = read_picture(self.place / "a.dcm")
        np.testing.assert_array_equal(read.values, values)
        self.assertEqual((read.span, read.turned), ((0, 4095), False))
        radiograph(self.place / "high.dcm", values + 0x8000)  # something else in the bits above
        np.testing.assert_array_equal(read_picture(self.place / "high.dcm").values, values)
        radiograph(self.place / "b.dcm", 4095 - values, "MONOCHROME1")
        np.testing.assert_array_equal(read_picture(self.place / "b.dcm").values, values)
        Pillow.fromarray((values // 16).astype(np.uint8)).save(self.place / "c.png")
        read = read_picture(self.place / "c.png")
        np.testing.assert_array_equal(read.values, values // 16)
        self.assertEqual(read.span, (0, 255))
        colours = np.zeros((20, 30, 3), np.uint8)
        colours[..., 1] = 200
        Pillow.fromarray(colours).save(self.place / "d.png")
        self.assertAlmostEqual(float(read_picture(self.place / "d.png").values.mean()), 0.587 * 200, delta=1)
