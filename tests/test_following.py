"""What workers change, told to the window: at once, gathered, one listener a turn, none lost."""

import threading
import unittest
from unittest import mock

from kestrelmist.desk.app import application
from kestrelmist.desk.models.following import Following
from tests.desk_case import pause


class FollowingTest(unittest.TestCase):
    def setUp(self):
        self.app = application()
        self.told: list[tuple] = []
        self.following = Following((lambda items: self.told.append(("one", items)), self.other))

    def other(self, items) -> None:
        self.told.append(("other", items))

    def by_worker(self, *several: tuple[int, ...]) -> None:
        thread = threading.Thread(target=lambda: [self.following.moved(items) for items in several])
        thread.start()
        thread.join()

    def settle(self) -> None:
        for _ in range(300):
            if self.following.settled:
                return
            pause(10)
        self.fail("not everything was told")

    def test_what_the_window_does_is_told_at_once(self):
        self.following.moved((1, 2))
        self.assertEqual(self.told, [("one", (1, 2)), ("other", (1, 2))])

    def test_what_a_worker_does_is_gathered(self):
        self.by_worker(*((n,) for n in range(500)))
        self.assertEqual(self.told, [])
        self.assertFalse(self.following.settled)
        self.settle()
        self.assertEqual(self.told, [("one", tuple(range(500))), ("other", tuple(range(500)))])

    def test_what_waits_goes_before_what_the_window_does(self):
        self.by_worker((7,))
        self.following.moved((8,))
        self.assertEqual([items for _, items in self.told], [(7,), (7,), (8,), (8,)])
        self.settle()
        self.assertEqual(len(self.told), 4)

    def test_more_comes_while_it_is_told(self):
        def more(items):
            if items == (1,):
                self.by_worker((2,), (3,))

        following = self.following = Following((more, self.other))
        self.by_worker((1,))
        self.settle()
        self.assertEqual([items for _, items in self.told], [(1,), (2, 3)])
        self.assertTrue(following.settled)

    def test_a_fault_of_one_listener_keeps_nothing_from_the_others(self):
        def faulty(items):
            raise ZeroDivisionError

        self.following = Following((faulty, self.other))
        with mock.patch("sys.excepthook"), mock.patch("sys.unraisablehook"), mock.patch("builtins.print"):
            self.by_worker((4,))
            self.settle()
            self.by_worker((5,))
            self.settle()
        self.assertEqual(self.told, [("other", (4,)), ("other", (5,))])


if __name__ == "__main__":
    unittest.main()
