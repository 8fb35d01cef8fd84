"""Processes that work for another one end when that does."""

import os
import subprocess
import sys
import time
import unittest
from pathlib import Path

from tests.making import PlaceCase

POOL = """
import os, sys, time
from kestrelmist.core.workers import worker_pool
if __name__ == "__main__":
    with worker_pool(2) as pool:
        found = {pool.submit(os.getpid).result() for _ in range(20)}
        waiting = [pool.submit(time.sleep, 60) for _ in range(2)]
        print(*(process.pid for process in pool._processes.values()), flush=True)
        time.sleep(60)
"""


def lives(process: int) -> bool:
    try:
        return Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


class WorkersTest(PlaceCase):
    def test_they_end_when_their_parent_is_killed(self):
        script = self.place / "pool.py"
        script.write_text(POOL)
        source = str(Path(__file__).parents[1] / "src")
        run = subprocess.Popen([sys.executable, script], stdout=subprocess.PIPE, text=True,
                               env=os.environ | {"PYTHONPATH": source})  # fmt: skip
        workers = [int(n) for n in run.stdout.readline().split()]
        self.assertTrue(workers and all(map(lives, workers)))
        run.kill()
        run.wait()
        run.stdout.close()
        end = time.monotonic() + 10
        while any(map(lives, workers)) and time.monotonic() < end:
            time.sleep(0.05)
        self.assertFalse([w for w in workers if lives(w)])


if __name__ == "__main__":
    unittest.main()
