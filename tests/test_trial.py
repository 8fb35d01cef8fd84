"""A short trial: each case a few times. The long one is `./kestrel trial --minutes 30`."""

import contextlib
import io
import unittest
from unittest import mock

from trial import __main__ as main
from trial.case import CASES, Case, require


class TrialTest(unittest.TestCase):
    def test_nothing_is_lost_or_left(self):
        with contextlib.redirect_stdout(io.StringIO()) as said:
            fine = main.run(0, seed=17)
        self.assertTrue(fine, said.getvalue())
        self.assertGreaterEqual(len(CASES), 20)
        for one in CASES:
            self.assertGreater(sum(one.counts.values()), 0, one.name)

    def test_a_case_that_fails_is_told(self):
        bad = Case("bad", lambda rng, place: require(False, "it is lost") or "")
        with mock.patch.object(main, "CASES", [bad]), contextlib.redirect_stdout(io.StringIO()) as said:
            self.assertFalse(main.run(0, seed=3))
        self.assertIn("it is lost", said.getvalue())


if __name__ == "__main__":
    unittest.main()
