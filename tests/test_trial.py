"""A short trial: each case a few times. The long one is `./kestrel trial --minutes 30`."""

import contextlib
import io
import unittest

from trial.__main__ import run
from trial.case import CASES, Case, require


class TrialTest(unittest.TestCase):
    def test_nothing_is_lost_or_left(self):
        with contextlib.redirect_stdout(io.StringIO()) as said:
            fine = run(0, seed=17)
        self.assertTrue(fine, said.getvalue())
        self.assertGreaterEqual(len(CASES), 7)
        for one in CASES:
            self.assertGreater(sum(one.counts.values()), 0, one.name)

    def test_a_case_that_fails_is_told(self):
        bad = Case("bad", lambda rng, place: require(False, "it is lost") or "")
        CASES.append(bad)
        try:
            with contextlib.redirect_stdout(io.StringIO()) as said:
                self.assertFalse(run(0, seed=3))
        finally:
            CASES.remove(bad)
        self.assertIn("it is lost", said.getvalue())


if __name__ == "__main__":
    unittest.main()
