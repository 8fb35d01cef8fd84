"""Garbage is looked for while nobody waits."""

import gc
import weakref

from kestrelmist.desk.shell.tidying import EVERY
from tests.desk_case import DeskCase, pause


class Ring:
    """What only a look for garbage takes away."""

    def __init__(self):
        self.me = self


class TidyingTest(DeskCase):
    def setUp(self):
        super().setUp()
        self.study_with_balls().close()
        self.window = self.open(self.place / "study")
        self.tidying, self.desk = self.window.tidying, self.window.desk
        self.tidying._timer.setInterval(30)

    def work(self) -> weakref.ref:
        made = []
        self.desk.session.work.start("Making a ring", lambda _: Ring(), lambda ring: made.append(weakref.ref(ring)))
        self.settle(self.window)
        return made[0]

    def test_what_work_leaves_goes_once_it_has_ended(self):
        self.assertEqual(gc.get_threshold(), EVERY)
        left = self.work()
        pause(200)
        self.assertGreater(self.tidying.looked, 0)
        self.assertIsNone(left())

    def test_not_while_a_hand_is_at_something(self):
        self.window.desk.hand.gesture = gesture = Ring()
        gesture.finish = lambda: None
        looked, left = self.tidying.looked, self.work()
        pause(200)
        self.assertEqual(self.tidying.looked, looked)
        self.desk.hand.end_gesture()
        pause(200)
        self.assertGreater(self.tidying.looked, looked)
        self.assertIsNone(left())
