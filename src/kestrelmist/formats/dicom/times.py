"""When DICOM slices were taken: dates and times together, over midnight too."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date

from .header import Slice

DAY = 86_400_000_000
"""Microseconds; whole numbers, so that a difference of days keeps its last digit."""
QUICKEST = 100.0
"""Milliseconds below which a repetition time is that of a line or a shot, and not of a volume."""


def seconds_of(text) -> float | None:
    """Seconds of the day of a DICOM time or date and time."""
    text = str(text or "").strip()
    if len(text) > 14 or (len(text) == 14 and "." not in text[:7]):
        text = text[8:]
    try:
        clock, _, fraction = text.partition(".")
        clock, fraction = clock[:6], fraction.partition("+")[0].partition("-")[0]
        if len(clock) < 2:
            return None
        clock = clock.ljust(6, "0")
        return int(clock[:2]) * 3600 + int(clock[2:4]) * 60 + int(clock[4:6]) + float(f"0.{fraction or 0}")
    except ValueError:
        return None


def day_of(text) -> int | None:
    """The day of a DICOM date, or of a date and time, as a number that counts on; None when it is none."""
    text = str(text or "").strip()
    try:
        return date(int(text[:4]), int(text[4:6]), int(text[6:8])).toordinal() if text[:8].isdigit() else None
    except ValueError:
        return None


def moment_of(both, time, day) -> tuple[int | None, int | None]:
    """Microseconds of the day, and the day, from a date and time together where there is one, else from a time and a
    date; None for what is not said."""
    text = str(both or "").strip()
    if len(text) >= 10:
        seconds, on = seconds_of(text.ljust(14, "0") if "." not in text else text), day_of(text)
    else:
        seconds, on = seconds_of(time), day_of(day)
    return (None if seconds is None else round(seconds * 1e6)), on


class Clock:
    """Moments of the slices of a series in microseconds, by their dates where all have one.

    Without dates, times that lie on both sides of midnight, with more than half a day between, go on after it.
    """

    def __init__(self, slices: Iterable[Slice]):
        self.slices = list(slices)
        self._turns: dict[tuple[str, str, str], int | None] = {}
        self.over_midnight = False
        """Whether that was so, and nothing but the times themselves said it."""

    def acquired(self, s: Slice) -> int | None:
        """When a slice was acquired; None when nothing says so."""
        return self._moment(s, ("AcquisitionDateTime", "AcquisitionTime", "AcquisitionDate"))

    def content(self, s: Slice) -> int | None:
        """When its content was made."""
        return self._moment(s, ("", "ContentTime", "ContentDate"))

    def _moment(self, s: Slice, names: tuple[str, str, str]) -> int | None:
        micro, on = moment_of(*map(s.get, names))
        if micro is None:
            return None
        if names not in self._turns:
            self._turns[names] = self._turn(names)
        turn = self._turns[names]
        if turn is None:
            assert on is not None
            return on * DAY + micro
        return micro + DAY if micro < turn else micro

    def _turn(self, names: tuple[str, str, str]) -> int | None:
        """None when every moment has its date; else the time of day before which moments are of the next one, 0 when
        all are of one day."""
        parts = [moment_of(*map(s.get, names)) for s in self.slices]
        if all(on is not None for micro, on in parts if micro is not None):
            return None
        times = sorted({micro for micro, _ in parts if micro is not None})
        gaps = [(b - a, b) for a, b in zip(times, times[1:])]
        if not gaps or max(gaps)[0] <= DAY // 2:
            return 0
        self.over_midnight = True
        return max(gaps)[1]


def volume_time(s: Slice) -> float | None:
    """Seconds from volume to volume as the header gives them; None when it gives none: the repetition time of a
    three-dimensional or very quick sequence is that of a line."""
    resolution, repeat = s.number("TemporalResolution"), s.number("RepetitionTime")
    if resolution > 0:
        return resolution / 1000
    if repeat < QUICKEST or str(s.get("MRAcquisitionType") or "").upper() == "3D":
        return None
    return repeat / 1000
