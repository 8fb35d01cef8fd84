import errno
import os
import threading
import time
import unittest
from typing import Literal
from unittest import mock

from kestrelmist.core.caveat import SLICES_MISSING, Caveat
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.kind import kind_of_type
from kestrelmist.core.operation import OPERATIONS, find_operation, operation
from kestrelmist.core.parameter import Parameter
from kestrelmist.core.progress import Progress
from kestrelmist.core.safe_write import written_whole
from kestrelmist.gather.facts import facts
from tests.making import PlaceCase, straight_space, tilted_space, two_balls


class ProgressTest(unittest.TestCase):
    def test_parts_report_into_the_whole(self):
        told = []
        whole = Progress(lambda fraction, what: told.append((round(fraction, 3), what)))
        half = whole.part(0.5, 1.0)
        half.at(0.5, "second half")
        half.part(0.0, 0.5).at(1.0, "inner")
        self.assertEqual(told, [(0.75, "second half"), (0.75, "inner")])

    def test_items_are_counted_and_cancel_stops_between_them(self):
        told, seen = [], []
        progress = Progress(lambda fraction, what: told.append(fraction))
        self.assertEqual(list(progress.over(range(4))), [0, 1, 2, 3])
        self.assertEqual(told, [0, 0.25, 0.5, 0.75, 1.0])
        with self.assertRaises(Cancelled):
            for item in progress.over(range(10)):
                seen.append(item)
                if item == 3:
                    progress.part(0, 1).cancel()  # a part shares the cancel of its whole
        self.assertEqual(seen, [0, 1, 2, 3])

    def test_time_left_follows_the_pace(self):
        progress = Progress()
        self.assertIsNone(progress.seconds_left())
        progress.started = time.monotonic() - 10
        progress.at(0.25)
        self.assertAlmostEqual(progress.seconds_left(), 30, delta=0.5)
        progress.at(7)
        self.assertEqual(progress.fraction, 1.0)

    def test_cancel_from_another_thread(self):
        progress = Progress()
        threading.Timer(0.05, progress.cancel).start()
        with self.assertRaises(Cancelled):
            for _ in progress.over(iter(lambda: time.sleep(0.01), 1), 1000):
                pass


class SafeWriteTest(PlaceCase):
    def test_the_old_file_stays_until_the_new_one_is_whole(self):
        path = self.place / "a.txt"
        path.write_text("old")
        with self.assertRaises(ZeroDivisionError), written_whole(path) as stream:
            stream.write(b"half of the n")
            self.assertEqual(path.read_text(), "old")
            raise ZeroDivisionError
        self.assertEqual(path.read_text(), "old")
        with written_whole(path) as stream:
            stream.write(b"new")
        self.assertEqual(path.read_text(), "new")
        self.assertEqual([p.name for p in self.place.iterdir()], ["a.txt"])

    def test_each_failure_has_its_sentence(self):
        for number, words in (
            (errno.ENOSPC, "disk is full"),
            (errno.EACCES, "cannot be written to"),
            (errno.EIO, "Writing failed"),
        ):
            with mock.patch.object(os, "replace", side_effect=OSError(number, os.strerror(number))):
                with self.assertRaisesRegex(Trouble, words), written_whole(self.place / "a") as stream:
                    stream.write(b"x")
            self.assertEqual(list(self.place.iterdir()), [])
        with (
            self.assertRaisesRegex(Trouble, "folder to write into does not exist"),
            written_whole(self.place / "no" / "a"),
        ):
            pass


class TroubleTest(unittest.TestCase):
    def test_it_is_one_sentence_with_file_and_advice(self):
        trouble = Trouble("This file is cut short", "copy it again", "/data/head.nii")
        self.assertEqual(str(trouble), "This file is cut short (/data/head.nii): copy it again.")
        self.assertEqual(str(Trouble("No image", "")), "No image.")


class ParameterTest(unittest.TestCase):
    def test_texts_become_values(self):
        number, whole, yes, numbers = (kind_of_type(t) for t in (float, int, bool, tuple))
        self.assertIs(Parameter("on", yes).checked("yes"), True)
        self.assertEqual(Parameter("n", whole, low=0, high=9).checked("7"), 7)
        self.assertEqual(Parameter("p", numbers, length=2).checked("1 −2.5"), (1.0, -2.5))
        self.assertIsNone(Parameter("p", number, optional=True).checked(None))
        self.assertEqual(Parameter("many", number, many=True).checked(["1", 2]), [1.0, 2.0])
        choice = kind_of_type(type(Literal["a"]))
        for parameter, value, said in (
            (Parameter("n", whole), "7.5", "give a whole number"),
            (Parameter("n", whole), "inf", "give a whole number"),
            (Parameter("n", whole), "1e400", "give a whole number"),
            (Parameter("p", numbers, length=3), "1,2", "give 3 numbers"),
            (Parameter("on", yes), "maybe", "say yes or no"),
            (Parameter("n", whole, low=0, high=9), 10, "from 0 to 9"),
            (Parameter("x", number), "nan", "give a number"),
            (Parameter("c", choice, choices=("a", "b")), "c", "choose a, b"),
            (Parameter("many", number, many=True), [1, "x"], "give a number"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                parameter.checked(value)

    def test_a_hint_nobody_knows_fails_when_the_signature_is_looked_at(self):
        @operation("prepare", "Wrong")
        def wrong(data: bytes) -> float:
            """Never."""

        self.addCleanup(OPERATIONS.remove, "wrong")
        with self.assertRaisesRegex(TypeError, "nobody knows how to give a bytes"):
            find_operation("wrong").parameters
        with self.assertRaisesRegex(TypeError, "nobody knows how to keep a float"):
            find_operation("wrong").results


class FactsTest(unittest.TestCase):
    def test_grid_sides_and_header(self):
        image = two_balls(tilted_space((20, 24, 16)))
        image.facts = {"Manufacturer": "Hollowmere Workshop"}
        image.caveats = [Caveat(SLICES_MISSING, "1 slice is missing")]
        found = dict(facts(image).rows)
        self.assertEqual(found["Axes run towards"], "RPS")
        self.assertEqual(found["Voxel size (mm)"], "0.5 × 0.4 × 0.7")
        self.assertEqual(found["Note"], "1 slice is missing")
        self.assertEqual(found["Manufacturer"], "Hollowmere Workshop")
        self.assertEqual(dict(facts(two_balls(straight_space())).rows)["Axes run towards"], "RAS")
