"""Files that hang, panic or lie: only ordinary files are opened, and one bad file spoils no folder."""

import os
import socket
import threading
import unittest
from unittest import mock

import numpy as np

from kestrelmist.core.errors import Cancelled, Trouble, let_through
from kestrelmist.core.progress import silent
from kestrelmist.formats.dicom_scan import files_below, scan_folder
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.gather.plan import plan_folder
from tests.making import PlaceCase, dicom_folder, straight_space, two_balls


class Panic(BaseException):
    """What a compiled decoder raises when it gives up: no `Exception`."""


class NoOrdinaryFileTest(PlaceCase):
    def within(self, do, seconds=20):
        """The result of something that must not hang."""
        found = {}

        def work():
            try:
                found["value"] = do()
            except BaseException as error:
                found["error"] = error

        thread = threading.Thread(target=work, daemon=True)
        thread.start()
        thread.join(seconds)
        self.assertFalse(thread.is_alive(), "it hangs")
        if "error" in found:
            raise found["error"]
        return found["value"]

    def odd_things(self, folder):
        os.mkfifo(folder / "pipe.dcm")
        os.mkfifo(folder / "DICOMDIR")
        os.mkfifo(folder / "image.nii")
        (folder / "zero.nii.gz").symlink_to("/dev/zero")
        (folder / "loop").symlink_to(folder)
        (folder / "nowhere.dcm").symlink_to(folder / "is not there")
        (folder / "circle").symlink_to(folder / "circle")
        listening = socket.socket(socket.AF_UNIX)
        listening.bind(str(folder / "sock.dcm"))
        self.addCleanup(listening.close)

    def test_pipes_sockets_and_devices_in_a_folder_are_passed_over(self):
        folder = self.place / "scans"
        dicom_folder(folder, two_balls())
        whole = len(files_below(folder))
        self.odd_things(folder)
        self.assertEqual(len(self.within(lambda: files_below(folder))), whole)
        (series,) = self.within(lambda: scan_folder(folder))
        self.assertEqual(series.problems, [])
        lines = self.within(lambda: plan_folder(folder))
        self.assertEqual([line.kind for line in lines], ["DICOM"])

    def test_one_that_is_named_gets_a_sentence(self):
        self.odd_things(self.place)
        for name in ("pipe.dcm", "image.nii", "zero.nii.gz", "sock.dcm"):
            with self.assertRaisesRegex(Trouble, "no ordinary file"):
                self.within(lambda name=name: open_image(self.place / name))
            with self.assertRaisesRegex(Trouble, "no ordinary file"):
                self.within(lambda name=name: plan_folder(self.place / name))

    def test_values_beside_a_header_and_chunks(self):
        os.mkfifo(self.place / "values.raw")
        (self.place / "a.mhd").write_text(
            "ObjectType = Image\nNDims = 3\nDimSize = 4 4 4\nElementType = MET_SHORT\nElementSpacing = 1 1 1\n"
            "ElementDataFile = values.raw\n"
        )
        (self.place / "a.nhdr").write_text(
            "NRRD0004\ntype: short\ndimension: 3\nsizes: 4 4 4\nencoding: raw\nendian: little\n"
            "data file: values.raw\n\n"
        )
        for name in ("a.mhd", "a.nhdr"):
            with self.assertRaises(Trouble):
                self.within(lambda name=name: open_image(self.place / name).data)
        image = two_balls(straight_space((20, 20, 20)))
        save_image(self.place / "b.ome.zarr", image)
        self.assertEqual(open_image(self.place / "b.ome.zarr").data.max(), 1000)
        for chunk in sorted((self.place / "b.ome.zarr").rglob("*")):
            if chunk.is_file() and chunk.suffix != ".json":
                chunk.unlink()
                os.mkfifo(chunk)
        with self.assertRaisesRegex(Trouble, "chunks|no ordinary file"):
            self.within(lambda: open_image(self.place / "b.ome.zarr").data)


class PanicTest(PlaceCase):
    def test_a_panic_is_a_sentence_and_the_end_of_the_program_is_not(self):
        save_image(self.place / "a.nii", two_balls())
        image = open_image(self.place / "a.nii")
        for error, seen in ((Panic("x"), Trouble), (KeyboardInterrupt(), KeyboardInterrupt), (Cancelled(), Cancelled)):
            with mock.patch("kestrelmist.formats.raw_values.RawValues.whole", side_effect=error):
                with self.assertRaises(seen):
                    open_image(self.place / "a.nii")._fetch((), silent())
        self.assertEqual(image.data.max(), 1000)
        with self.assertRaises(SystemExit):
            let_through(SystemExit(2))

    def test_one_bad_file_leaves_the_others_of_its_folder(self):
        folder = self.place / "scans"
        dicom_folder(folder / "good", two_balls(), "Good")
        dicom_folder(folder / "bad", two_balls(), "Bad")
        bad = sorted(p for p in (folder / "bad").rglob("*") if p.is_file())[3]
        bad.write_bytes(bad.read_bytes()[:700])
        found = {s.description: s for s in scan_folder(folder)}
        self.assertEqual(found["Good"].problems, [])
        self.assertTrue(found["Bad"].problems or found["Bad"].broken)
        names = {line.name: line for line in plan_folder(folder)}
        self.assertEqual(names["Good"].refused, "")
        np.testing.assert_array_equal(names["Good"].open().data, two_balls().data)


if __name__ == "__main__":
    unittest.main()
