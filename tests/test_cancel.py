"""Every operation that says how far it is looks whether it is still wanted, too; and a window goes on at once without
work that cannot be stopped."""

import inspect
import threading
import time
import unittest
from unittest import mock

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.operation import all_operations
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import picture_space
from kestrelmist.desk.app import application
from kestrelmist.desk.models.work import Work
from kestrelmist.prepare.intensity import denoise as noise
from tests.desk_case import DeskCase, pause
from tests.making import straight_space

SETTINGS = {
    "calculate": {"formula": "a * 2"},
    "field-map": {"holds": "Hz"},
    "grow": {"label": "Brain", "point": (0.0, 0.0, 0.0), "low": 300.0, "high": 2000.0},
    "threshold": {"label": "Brain", "low": 300.0, "high": 2000.0},
    "remove-pieces": {"label": "Brain"},
    "smooth": {"fwhm": 2.0},
    "turn": {"quarters": 1},
    "resample": {"spacing": (0.7, 0.7, 0.7), "how": "sinc"},
    "time-slices": {"pattern": "ascending"},
    "course": {"label": "Brain"},
    "hold-course": {"label": "Brain"},
    "volumes-over": {"limit": 0.5},
}
NOT_HERE = ("gather", "recipe", "convert", "convert-folder", "convert-study", "deidentify", "picture-set", "scan",
            "open-labels", "back-to-version", "compare-version")  # fmt: skip
"""Of files and studies; each has a test of its own."""


def things() -> list[dict]:
    """A head of a formula, a series and a height map, with labels."""
    side = 20
    space = straight_space((side,) * 3, 0.5)
    x, y, z = np.ogrid[-1 : 1 : side * 1j, -1 : 1 : side * 1j, -1 : 1 : side * 1j]
    values = (1000 * np.exp(-2 * (x * x + y * y + z * z)) + 50).astype(np.float32)
    values += np.random.default_rng(1).normal(0, 20, values.shape).astype(np.float32)
    labels = LabelMap(space, table=LabelTable().with_new("Brain")[0].with_new("Other")[0])
    labels.data[(x * x + y * y + z * z) < 0.6], labels.data[:2] = 1, 2
    labels.recount()
    volume = Image(np.asfortranarray(values), space, "Head", "T-1")
    runs = np.stack([values * (1 + 0.01 * n) for n in range(8)], -1).astype(np.float32)
    series = Image(runs, space, "Run", "T-1", axes=(Axis.even("time", 8, 2.0, "s"),))
    flat = picture_space(40, 30, (0.0001, 0.0001))
    map_values = np.random.default_rng(2).normal(0, 5, (40, 30, 1)).astype(np.float32)
    heights = Image(np.asfortranarray(map_values), flat, "Map", "T-1", unit="nm")
    colour = Image(
        np.random.default_rng(3).integers(0, 255, (40, 30, 1, 3)).astype(np.uint8), flat, "Section", colour=True
    )
    plane = LabelMap(flat)
    return [
        {"image": volume, "label map": labels},
        {"image": series, "label map": labels},
        {"image": heights, "label map": plane},
        {"image": colour, "label map": plane},
    ]


class CancelTest(unittest.TestCase):
    def test_all_operations_look_whether_they_are_wanted(self):
        tried, deaf = set(), []
        for operation in all_operations().values():
            if operation.name in NOT_HERE or "progress" not in inspect.signature(operation.function).parameters:
                continue
            for given in things():
                arguments = dict(SETTINGS.get(operation.name, {}))
                for p in operation.inputs:
                    if p.kind.name in given and (p.required or p.kind.name == "label map"):
                        arguments[p.name] = [given[p.kind.name]] if p.many else given[p.kind.name]
                seen = []
                whole = Progress(lambda share, what, seen=seen: seen.append(share))
                try:
                    operation.function(**arguments, progress=whole)
                except (Trouble, TypeError):  # not for this kind of image
                    continue
                tried.add(operation.name)
                stopped = Progress()
                stopped.cancel()
                with self.subTest(operation=operation.name):
                    try:
                        made = operation.function(**arguments, progress=stopped)
                        images = [
                            one for one in (made if isinstance(made, tuple) else [made]) if isinstance(one, Image)
                        ]
                        for image in images:  # worked out when it is fetched
                            image.frame((0,) * len(image.axes)).fetch(stopped)
                        deaf.append(operation.name)
                    except Cancelled:
                        pass
                break
        self.assertEqual(deaf, [])
        self.assertGreater(len(tried), 25, sorted(tried))


class LeftTest(DeskCase):
    def test_what_cannot_be_stopped_is_left_and_the_next_goes_on(self):
        self.app = application()
        work, gate, told, ends, late = Work(), threading.Event(), [], [], []

        def deaf(progress):  # as a library that looks at nothing until it is done
            gate.wait(20)
            return "made"

        job = work.start("Deaf", deaf, told.append, told.append, left=late.append)
        pause(50)
        job.progress.cancel()
        work.start("Next", lambda progress: "next", ends.append)
        began = time.monotonic()
        while not ends and time.monotonic() - began < 15:
            pause(20)
        self.assertEqual(ends, ["next"])
        self.assertEqual((told, work.jobs), ([], []))
        gate.set()
        pause(200)
        self.assertEqual((told, late), ([], ["made"]))  # nobody hears of it but who throws it away
        work.close()

    def test_what_changes_the_study_is_waited_for(self):
        self.app = application()
        work, gate, ends = Work(), threading.Event(), []
        job = work.start("Taking in", lambda progress: gate.wait(20), ends.append)
        pause(50)
        job.progress.cancel()
        pause(1500)
        self.assertEqual(work.jobs, [job])
        gate.set()
        pause(200)
        self.assertEqual((ends, work.jobs), ([True], []))
        work.close()

    def test_what_was_left_leaves_no_folder_in_the_study(self):
        with self.study_with_balls() as study:
            study.run("add-label", label="Ball")
        window = self.open(self.place / "study")
        session, key = window.desk.session, window.desk.study.records()[0].id
        gate, real = threading.Event(), noise.non_local_means

        def deaf(*given, **more):
            gate.wait(20)
            return real(*given[:4])

        with mock.patch.object(noise, "non_local_means", deaf):
            job = session.run("reduce-noise", {"image": key, "noise": 5.0})
            pause(100)
            job.progress.stop[0] = 1
            pause(1500)
            self.assertTrue(session.work.idle)
            job.progress.stop[0] = 0  # as if it never looked
            gate.set()
            end = time.monotonic() + 20
            pause(500)
            while any((self.place / "study").glob(".side-*")) and time.monotonic() < end:
                pause(100)
        self.assertEqual([p.name for p in (self.place / "study").glob(".side-*")], [])
        self.assertEqual(len(window.desk.study.records()), 1)


if __name__ == "__main__":
    unittest.main()
