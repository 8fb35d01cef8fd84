import numpy as np
from scipy import ndimage

from kestrelmist.align.align_boundary import align_boundary
from kestrelmist.align.boundary import Across, boundary_of
from kestrelmist.align.freedom import numbers_of
from kestrelmist.core.axis import Axis
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.rigid import matrix_of
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.sidecar import with_facts
from kestrelmist.formats.transform_files import read_itk_transform
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, keep_thing

FINE = Space((64, 60, 56), np.diag([1.0, 1.0, 1.0, 1.0]))
"""Of the anatomy."""
PART = Space((34, 32, 12), np.array([[1.6, 0, 0, 4.0], [0, 1.6, 0, 4.5], [0, 0, 2.0, 18.0], [0, 0, 0, 1]]))
"""Of a series that sees part of it."""
POSE = matrix_of((1.5, -2.0, 1.0, *np.radians((4.0, -3.0, 5.0))), FINE.centre)
"""From the anatomy to the series."""
PLACES = FINE.centre + np.random.default_rng(1).uniform(-12, 12, (200, 3))


def white_at(places: np.ndarray) -> np.ndarray:
    """Signed distance (mm, about) to a lobed body of white matter, negative inside."""
    x, y, z = (places - FINE.centre).T
    radius = 12 + 3 * np.sin(3 * np.arctan2(y, x)) + 2.5 * np.sin(0.35 * z + 0.2 * x) + 1.5 * np.cos(0.45 * y)
    return np.sqrt(x**2 + (1.2 * y) ** 2 + (1.1 * z) ** 2) - radius


def grid_of(space: Space, pose: np.ndarray, shift: float = 0.0) -> np.ndarray:
    """Signal in T2*, [i, j, k], of a head that lies by a pose: white 80, grey 100, nothing beyond; shifted along j."""
    index = np.indices(space.shape).reshape(3, -1).T.astype(float)
    index[:, 1] -= shift
    back = np.linalg.inv(pose)
    places = space.to_world(index) @ back[:3, :3].T + back[:3, 3]
    away = white_at(places)
    signal = 100 - 20 * np.clip(0.5 - away, 0, 1) - 100 * np.clip(away - 6.5, 0, 1)
    return np.asarray(signal.reshape(space.shape), np.float32)


def anatomy() -> tuple[Image, Image]:
    """T1 and shares of white matter."""
    places = FINE.to_world(np.indices(FINE.shape).reshape(3, -1).T)
    away = white_at(places).reshape(FINE.shape)
    white = np.clip(0.5 - away, 0, 1).astype(np.float32)
    return Image(60 + 40 * white - 60 * np.clip(away - 6.5, 0, 1), FINE, "T1"), Image(white, FINE, "White")


def off(found) -> float:
    return float(np.linalg.norm(found.to(PLACES) - PLACES @ POSE[:3, :3].T - POSE[:3, 3], axis=1).mean())


