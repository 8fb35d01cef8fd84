"""Files that hang, panic or lie: only ordinary files are opened, and one bad file spoils no folder."""

import os
import socket
import subprocess
import sys
import threading
import unittest
import zipfile
from unittest import mock

import numpy as np
import pydicom
import tifffile
import zarr

from kestrelmist.core.errors import Cancelled, Trouble, let_through
from kestrelmist.core.image import Image
from kestrelmist.core.progress import silent
from kestrelmist.core.space import picture_space
from kestrelmist.formats.dicom.scan import files_below, scan_folder
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


class PromisesTest(PlaceCase):
    """What a header claims is compared with what can be there, before anything is allotted."""

    def opened(self, path, megabytes: int = 160) -> str:
        """What opening says, in a process that may take only so much memory above what the program takes itself."""
        code = (
            "import sys\nfrom pathlib import Path\nimport numpy, pydicom, tifffile, zarr\n"
            "from kestrelmist.formats.opening import open_image\nfrom kestrelmist.core.errors import Trouble\n"
            # rusage would also tell of what the process that started this one has held
            "def most():\n"
            "    return int(Path('/proc/self/status').read_text().partition('VmHWM:')[2].split()[0])\n"
            "before = most()\n"
            "try:\n    open_image(Path(sys.argv[1]))\n    said = 'opened'\n"
            "except Trouble as trouble:\n    said = str(trouble)\n"
            "print((most() - before) // 1024, said)"
        )
        words = [sys.executable, "-c", code, str(path)]
        ran = subprocess.run(words, capture_output=True, text=True, timeout=60)
        self.assertEqual(ran.returncode, 0, ran.stderr)
        taken, _, said = ran.stdout.strip().partition(" ")
        self.assertLess(int(taken), megabytes, said)
        return said

    def test_an_ome_tiff_of_a_thousand_million_planes(self):
        tifffile.imwrite(self.place / "a.ome.tif", np.zeros((4, 16, 16), np.uint8), ome=True, metadata={"axes": "ZYX"})
        with tifffile.TiffFile(self.place / "a.ome.tif") as file:
            text = file.pages.first.description
        with tifffile.TiffWriter(self.place / "lie.ome.tif") as writer:
            lie = text.replace('SizeZ="4"', 'SizeZ="1000000000"')
            self.assertNotEqual(lie, text)
            writer.write(np.zeros((16, 16), np.uint8), description=lie, metadata=None)
        self.assertIn("promises 1000000000 planes", self.opened(self.place / "lie.ome.tif"))
        self.assertEqual(self.opened(self.place / "a.ome.tif"), "opened")

    def test_a_packed_data_set_of_zeros(self):
        dicom_folder(self.place / "scans", two_balls())
        ds = pydicom.dcmread(sorted(p for p in (self.place / "scans").rglob("*") if p.is_file())[0])
        ds.file_meta.TransferSyntaxUID = pydicom.uid.DeflatedExplicitVRLittleEndian
        ds.save_as(self.place / "good.dcm")
        self.assertEqual(self.opened(self.place / "good.dcm"), "opened")
        ds.PixelData = b"\0" * (300 << 20)
        ds.save_as(self.place / "bomb.dcm")
        self.assertLess((self.place / "bomb.dcm").stat().st_size, 1 << 20)
        self.assertNotEqual(self.opened(self.place / "bomb.dcm"), "opened")

    def test_a_mask_of_zeros_in_a_surface(self):
        image = Image(
            np.zeros((40, 30, 1), np.float32, order="F"), picture_space(40, 30, (0.1, 0.1)), "Heights", unit="m"
        )
        save_image(self.place / "a.x3p", image)
        with zipfile.ZipFile(self.place / "a.x3p") as whole:
            parts = {name: whole.read(name) for name in whole.namelist()}
        mask = b"<ValidPointsLink>bindata/valid.bin</ValidPointsLink></DataLink>"
        self.assertIn(b"</DataLink>", parts["main.xml"])
        parts["main.xml"] = parts["main.xml"].replace(b"</DataLink>", mask)
        with zipfile.ZipFile(self.place / "bomb.x3p", "w", zipfile.ZIP_DEFLATED) as packed:
            for name, data in parts.items():
                packed.writestr(name, data)
            packed.writestr("bindata/valid.bin", b"\0" * (400 << 20))
        self.assertIn("larger than its header says", self.opened(self.place / "bomb.x3p"))

    def test_a_zarr_declared_huge_and_empty_opens_lazily(self):
        zarr.create_array(str(self.place / "huge.zarr"), shape=(10**6, 10**5, 10**5), chunks=(1, 16, 16), dtype="uint8")
        self.assertEqual(self.opened(self.place / "huge.zarr"), "opened")


if __name__ == "__main__":
    unittest.main()
