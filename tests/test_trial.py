"""A short trial: each quick case once. The long one is `./kestrel trial --minutes 30`."""

import contextlib
import io
import unittest

from trial import __main__ as main
from trial.case import CASES, Case, require


class TrialTest(unittest.TestCase):
    def test_nothing_is_lost_or_left(self):
        with contextlib.redirect_stdout(io.StringIO()) as said:
            short = [one for one in CASES if not one.long]
            fine = main.run(0, seed=17, cases=short)
        self.assertTrue(fine, said.getvalue())
        self.assertGreaterEqual(len(short), 20)
        for one in short:
            self.assertGreater(sum(one.counts.values()), 0, one.name)

    def test_a_case_that_fails_is_told(self):
        bad = Case("bad", lambda rng, place: require(False, "it is lost") or "")
        with contextlib.redirect_stdout(io.StringIO()) as said:
            self.assertFalse(main.run(0, 3, [bad]))
        self.assertIn("it is lost", said.getvalue())


if __name__ == "__main__":
    unittest.main()
