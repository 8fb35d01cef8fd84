"""A study that is closed while another thread still reads it."""

import subprocess
import sys
import unittest
from pathlib import Path

READ_AND_CLOSE = """
import tempfile, threading, time
from pathlib import Path
from kestrelmist.study.study import Study

LONG = "WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c WHERE x < 20000) SELECT x FROM c"
ended = []

def read(catalogue):
    try:
        while True:
            catalogue.rows(LONG)
    except Exception as error:
        ended.append(str(error))

for _ in range(25):
    with tempfile.TemporaryDirectory() as place:
        catalogue = Study(Path(place) / "study", create=True).catalogue
        threads = [threading.Thread(target=read, args=(catalogue,)) for _ in range(3)]
        for thread in threads:
            thread.start()
        time.sleep(0.02)
        catalogue.close()
        for thread in threads:
            thread.join()
print(len(ended), set(ended))
"""


class ClosingTest(unittest.TestCase):
    def test_a_query_under_way_is_waited_for(self):
        """In a process of its own: a connection that is closed under a query takes the process with it."""
        ran = subprocess.run(
            [sys.executable, "-c", READ_AND_CLOSE], capture_output=True, text=True, cwd=Path(__file__).parent.parent
        )
        self.assertEqual(ran.returncode, 0, ran.stderr)
        self.assertEqual(ran.stdout.strip(), "75 {'Cannot operate on a closed database.'}")
