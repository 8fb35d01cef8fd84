"""Field maps and what is undone with them, against fields that are known by a formula."""

import json
import unittest
from unittest import mock

import numpy as np

from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Cancelled, Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.progress import Progress
from kestrelmist.core.space import Space
from kestrelmist.core.world import World
from kestrelmist.formats.echo_lines import lines_of
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.sidecar import KEY, facts_of
from kestrelmist.prepare.fields.field_fit import mutual_information
from kestrelmist.prepare.fields.field_map import field_map
from kestrelmist.prepare.fields.line_shift import shifted, shifted_back
from kestrelmist.prepare.fields.phase import SCALES
from kestrelmist.prepare.fields.smooth_field import carried_on, cleaned
from kestrelmist.prepare.fields.undistort import signal_left, undistort
from kestrelmist.prepare.grid.crop import crop
from kestrelmist.prepare.grid.resample import resample
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, straight_space

SHAPE = (40, 36, 20)
APART = 0.0025
"""s between the echoes."""


def known_field(space: Space) -> np.ndarray:
    """Hz, [i, j, k]: a slope, a saddle and a hill, over more than two turns in APART."""
    x, y, z = space.to_world(np.indices(space.shape).reshape(3, -1).T).T.reshape(3, *space.shape)
    hill = np.exp(-((x - 10) ** 2 + (y - 10) ** 2 + z**2) / 200)
    return 9.0 * x + 0.12 * (y**2 - z**2) + 300 * hill


def ball(space: Space) -> np.ndarray:
    x, y, z = space.to_world(np.indices(space.shape).reshape(3, -1).T).T.reshape(3, *space.shape)
    return (x / 34) ** 2 + (y / 30) ** 2 + (z / 17) ** 2 < 1


class MapCase(PlaceCase):
    def setUp(self):
        super().setUp()
        self.space = straight_space(SHAPE, 2.0)
        self.true, self.inside = known_field(self.space), ball(self.space)
        rng = np.random.default_rng(4)
        self.angle = 2 * np.pi * self.true * APART + rng.normal(0, 0.03, SHAPE)
        self.angle[~self.inside] = rng.uniform(-np.pi, np.pi, int((~self.inside).sum()))
        self.magnitude = self.image(np.where(self.inside, 800, 0) + rng.rayleigh(10, SHAPE), "Magnitude")

    def image(self, values, name="Phase", unit="", facts=None, **more) -> Image:
        known = {} if facts is None else {KEY: json.dumps(facts)}
        kind = values.dtype if values.dtype.kind != "f" else np.float32
        return Image(np.asfortranarray(values, kind), self.space, name, "T-1", unit=unit, facts=known, **more)

    def written(self, low: float, high: float) -> np.ndarray:
        """The phase in the scale of a file."""
        zero = next(z for a, b, z, _ in SCALES if (a, b) == (low, high))
        turns = self.angle / (2 * np.pi) + (zero - low) / (high - low)
        whole = high > 1000 and low == round(low)
        values = low + (turns - np.floor(turns)) * (high - low)
        return np.floor(values).astype(np.int32) if whole else values

    def off(self, field: Image) -> float:
        """Mean error within the head, Hz."""
        found = field.data / (2 * np.pi)
        return float(np.abs(found - self.true)[self.inside].mean())


