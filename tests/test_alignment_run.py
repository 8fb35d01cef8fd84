from unittest import mock

import numpy as np
from scipy import ndimage

from kestrelmist.align.lay import hand_matrix
from kestrelmist.core.image import Image
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.desk.models.work import Job
from tests.desk_case import DeskCase
from tests.making import keep_thing, straight_space

MOVED = hand_matrix((1.0, -0.6, 0.4), (0, 0, 6), 1, (0, 0, 0))


def body(space: Space, name: str) -> Image:
    """A lopsided body of two tissues."""
    i, j, k = (n / 40 - 0.5 for n in np.indices(space.shape).astype(np.float32))
    inside = (i**2 + 1.4 * j**2 + 1.9 * (k + 0.2 * i) ** 2 < 0.14).astype(np.float32)
    inner = ((i - 0.1) ** 2 + (j + 0.05) ** 2 + (k - 0.02) ** 2 < 0.02).astype(np.float32)
    return Image(ndimage.gaussian_filter(100 * inside + 80 * inner, 0.8), space, name)


class ProgressTest(DeskCase):
    def test_what_was_found_is_shown_and_may_be_enough(self):
        seen = []
        whole = Progress(watcher=seen.append)
        part = whole.part(0.2, 0.4).part(0.0, 0.5)
        part.show("state")
        part.unseen().part(0.0, 1.0).show("something else")
        self.assertEqual((seen, part.watched, part.unseen().watched), (["state"], True, False))
        whole.stop_here()
        self.assertTrue(part.has_enough)
        self.assertFalse(part.cancelled)


class AlignmentRunTest(DeskCase):
    """An alignment watched in the window."""

    def setUp(self):
        super().setUp()
        with self.study_with_balls() as study:
            world = study.records()[0].grid.world
            space = straight_space((40, 40, 40)).in_world(world)
            self.onto = keep_thing(study, body(space, "Stays"))
            self.moves = keep_thing(study, body(space.moved(MOVED), "Moves"))
        self.window = self.open(self.place / "study")
        self.desk, self.panel = self.window.desk, self.window.bench.under_way
        self.desk.viewing.set_stage("Align")
        self.desk.viewing.show_image(self.onto)
        self.settle(self.window)

    def begin(self, **more) -> Job:
        job = self.desk.session.run("align", {"image": self.moves, "onto": self.onto, "freedom": "6"} | more)
        assert job is not None
        return job

    def grid(self) -> np.ndarray:
        return self.desk.study.find(self.moves).grid.affine

    def test_states_are_drawn_and_what_was_found_places_the_image(self):
        drawn = []
        job, show = self.begin(), self.desk.layers.show_as
        with mock.patch.object(self.desk.layers, "show_as", lambda key, image: (drawn.append(image), show(key, image))):
            self.settle(self.window)
        run = self.desk.alignment.run
        self.assertIs(run.job, job)
        self.assertIsNotNone(self.desk.layers.stack.of(self.moves))  # it was laid over, to be seen
        self.assertEqual(len(job.shown), sum(map(len, run.costs.values())))
        self.assertEqual(sorted(run.costs), list(range(1, run.levels + 1)))
        # the last state lies on the image that stays
        np.testing.assert_allclose(drawn[-1].space.affine, self.desk.viewing.record.grid.affine, atol=0.1)
        self.assertEqual(len(self.panel.curve.lines()), run.levels)
        self.assertTrue(all(0 <= y <= 1 for line in self.panel.curve.lines() for _, y in line))
        # nothing was moved by it, until that is asked for
        before = self.grid()
        np.testing.assert_allclose(self.desk.layers.drawn()[0].thing.space.affine, before)
        self.assertTrue(self.panel.place.isVisible() and not self.panel.stop.isVisible())
        self.press(self.panel.place)
        self.settle(self.window)
        np.testing.assert_allclose(self.grid() @ np.linalg.inv(before), np.linalg.inv(MOVED), atol=0.05)
        self.assertFalse(self.panel.isVisible())
        self.desk.undoing.undo()
        self.settle(self.window)
        np.testing.assert_allclose(self.grid(), before)

    def test_stop_here_keeps_what_there_is(self):
        job = self.begin(freedom="warp")
        job.showed.connect(self.desk.alignment.stop_here)
        self.settle(self.window)
        run = self.desk.alignment.run
        self.assertIsNotNone(run.transform)
        self.assertTrue(job.progress.has_enough)
        found = self.desk.study.thing(run.transform)
        self.assertEqual(found.words, "warp")
        self.assertFalse(run.by_voxels)
        self.press(self.panel.place)  # it cannot be placed by a warp, and is brought through
        self.settle(self.window)
        made = max(self.desk.study.records(), key=lambda record: record.id)
        self.assertEqual(made.grid.shape, self.desk.study.find(self.onto).grid.shape)
        self.assertIsNotNone(self.desk.layers.stack.of(made.id))

    def test_cancel_leaves_nothing(self):
        job = self.begin(freedom="warp")
        job.showed.connect(lambda _: job.progress.cancel())
        self.settle(self.window)
        self.assertIsNone(self.desk.alignment.run)
        self.assertFalse(self.panel.isVisible())
        self.assertEqual(self.desk.study.items.of_kind("transform"), [])
        if self.desk.layers.drawn():
            np.testing.assert_allclose(self.desk.layers.drawn()[0].thing.space.affine, self.grid())

    def test_judging_and_what_goes_meanwhile(self):
        self.begin()
        self.settle(self.window)
        self.press(self.panel.judge)
        self.settle(self.window)
        self.assertIn("judged", [t.name.rpartition(", ")[2] for t in self.desk.study.items.of_kind("table")])
        self.desk.session.take_off([self.desk.alignment.run.transform])
        self.assertIsNone(self.desk.alignment.run)
        # another image leads while it runs: nothing is drawn over that
        job = self.begin(freedom="warp")
        job.showed.connect(lambda _: self.desk.viewing.show_image(self.moves))
        self.settle(self.window)
        self.assertTrue(self.desk.viewing.leads(self.moves))
        self.assertIsNotNone(self.desk.alignment.run.transform)