class BoundaryTest(PlaceCase):
    def setUp(self):
        super().setUp()
        self.t1, self.white = anatomy()
        noise = np.random.default_rng(4).normal(0, 2, (*PART.shape, 3)).astype(np.float32)
        self.volumes = grid_of(PART, POSE)[..., None] + noise

    def test_a_part_of_the_head_is_laid_where_it_was(self):
        found = align_boundary(Image(self.volumes[..., 0], PART, "EP"), self.t1, self.white)
        self.assertLess(off(found.transform), 0.15)  # voxels are 1.6 mm
        told = {row[0]: row[1] for row in found.report.rows}
        self.assertEqual(told["brighter side"], "outside, by what is seen")
        self.assertGreater(told["places that change this way"], 90)
        self.assertGreater(told["change across it"], told["change across it at the start"] - 1)
        self.assertNotIn("doubt", told)

    def test_the_way_down_is_the_slope_of_the_cost(self):
        boundary = boundary_of(self.white.kji, FINE, "White")
        aside = np.linspace(-1, 1, len(boundary.places))
        smooth = ndimage.gaussian_filter(self.volumes[..., 0], 1).T
        across = Across(smooth, PART, boundary, 1.0, 15.0, 1, aside, 1)
        numbers = numbers_of(POSE, across.centre) + 0.01
        cost, slope = across.at(numbers)
        for n in range(6):
            step = np.eye(12)[n] * (2e-3 if n < 3 else 2e-4)
            grown = (across.at(numbers + step)[0] - across.at(numbers - step)[0]) / (2 * step[n])
            self.assertAlmostEqual(grown / slope[n], 1, delta=0.03)
        self.assertTrue(0 < cost < 1)
        # outward, and no deeper than the middle of the white matter
        inner, outer = boundary.both_sides(1.0)
        self.assertTrue((white_at(inner) < white_at(outer)).mean() > 0.99)

    def test_a_field_map_says_where_the_boundary_is_seen(self):
        seen = Image(grid_of(PART, POSE, 2.0), PART, "EP")  # all of it two voxels along j
        seen.facts = with_facts(seen, EffectiveEchoSpacing=0.0005, PhaseEncodingDirection="j")
        hertz = 2.0 / (0.0005 * PART.shape[1])
        field = Image(np.full(FINE.shape, hertz, np.float32), FINE, "Field", unit="Hz")
        self.assertGreater(off(align_boundary(seen, self.t1, self.white).transform), 2.5)
        self.assertLess(off(align_boundary(seen, self.t1, self.white, field).transform), 0.2)
        radians = Image(np.full(FINE.shape, 2 * np.pi * hertz, np.float32), FINE, "Field", unit="rad/s")
        magnitude = Image(np.asarray(self.t1.data), FINE, "Magnitude")
        found = align_boundary(seen, self.t1, self.white, radians, magnitude)
        self.assertLess(off(found.transform), 0.2)

    def test_noise_moves_nothing(self):
        noise = np.random.default_rng(1).normal(100, 1, PART.shape).astype(np.float32)
        start = Transform(POSE, FINE.world, PART.world, "Start")
        found = align_boundary(Image(noise, PART, "Noise"), self.t1, self.white, start=start)
        np.testing.assert_allclose(found.transform.matrix, POSE)
        self.assertIn("it stayed where it began", found.report.rows[-1][1])

    def test_all_doors(self):
        series = Image(self.volumes, PART, "EP", axes=(Axis("time", 3, "s", (0.0, 1.4, 2.8)),))
        with Study(self.place / "study", create=True) as study:
            for image in (self.t1, self.white, series):
                keep_thing(study, image)
            study.run("align-boundary", image="EP", onto="T1", white="White")
            (record,) = study.items.of_kind("transform")
            inside = study.thing(record.id)
        self.assertLess(off(inside), 0.15)
        for name, image in (("t1", self.t1), ("w", self.white), ("ep", series)):
            save_image(self.place / f"{name}.nii.gz", image)
        names = [str(self.place / name) for name in ("ep.nii.gz", "t1.nii.gz", "w.nii.gz", "t.tfm")]
        done = kestrelmist("align-boundary", names[0], "--onto", names[1], "--white", names[2], "--out", names[3])
        self.assertEqual(done.returncode, 0, done.stderr)
        np.testing.assert_allclose(read_itk_transform(self.place / "t.tfm").matrix, inside.matrix, atol=1e-3)

    def test_wrong_input(self):
        series = Image(self.volumes[..., 0], PART, "EP")
        t1, white = self.t1, self.white
        for words, given in (
            (
                "goes from 0 to 3",
                (series, t1, Image(np.arange(FINE.shape[0])[:, None, None] % 4 + 0 * white.data, FINE, "W")),
            ),
            ("has no boundary", (series, t1, Image(np.zeros(FINE.shape, np.float32), FINE, "W"))),
            ("field in rad/s or Hz is wanted", (series, t1, white, Image(white.data, FINE, "F"))),
            ("Nothing says in which direction", (series, t1, white, Image(white.data, FINE, "F", unit="Hz"))),
            ("A magnitude tells where a field map lies", (series, t1, white, None, t1)),
        ):
            with self.subTest(words), self.assertRaisesRegex(Trouble, words):
                align_boundary(*given)
        far = Image(series.data, PART.moved(matrix_of((500, 0, 0, 0, 0, 0), (0, 0, 0))), "Far")
        with self.assertRaisesRegex(Trouble, "bring them nearer"):
            align_boundary(far, t1, white)
