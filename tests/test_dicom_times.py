"""Times of DICOM volumes: over midnight, over days, and what is no time of a volume."""

import numpy as np

from kestrelmist.formats.dicom.scan import scan_folder
from kestrelmist.formats.dicom.series import series_image
from kestrelmist.formats.dicom.times import day_of, seconds_of
from kestrelmist.gather.remove_identity import deidentify
from tests.dicom_making import stack
from tests.making import PlaceCase, straight_space

SHAPE = (6, 5, 4)


class TimesTest(PlaceCase):
    def volumes(self, each: list[dict], **shared):
        """Volumes whose values are their number, written in the order given; the series that is read."""
        for n, elements in enumerate(each):
            values = np.full(SHAPE, 100 * n, np.int16)
            stack(self.place / "scans", values, straight_space(SHAPE), 10 * (len(each) - n), **(shared | elements))
        (series,) = scan_folder(self.place / "scans")
        return series

    def check(self, series, wanted: list[int], times: tuple[float, ...]) -> None:
        image = series_image(series)
        axis = image.axes[0]
        self.assertEqual((axis.name, axis.unit), ("time", "s"))
        np.testing.assert_allclose(axis.values or [axis.step * n for n in range(axis.size)], times, atol=1e-6)
        self.assertEqual([int(image.frame((n,)).data.max()) // 100 for n in range(len(wanted))], wanted)

    def test_over_midnight_with_dates(self):
        each = [
            {"AcquisitionTime": "000010.500000", "AcquisitionDate": "20310301"},
            {"AcquisitionTime": "235950.000000", "AcquisitionDate": "20310228"},
            {"AcquisitionTime": "000030", "AcquisitionDate": "20310301"},
        ]
        series = self.volumes(each)
        self.assertEqual(series.caveats, [])
        self.check(series, [1, 0, 2], (0, 20.5, 40))

    def test_over_midnight_without_dates_is_said(self):
        each = [{"AcquisitionTime": t, "AcquisitionDate": ""} for t in ("000010", "235950", "000030")]
        series = self.volumes(each)
        self.assertIn("over midnight without dates", series.caveats[0].sentence)
        self.check(series, [1, 0, 2], (0, 20, 40))

    def test_days_apart_by_date_and_time_together(self):
        each = [
            {"AcquisitionDateTime": f"203103{day:02d}{clock}", "AcquisitionTime": clock[:6]}
            for day, clock in ((4, "080000.000000"), (1, "090000.250000"), (2, "070000.000000"))
        ]
        hours = 3600.0
        self.check(self.volumes(each), [1, 2, 0], (0, 22 * hours - 0.25, 71 * hours - 0.25))

    def test_numbered_places_keep_their_order_and_times_do_not_go_back(self):
        each = [
            {"AcquisitionTime": t, "AcquisitionDate": d, "TemporalPositionIdentifier": n}
            for n, (t, d) in enumerate((("235950", "20310228"), ("000010", "20310301")), 1)
        ]
        self.check(self.volumes(each), [0, 1], (0, 20))

    def test_in_one_day_as_before(self):
        each = [{"AcquisitionTime": t} for t in ("100004", "100002", "100000")]
        self.check(self.volumes(each), [2, 1, 0], (0, 2, 4))

    def test_a_repetition_time_of_a_line_is_no_time_of_a_volume(self):
        for repeat, more, step, said in (
            ("5", {}, None, "5 ms is not that of a volume"),
            ("2000", {"MRAcquisitionType": "3D"}, None, "2000 ms is not that of a volume"),
            ("2000", {"MRAcquisitionType": "2D"}, 2.0, ""),
            ("5", {"TemporalResolution": "1500"}, 1.5, ""),
        ):
            place = self.place
            self.place = place / f"{repeat} {more}"
            each = [{"AcquisitionNumber": n + 1, "TemporalPositionIdentifier": n + 1} for n in range(3)]
            series = self.volumes(each, RepetitionTime=repeat, AcquisitionTime="101010", **more)
            axis, self.place = series_image(series).axes[0], place
            self.assertEqual((axis.size, axis.step), (3, step), more)
            self.assertIn(said, " ".join(c.sentence for c in series.caveats) or said)
            self.assertEqual(bool(series.caveats), bool(said))

    def test_without_identity_order_and_distance_stay(self):
        """Whichever file comes first; over days where a date and a time stand together, as they do in multi-frame."""
        midnight = [
            {"AcquisitionTime": t, "AcquisitionDate": d}
            for t, d in (("000010", "20310301"), ("235950", "20310228"), ("000030", "20310301"))
        ]
        days = [
            {"AcquisitionDateTime": f"203103{day:02d}{clock}", "AcquisitionTime": clock[:6]}
            for day, clock in ((4, "080000.000000"), (1, "090000.250000"), (2, "070000.000000"))
        ]
        hours = 3600.0
        for each, order, times in (
            (midnight, [1, 0, 2], (0, 20, 40)),
            (days, [1, 2, 0], (0, 22 * hours - 0.25, 71 * hours - 0.25)),
        ):
            for turned in (False, True):
                place = self.place
                self.place = place / f"{order} {turned}"
                ordered = each[::-1] if turned else each
                self.volumes(ordered, SeriesDate="20310228", SeriesTime="080000")
                deidentify(self.place / "scans", self.place / "clean")
                (series,) = scan_folder(self.place / "clean")
                self.check(series, [2 - n for n in order] if turned else order, times)
                for path in (self.place / "clean").rglob("*"):
                    if path.is_file():
                        self.assertNotIn(b"20310", path.read_bytes())
                self.place = place

    def test_dates_in_some_slices_only_do_not_count(self):
        each = [
            {"AcquisitionTime": "100004", "AcquisitionDate": "20310301"},
            {"AcquisitionTime": "100000", "AcquisitionDate": ""},
            {"AcquisitionTime": "100002", "AcquisitionDate": "20310301"},
        ]
        self.check(self.volumes(each), [1, 2, 0], (0, 2, 4))

    def test_content_over_midnight_without_dates_is_said(self):
        each = [{"AcquisitionTime": "", "ContentTime": t, "ContentDate": ""} for t in ("000010", "235950")]
        series = self.volumes(each, RepetitionTime="2000")
        self.assertIn("over midnight without dates", " ".join(c.sentence for c in series.caveats))
        self.check(series, [1, 0], (0, 2))

    def test_what_is_no_time_and_no_day(self):
        for text in ("", "abc", "1", None, "99", "2031-02-28"):
            self.assertIsNone(day_of(text))
        self.assertIsNone(day_of("20311350"))
        self.assertEqual(day_of("20310301") - day_of("20310228"), 1)
        self.assertEqual(seconds_of("20310228235950.5+0100"), 86390.5)
