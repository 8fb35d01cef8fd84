"""Two runs to one target, and what a killed run has left."""

import os
import signal
import subprocess
import sys
import time

import numpy as np

from kestrelmist.core.claim import claimed
from kestrelmist.core.errors import Trouble
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from tests.making import PlaceCase, dicom_folder, straight_space, two_balls

HOLD = """
import sys, time
from pathlib import Path
from kestrelmist.core.claim import claimed
with claimed(Path(sys.argv[1])) as beside:
    beside.mkdir()
    (beside / "half").write_text("half")
    print("at work", flush=True)
    time.sleep(60)
"""


class ClaimTest(PlaceCase):
    def other_run(self, target):
        run = subprocess.Popen([sys.executable, "-c", HOLD, str(target)], stdout=subprocess.PIPE, text=True)
        self.addCleanup(run.stdout.close)
        self.addCleanup(run.wait)
        self.addCleanup(run.kill)
        self.assertEqual(run.stdout.readline().strip(), "at work")
        return run

    def test_the_second_says_that_the_first_is_at_work_and_a_killed_one_is_cleared(self):
        image = two_balls(straight_space((20, 20, 20)))
        for name in ("a.ome.zarr", "a.ome.tif", "series"):
            target = self.place / name
            run = self.other_run(target)
            with self.assertRaisesRegex(Trouble, "Another run is writing"):
                self.save(target, image)
            self.assertFalse(target.exists())
            run.send_signal(signal.SIGKILL)
            run.wait()
            self.assertTrue((self.place / f".{name}.part").exists())
            self.save(target, image)
            np.testing.assert_array_equal(open_image(target).data, image.data)
            self.assertEqual([p.name for p in self.place.iterdir() if p.name.startswith(".")], [])

    def save(self, target, image):
        if target.suffix:
            save_image(target, image)
        else:
            from kestrelmist.formats.dicom.write import save_dicom

            save_dicom(target, image)

    def test_removing_identity_twice_at_once(self):
        dicom_folder(self.place / "scans", two_balls())
        words = [sys.executable, "-m", "kestrelmist.cli", "deidentify", str(self.place / "scans")]
        words += ["--to", str(self.place / "clean")]
        runs = [subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) for _ in range(2)]
        said = [run.communicate()[1] for run in runs]
        codes = sorted(run.returncode for run in runs)
        self.assertEqual(codes, [0, 1], said)
        self.assertRegex("".join(said), "Another run is writing|something of this name already")
        files = [p for p in (self.place / "scans").rglob("*") if p.is_file()]
        self.assertEqual(len(list((self.place / "clean").glob("*.dcm"))), len(files))
        self.assertEqual([p.name for p in self.place.iterdir() if p.name.startswith(".")], [])

    def test_a_target_that_cannot_be_written_beside(self):
        (self.place / "file").write_text("x")
        with self.assertRaises(Trouble), claimed(self.place / "file" / "below"):
            pass
        started = time.monotonic()
        with claimed(self.place / "new" / "deep") as beside:
            os.mkdir(beside)
        self.assertFalse(beside.exists())
        self.assertLess(time.monotonic() - started, 30)