class FieldMapTest(MapCase):
    def test_from_every_scale_that_files_have(self):
        for low, high, _, words in SCALES:
            made = field_map(self.image(self.written(low, high)), self.magnitude, echo_difference=APART)
            self.assertIn(("scale of the phase", words, ""), made.report.rows)
            self.assertLess(self.off(made.field), 3.5, words)
            self.assertEqual(made.field.unit, "rad/s")
            self.assertTrue(np.isfinite(made.field.data).all())

    def test_from_two_phases_and_from_echoes_along_an_axis(self):
        rng = np.random.default_rng(6)
        coil = rng.uniform(-np.pi, np.pi)
        wrapped = [np.angle(np.exp(1j * (coil + self.angle * n))) for n in (1, 2)]
        first, second = (self.image(w, facts={"EchoTime": t}) for w, t in zip(wrapped, (0.0025, 0.005)))
        self.assertLess(self.off(field_map(first, self.magnitude, second).field), 4)
        axis = Axis("echo", 2, "ms", (2.5, 5.0))
        both = self.image(np.stack(wrapped, -1), axes=(axis,))
        made = field_map(both, self.magnitude).field
        self.assertEqual(made.axes, ())
        self.assertLess(self.off(made), 4)

    def test_from_maps_in_hz_and_in_radians_a_second(self):
        holed = self.true + 0.0
        holed[20, 18, 10] = 5e4  # a voxel gone wrong
        for unit, factor in (("Hz", 1.0), ("rad/s", 2 * np.pi)):
            made = field_map(self.image(np.where(self.inside, holed * factor, 0), unit=unit), self.magnitude).field
            self.assertLess(self.off(made), 1.0, unit)
        by_hand = field_map(self.image(self.true), self.magnitude, holds="Hz").field
        self.assertLess(self.off(by_hand), 1.0)

    def test_without_a_magnitude_and_within_a_mask(self):
        phase = self.image(self.written(-np.pi, np.pi))
        self.assertLess(self.off(field_map(phase, echo_difference=APART).field), 3.5)
        labels = LabelMap(self.space)
        labels.data[self.inside] = 1
        self.assertLess(self.off(field_map(phase, mask=labels, echo_difference=APART).field), 3.5)

    def test_offset_smoothing_and_what_lies_at_the_edge(self):
        phase = self.image(self.written(-np.pi, np.pi))
        level = field_map(phase, self.magnitude, echo_difference=APART, offset="remove").field
        self.assertLess(abs(float(np.median(level.data[self.inside]))), 2 * np.pi * 8)
        soft = field_map(phase, self.magnitude, echo_difference=APART, smooth=4.0).field
        rough = field_map(phase, self.magnitude, echo_difference=APART).field
        bend = [float(np.abs(np.diff(f.data, 2, axis=0))[self.inside[1:-1]].mean()) for f in (soft, rough)]
        self.assertLess(bend[0], 0.5 * bend[1])
        eroded = field_map(phase, self.magnitude, echo_difference=APART, erode=3.0).field
        self.assertLess(self.off(eroded), 12)

    def test_turns_from_volume_to_volume_are_put_back(self):
        # the field grows by a third of a turn from one to the next, so that the median passes half a turn
        volumes = [np.angle(np.exp(1j * (self.angle + 2 * np.pi * n / 3))) for n in range(5)]
        series = self.image(np.stack(volumes, -1), axes=(Axis.even("time", 5, 1.0, "s"),))
        made = field_map(series, self.magnitude, echo_difference=APART).field
        self.assertEqual(made.shape, (*SHAPE, 5))
        steps = np.diff([np.median(made.frame((n,)).data[self.inside]) / (2 * np.pi) * APART for n in range(5)])
        np.testing.assert_allclose(steps, 1 / 3, atol=0.01)

    def test_wrong_input(self):
        phase = self.image(self.written(-np.pi, np.pi))
        other = Image(np.ones((8, 8, 8), np.float32, order="F"), straight_space((8, 8, 8)), "Small")
        for what, said in (
            (lambda: field_map(phase, self.magnitude), "how long the echoes"),
            (lambda: field_map(self.image(self.angle * 0 + 3.0), echo_difference=APART), "one value only"),
            (lambda: field_map(self.magnitude, echo_difference=APART), "no scale of phase"),
            (lambda: field_map(phase, other, echo_difference=APART), "another grid"),
            (lambda: field_map(phase, mask=LabelMap(self.space), echo_difference=APART), "mask is empty"),
            (lambda: field_map(phase, self.magnitude, echo_difference=APART, erode=500.0), "Nothing is left"),
            (
                lambda: field_map(self.image(self.angle, facts={"ImageComponent": "magnitude"}), echo_difference=APART),
                "is a magnitude",
            ),
            (
                lambda: field_map(self.image(self.written(-np.pi, np.pi), facts={"EchoTime1": 4, "EchoTime2": 6.5})),
                "check the sidecars",
            ),
            (
                lambda: field_map(self.image(self.written(-np.pi, np.pi), facts={"EchoTime1": "x", "EchoTime2": 1})),
                "no number above 0",
            ),
            (lambda: field_map(self.image(self.true * 1e6, unit="Hz"), self.magnitude), "check the unit"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                what()

    def test_cancelled_and_thin_and_empty_places(self):
        phase = self.image(self.written(-np.pi, np.pi))
        stopped = Progress(lambda *_: stopped.cancel())
        with self.assertRaises(Cancelled):
            field_map(phase, self.magnitude, echo_difference=APART, progress=stopped)
        thin = Image(phase.data[:, :, 10:11], straight_space((*SHAPE[:2], 1), 2.0), "Thin")
        made = field_map(thin, echo_difference=APART).field
        middle = self.inside[:, :, 10]
        self.assertLess(np.abs(made.data[:, :, 0] / 2 / np.pi - self.true[:, :, 10])[middle].mean(), 3.5)
        holed = phase.data.copy()
        holed[20, 18, 10] = np.nan
        self.assertLess(self.off(field_map(self.image(holed), self.magnitude, echo_difference=APART).field), 3.5)

    def test_a_field_carried_on_and_cleaned(self):
        field = np.fromfunction(lambda k, j, i: 2.0 * i, (6, 20, 30))
        mask = np.zeros(field.shape, bool)
        mask[1:5, 4:16, 6:24] = True
        whole = carried_on(np.where(mask, field, 1e9), mask, (1, 1, 1))
        np.testing.assert_allclose(whole[mask], field[mask])
        self.assertTrue((whole > 0).all() and whole.max() < 60)
        spiked = field.copy()
        spiked[3, 10, 15] = -4000
        self.assertAlmostEqual(float(cleaned(spiked, mask, None, (1, 1, 1), 0.0)[3, 10, 15]), 30.0, delta=2.1)


class LineTest(unittest.TestCase):
    def test_an_even_shift_and_a_stretch_by_formula(self):
        rng = np.random.default_rng(2)
        values = np.zeros((3, 5, 40), np.float32)
        values[:, :, 8:32] = rng.uniform(1, 2, (3, 5, 24))
        for axis in (0, 1, 2):
            turned = np.moveaxis(values, 2, 2 - axis)
            moved = shifted_back(np.roll(turned, 3, 2 - axis), np.full(turned.shape, 3.0), axis)
            inner = [slice(None)] * 3
            inner[2 - axis] = slice(0, 36)
            np.testing.assert_allclose(moved[tuple(inner)], turned[tuple(inner)], atol=1e-5)
            self.assertTrue(np.isnan(np.take(moved, 39, 2 - axis)).all())
        # drawn out by a fifth: what was 1 a voxel is 1/1.2 there, and 1 again when undone
        line = np.arange(40, dtype=np.float32)
        stretch = np.broadcast_to((0.2 * (line - 20)), (1, 1, 40))
        flat = np.ones((1, 1, 40), np.float32)
        out = shifted(flat, stretch, 0)
        np.testing.assert_allclose(out[0, 0, 4:36], 1 / 1.2, rtol=0.06)
        back = shifted_back(np.full((1, 1, 40), 1 / 1.2, np.float32), stretch, 0)
        np.testing.assert_allclose(back[0, 0, 6:34], 1.0, rtol=1e-5)
        plain = shifted_back(np.full((1, 1, 40), 1 / 1.2, np.float32), stretch, 0, signal=False)
        np.testing.assert_allclose(plain[0, 0, 6:34], 1 / 1.2, rtol=1e-5)

    def test_what_is_shifted_is_neither_lost_nor_made(self):
        rng = np.random.default_rng(3)
        values = np.zeros((4, 6, 50), np.float32)
        values[:, :, 15:35] = rng.uniform(0, 1, (4, 6, 20))
        moved = np.broadcast_to(4 * np.sin(np.arange(50) / 6), values.shape)
        self.assertAlmostEqual(float(shifted(values, moved, 0).sum()) / float(values.sum()), 1.0, delta=1e-5)

    def test_the_spline_is_that_of_an_independent_library(self):
        from scipy import ndimage

        rng = np.random.default_rng(5)
        values, by = rng.normal(size=(3, 4, 30)).astype(np.float32), rng.uniform(-2, 2, (3, 4, 30)).astype(np.float32)
        k, j, i = np.indices(values.shape)
        lines = np.stack([ndimage.spline_filter1d(v, 3, mode="mirror") for v in values.reshape(-1, 30)])
        wanted = np.stack(
            [
                ndimage.map_coordinates(line, [(i + by).reshape(-1, 30)[n]], order=3, prefilter=False, mode="mirror")
                for n, line in enumerate(lines)
            ]
        ).reshape(values.shape)
        found = shifted_back(values, by, 0, signal=False)
        there = (i + by >= 0) & (i + by <= 29)
        np.testing.assert_allclose(found[there], wanted[there], atol=1e-4)

    def test_missing_values_stay_missing(self):
        values = np.ones((2, 2, 20), np.float32)
        values[0, 0, 10] = np.nan
        found = shifted_back(values, np.full(values.shape, 2.0), 0)
        self.assertEqual(np.flatnonzero(np.isnan(found[0, 0, :17])).tolist(), [8])

    def test_signal_left_by_formula_and_resemblance(self):
        slope = np.fromfunction(lambda k, j, i: 20.0 * k, (8, 8, 8))
        np.testing.assert_allclose(signal_left(slope, (1, 1, 1), 0.03), np.sinc(0.6), rtol=1e-5)
        np.testing.assert_allclose(signal_left(slope, (1, 1, 1), 0.0), 1)
        rng = np.random.default_rng(1)
        one = rng.normal(size=50_000)
        self.assertLess(mutual_information(one, rng.normal(size=50_000)), 0.02)
        self.assertGreater(mutual_information(one, -(one**3)), 0.5)


class UndistortTest(MapCase):
    def setUp(self):
        super().setUp()
        rng = np.random.default_rng(9)
        from scipy import ndimage

        texture = ndimage.gaussian_filter(rng.standard_normal(SHAPE), 1.2)
        self.head = np.where(self.inside, 500 * (1 + 0.5 * texture / texture.std()), 0).clip(0)
        self.field = self.image(2 * np.pi * self.true, "Field", "rad/s")
        self.shift = self.true * 0.0005 * SHAPE[1]
        self.bent = shifted(self.head.T, self.shift.T, 1).T
        self.facts = {"PhaseEncodingDirection": "j", "EffectiveEchoSpacing": 0.0005, "EchoTime": 0.03}
        volumes = np.stack([self.bent * (1 + 0.1 * n) for n in range(3)], -1)
        axes = (Axis.even("time", 3, 2.0, "s"),)
        self.series = self.image(volumes, "Run", facts=self.facts, axes=axes)

    def test_a_series_is_put_right(self):
        made = undistort(self.series, self.field, line_up=False)
        np.testing.assert_allclose(made.shift.data, self.shift, rtol=1e-4)
        for n in range(3):
            found = made.image.frame((n,)).data
            seen = np.isfinite(found) & self.inside
            error = np.abs(found - self.head * (1 + 0.1 * n))[seen].mean()
            before = np.abs(self.series.frame((n,)).data - self.head * (1 + 0.1 * n))[seen].mean()
            self.assertLess(error, 0.3 * before)
        with self.assertRaisesRegex(Trouble, "in which direction"):  # not twice
            undistort(made.image, self.field)

    def test_direction_spacing_and_where_they_come_from(self):
        def lines(facts, **given):
            return lines_of(self.image(self.head, "Run", facts=facts), **given)

        self.assertEqual(lines(self.facts).voxels_a_hz, 0.0005 * 36)
        self.assertEqual(lines(self.facts, direction="i-").voxels_a_hz, -0.0005 * 40)
        self.assertEqual(lines(self.facts, direction="−y".replace("−y", "y-")).words, "j-")
        whole = {"PhaseEncodingDirection": "j-", "TotalReadoutTime": 0.0175}
        self.assertAlmostEqual(lines(whole).spacing, 0.0005)
        band = {"PhaseEncodingDirection": "j", "BandwidthPerPixelPhaseEncode": 1 / (0.0005 * 36)}
        self.assertAlmostEqual(lines(band).spacing, 0.0005)
        self.assertAlmostEqual(lines(self.facts, spacing=0.001, acceleration=2.0).spacing, 0.0005)
        for facts, given, said in (
            ({}, {}, "in which direction"),
            ({"PhaseEncodingAxis": "j"}, {}, "along j, but not which way"),
            ({"PhaseEncodingDirection": "j"}, {}, "how far the echoes"),
            (self.facts, {"direction": "up"}, "no direction"),
            (self.facts, {"spacing": 0.5}, "looks like ms"),
            (self.facts, {"spacing": 0.018}, "time to read all lines"),
            (self.facts, {"spacing": 1e-9}, "cannot be"),
            ({**self.facts, "EffectiveEchoSpacing": -1}, {}, "no number above 0"),
        ):
            with self.assertRaisesRegex(Trouble, said):
                lines(facts, **given)

    def test_a_part_cut_out_is_shifted_as_the_whole_was(self):
        part = crop(self.series, LabelMap(self.space), voxels=(0, 6, 0, 39, 29, 19))
        self.assertEqual(lines_of(part).voxels_a_hz, lines_of(self.series).voxels_a_hz)
        # on another grid lines are none any more
        self.assertNotIn("PhaseEncodingDirection", facts_of(resample(self.series, spacing=(1.0, 1.0, 1.0))))

    def test_doubts_are_told(self):
        wrong = undistort(self.series, self.field, self.image(self.head, "Magnitude"), direction="j-", line_up=False)
        self.assertIn("sign", wrong.image.caveats[-1].sentence)
        right = undistort(self.series, self.field, self.image(self.head, "Magnitude"), line_up=False)
        self.assertFalse(right.image.caveats)
        half = straight_space((40, 36, 9), 2.0)
        away = Image(self.field.data[:, :, :9], half, "Half", unit="rad/s")
        self.assertIn("covers", undistort(self.series, away).image.caveats[-1].sentence)

    def test_a_map_that_lies_elsewhere_is_lined_up(self):
        matrix = np.eye(4)
        matrix[:3, 3] = (3.0, -2.0, 1.0)
        moved = Space(SHAPE, matrix @ self.space.affine)
        field = Image(self.field.data, moved, "Field", unit="rad/s")
        magnitude = Image(np.asfortranarray(self.head, np.float32), moved, "Magnitude")
        made = undistort(self.series, field, magnitude)
        left = [np.abs(m.shift.data - self.shift)[self.inside].mean() for m in (made, undistort(self.series, field))]
        self.assertLess(left[0], 0.12)
        self.assertLess(left[0], 0.4 * left[1])

    def test_wrong_input(self):
        far = Space(SHAPE, self.space.affine + np.array([[0, 0, 0, 1e3], [0] * 4, [0] * 4, [0] * 4]))
        world = Space(SHAPE, self.space.affine + np.array([[0, 0, 0, 5]] + [[0] * 4] * 3), world=World("other"))
        here = Image(
            self.series.data, Space(SHAPE, self.space.affine, world=World("mine")), "Run", axes=self.series.axes
        )
        for what, said in (
            (lambda: undistort(self.series, self.image(self.true, "Field")), "no unit"),
            (lambda: undistort(self.series, Image(self.field.data, far, "Far", unit="Hz")), "does not lie where"),
            (lambda: undistort(here, Image(self.field.data, world, "Else", unit="Hz"), direction="j",
                               echo_spacing=5e-4), "another space"),
            (lambda: undistort(self.series, self.image(self.true * 300, "Field", "Hz")), "check the unit"),
            (lambda: undistort(self.series, self.image(self.true * np.nan, "Field", "Hz")), "no values"),
            (lambda: undistort(self.image(self.head * 0, facts=self.facts), self.field), "one value only"),
        ):  # fmt: skip
            with self.assertRaisesRegex(Trouble, said):
                what()

    def test_on_the_command_line_and_in_a_study(self):
        folder = self.place / "scans"
        folder.mkdir()
        save_image(folder / "run.nii.gz", self.series)
        (folder / "run.json").write_text(json.dumps(self.facts | {"RepetitionTime": 2.0}))
        save_image(folder / "phase.nii.gz", self.image(self.written(-4096, 4096).astype(np.int16)))
        (folder / "phase.json").write_text(json.dumps({"EchoTime1": 0.004, "EchoTime2": 0.0065}))
        out = self.place / "field.nii.gz"
        kestrelmist("field-map", folder / "phase.nii.gz", "--out", out)
        self.assertEqual((open_image(out).unit, self.off(open_image(out)) < 3.5), ("rad/s", True))
        kestrelmist("undistort", folder / "run.nii.gz", "--field", out, "--out", self.place / "u.nii.gz")
        self.assertLess(np.nanmean(np.abs(open_image(self.place / "u.nii.gz").frame((0,)).data - self.head)), 60)
        refused = kestrelmist("undistort", folder / "run.nii.gz", "--field", folder / "phase.nii.gz",
                              "--out", self.place / "n.nii.gz", code=1)  # fmt: skip
        self.assertIn("rad/s or Hz is wanted", refused.stderr)
        self.assertFalse((self.place / "n.nii.gz").exists())
        with Study(self.place / "s", create=True) as study:
            study.run("gather", folder=folder, subject="T-1")
            by_name = {r.name: r.id for r in study.records()}
            study.run("field-map", image=by_name["phase"])
            field = next(r for r in study.records() if "field" in r.name)
            study.run("undistort", image=by_name["run"], field=field.id)
            names = [r.name for r in study.records()]
            self.assertEqual([n for n in names if n.startswith("run,")], [
                "run, undistorted", "run, shift", "run, signal left"])  # fmt: skip

    def test_a_full_disk_leaves_nothing(self):
        save_image(self.place / "run.nii.gz", self.series)
        (self.place / "run.json").write_text(json.dumps(self.facts))
        save_image(self.place / "field.nii.gz", self.field)
        with mock.patch("os.replace", side_effect=OSError(28, "No space left on device")):
            kestrelmist("undistort", self.place / "run.nii.gz", "--field", self.place / "field.nii.gz",
                        "--out", self.place / "u.nii.gz", code=1)  # fmt: skip
        self.assertEqual(sorted(p.name for p in self.place.iterdir()), ["field.nii.gz", "run.json", "run.nii.gz"])


if __name__ == "__main__":
    unittest.main()
