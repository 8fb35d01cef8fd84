"""Parts of pictures that lie in a file as they are, as the whole has them."""

from unittest import mock

import numpy as np
import tifffile

from kestrelmist.core.errors import Trouble
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.plain_rows import PlainRows
from kestrelmist.formats.tiff import OPENED
from tests.making import PlaceCase

PICKS = (
    (slice(None), slice(None)),
    (slice(3, 9), slice(5, 40)),
    (slice(3, 9), slice(5, 7)),
    (slice(0, 30, 7), slice(2, 41, 5)),
    (4, slice(None)),
    (slice(None), 11),
    (29, 40),
    (slice(5, 5), slice(None)),
    (slice(2, 2000), slice(-4, None)),
)


class PlainRowsTest(PlaceCase):
    def test_every_part_as_numpy_picks_it(self):
        rng = np.random.default_rng(1)
        for dtype, more in ((">u2", ()), ("<f4", ()), ("u1", (3,)), (">f8", (2,))):
            for outer in ((), (3,), (2, 3)):
                values = rng.integers(0, 200, (*outer, 30, 41, *more)).astype(dtype)
                path = self.place / "rows"
                path.write_bytes(b"12345" + values.tobytes())
                rows = PlainRows(path, 5, np.dtype(dtype), values.shape, len(outer))
                for lead in ((slice(None),) * len(outer), (1,) * len(outer), (slice(0, 1),) * len(outer)):
                    for pick in PICKS:
                        with self.subTest((dtype, lead, pick)):
                            got = rows[(*lead, *pick)]
                            np.testing.assert_array_equal(got, values[(*lead, *pick)])
                            self.assertTrue(got.dtype.isnative)

    def test_only_what_is_wanted_is_read(self):
        path = self.place / "large.tif"
        tifffile.imwrite(path, np.arange(4000 * 3000, dtype="f4").reshape(4000, 3000))
        image = open_image(path)
        with mock.patch.object(PlainRows, "_read", autospec=True, side_effect=PlainRows._read) as read:
            got = image.part((), (1000, 1010, 2000, 2020))
        np.testing.assert_array_equal(got[:, :, 0], image.data[1000:1010, 2000:2020, 0])
        self.assertLessEqual(sum(np.prod(call.args[4]) for call in read.call_args_list), 200)

    def test_packed_ones_are_left_to_the_library(self):
        values = np.arange(300 * 400, dtype="u2").reshape(300, 400)
        for n, how in enumerate(({"compression": "deflate"}, {"tile": (64, 64)}, {"byteorder": ">"}, {})):
            path = self.place / f"{n}.tif"
            tifffile.imwrite(path, values, **how)
            self.assertEqual(isinstance(OPENED.get(path, 0, 0), PlainRows), n > 1)
            got = open_image(path).part((), (10, 200, 7, 60))
            np.testing.assert_array_equal(got[:, :, 0].T, values[7:60, 10:200])

    def test_a_file_that_ends_while_it_is_looked_at(self):
        path = self.place / "cut.tif"
        tifffile.imwrite(path, np.zeros((2000, 2000), "u2"))
        image = open_image(path)
        image.part((), (0, 9, 0, 9))
        with path.open("r+b") as file:
            file.truncate(4000)
        with self.assertRaisesRegex(Trouble, "cut short"):
            image.part((), (0, 9, 1900, 1999))
