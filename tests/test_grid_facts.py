"""Slice times and gradients: they stay with their slices and volumes whatever is done to the grid."""

import itertools
import json
from pathlib import Path

import nibabel as nib
import numpy as np

from kestrelmist.align.transforms import place_by
from kestrelmist.core.axis import Axis
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.formats.beside_nifti import write_sidecar
from kestrelmist.formats.gradients import gradient_texts
from kestrelmist.formats.grid_facts import slice_axis
from kestrelmist.formats.opening import open_image
from kestrelmist.formats.saving import save_image
from kestrelmist.formats.sidecar import KEY, facts_of
from kestrelmist.gather.reorient import reorient, standard_turn
from kestrelmist.prepare.grid.along import project
from kestrelmist.prepare.grid.crop import crop, turn
from kestrelmist.prepare.grid.one_place import one_place
from kestrelmist.prepare.grid.resample import resample
from kestrelmist.prepare.series.motion import correct_motion
from kestrelmist.prepare.series.volumes_of import drop_volumes, time_slices
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.making import PlaceCase, tilted_space

RNG = np.random.default_rng(12)
COUNT, STEP = 24, 2.0


def swapped(order, flips, shape=(5, 6, 8)) -> Space:
    """A grid whose i, j, k run along some world axes, some of them backwards."""
    affine = np.eye(4)
    affine[:3, :3] = 0
    for n, (axis, flip) in enumerate(zip(order, flips)):
        affine[axis, n] = (-1 if flip else 1) * (1.0 + 0.1 * n)
    return Space(shape, affine)


class SliceTimesTest(PlaceCase):
    def wave(self, space: Space, along: int, direction: str = "") -> Image:
        """A wave of 14 s in every voxel, taken slice by slice along an axis."""
        slices = space.shape[along]
        order = [*range(0, slices, 2), *range(1, slices, 2)]
        times = np.empty(slices)
        times[order] = np.arange(slices) * STEP / slices
        t = STEP * np.arange(COUNT) + np.expand_dims(times, [n for n in range(3) if n != along])[..., None]
        data = np.broadcast_to(100 + 10 * np.sin(2 * np.pi * t / 14.0), (*space.shape, COUNT))
        axes = (Axis.even("time", COUNT, STEP, "s"),)
        made = Image(np.asfortranarray(data.astype("f4")), space, "Run", axes=axes)
        listed = times[::-1] if direction.endswith("-") else times
        facts = {"SliceTiming": listed.tolist(), "RepetitionTime": STEP}
        made.facts[KEY] = json.dumps(facts | ({"SliceEncodingDirection": direction} if direction else {}))
        return made

    def off(self, image: Image, to: float = 0.25) -> float:
        """How far a timed series is from what it would have been, had all been taken at once."""
        made = time_slices(image, to=to)
        wanted = 100 + 10 * np.sin(2 * np.pi * (STEP * np.arange(COUNT) + STEP * to) / 14.0)
        found = np.stack([made.frame((n,)).data for n in range(COUNT)], -1)
        return float(np.abs(found[..., 5:-5] - wanted[5:-5]).max())

    def test_after_every_order_of_axes(self):
        for order in itertools.permutations(range(3)):
            for flips in ((False, False, False), (True, False, True), (False, True, True)):
                image = self.wave(swapped(order, flips), 2)
                self.assertLess(self.off(image), 0.15)
                if standard_turn(image.space) == ((0, 1, 2), (False,) * 3):
                    continue
                once = reorient(image)
                self.assertEqual(facts_of(once)["SliceEncodingDirection"], "ijk"[order[2]])
                with self.subTest(order=order, flips=flips):
                    self.assertLess(self.off(once), 0.15)

    def test_twice_and_cut(self):
        """From slices along i, as another program may have left them."""
        for along, direction in ((0, "i"), (1, "j"), (2, "k"), (2, "")):
            for flips in ((False, True, False), (True, True, True)):
                space = swapped((1, 2, 0), flips, (6, 7, 8))
                image = self.wave(space, along, direction)
                self.assertEqual(slice_axis(facts_of(image)), along)
                self.assertLess(self.off(image), 0.15)
                turned = reorient(image)
                self.assertLess(self.off(turned), 0.15)
                labels = LabelMap(turned.space)
                part = crop(turned, labels, voxels=(1, 2, 1, 4, 5, 4))
                self.assertEqual(len(facts_of(part)["SliceTiming"]), 4)
                self.assertLess(self.off(part), 0.15)
                wider = crop(turned, labels, voxels=(-1, -1, -1, 4, 5, 4))
                self.assertNotIn("SliceTiming", facts_of(wider))

    def test_directions_that_count_from_the_end_are_read_so(self):
        for along, direction in ((0, "i-"), (1, "j-"), (2, "k-")):
            image = self.wave(swapped((0, 1, 2), (False,) * 3), along, direction)
            path = self.place / f"{direction}.nii.gz"
            save_image(path, image)
            write_sidecar(path, image)  # as it stands: the last slice first
            back = open_image(path)
            self.assertEqual(facts_of(back)["SliceEncodingDirection"], direction[0])
            self.assertLess(self.off(back), 0.15)
            again = self.place / f"again {direction}.nii.gz"
            save_image(again, back)
            write_sidecar(again, back)
            self.assertLess(self.off(open_image(again)), 0.15)

    def test_a_sidecar_with_the_wrong_number_along_its_axis(self):
        image = self.wave(swapped((0, 1, 2), (False,) * 3), 2)
        image.facts[KEY] = json.dumps(facts_of(image) | {"SliceEncodingDirection": "i"})
        path = self.place / "run.nii.gz"
        save_image(path, image)
        write_sidecar(path, image)
        self.assertIn(
            "5 slices, and its sidecar the times of 8", " ".join(c.sentence for c in open_image(path).caveats)
        )

    def test_another_grid_forgets_them(self):
        image = self.wave(swapped((0, 1, 2), (False,) * 3), 2, "k")
        for made in (resample(image, spacing=(2.0, 2.0, 2.0)), project(image.frame((0,)), "k")):
            self.assertFalse({"SliceTiming", "SliceEncodingDirection"} & set(facts_of(made)))

    def test_through_files_and_a_study(self):
        image = self.wave(swapped((2, 0, 1), (True, False, True)), 2)
        run, turned, timed = (self.place / f"{name}.nii.gz" for name in ("run", "turned", "timed"))
        save_image(run, image)
        write_sidecar(run, image)
        kestrelmist("reorient", run, "--out", turned)
        kestrelmist("time-slices", turned, "--to", "0.25", "--out", timed)
        wanted = 100 + 10 * np.sin(2 * np.pi * (STEP * np.arange(COUNT) + 0.5) / 14.0)
        found = nib.load(timed).get_fdata()
        self.assertLess(np.abs(found[..., 5:-5] - wanted[5:-5]).max(), 0.15)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=run, subject="T-1")
            (key,) = study.run("reorient", image="run")
            (key,) = study.run("time-slices", image=key, to=0.25)
            again = study.image(key)
            self.assertLess(np.abs(again.frame((9,)).data - wanted[9]).max(), 0.15)


class GradientsTest(PlaceCase):
    def setUp(self):
        super().setUp()
        vectors = RNG.normal(size=(7, 3))
        self.world = vectors / np.linalg.norm(vectors, axis=1, keepdims=True)
        self.world[0] = 0
        self.strengths = [0.0, *[1000.0] * 5, 2500.5]

    def series(self, space: Space, name: str = "dwi") -> Path:
        """A NIfTI file with its gradients beside it, which are known in the world."""
        values = RNG.integers(0, 900, (*space.shape, 7)).astype(np.int16)
        header = nib.Nifti1Image(values, space.affine)
        header.header.set_xyzt_units("mm", "sec")
        path = self.place / f"{name}.nii.gz"
        nib.save(header, path)
        axes = space.affine[:3, :3] / np.array(space.spacing)
        own = self.world @ axes * ((-1 if np.linalg.det(axes) > 0 else 1), 1, 1)
        (self.place / f"{name}.bval").write_text(" ".join(map(str, self.strengths)) + "\n")
        np.savetxt(self.place / f"{name}.bvec", own.T, fmt="%.9f")
        return path

    def world_of(self, image: Image) -> np.ndarray:
        """World directions of what an image says, and what would be written beside it, along its own axes."""
        texts = gradient_texts(image)
        vectors = np.array([[float(v) for v in line.split()] for line in texts[".bvec"].splitlines()]).T
        axes = image.space.affine[:3, :3] / np.array(image.space.spacing)
        return (vectors * ((-1 if np.linalg.det(axes) > 0 else 1), 1, 1)) @ axes.T

    def test_read_as_an_axis_of_their_own(self):
        image = open_image(self.series(tilted_space()))
        (axis,) = image.axes
        self.assertEqual((axis.name, axis.size, axis.unit, axis.values), ("direction", 7, "", ()))
        self.assertEqual(axis.labels[-1], "b 2500.5")
        self.assertEqual(facts_of(image)["bValues"], self.strengths)
        np.testing.assert_allclose(self.world_of(image), self.world, atol=1e-6)

    def test_they_turn_with_the_image(self):
        for order in itertools.permutations(range(3)):
            for flips in ((False, False, False), (True, False, False), (True, True, False)):
                image = open_image(self.series(swapped(order, flips, (4, 5, 6))))
                np.testing.assert_allclose(self.world_of(image), self.world, atol=1e-6)
                if standard_turn(image.space) != ((0, 1, 2), (False,) * 3):
                    np.testing.assert_allclose(self.world_of(reorient(image)), self.world, atol=1e-6)
                part = crop(image, LabelMap(image.space), voxels=(1, 1, 1, 3, 3, 3))
                np.testing.assert_allclose(self.world_of(part), self.world, atol=1e-6)
        image = open_image(self.series(tilted_space((8, 8, 8))))
        onto = Image(np.zeros((9, 9, 9), np.uint8), Space((9, 9, 9), np.diag([0.4, 0.4, 0.4, 1.0])), "Onto")
        onto.space = onto.space.moved(np.block([[np.eye(3), image.space.centre[:, None] - 1.6], [0, 0, 0, 1]]))
        np.testing.assert_allclose(self.world_of(resample(image, onto)), self.world, atol=1e-6)

    def test_they_go_with_an_image_that_is_placed_elsewhere(self):
        """Turned as a whole, gradients turn along; mirrored, they are mirrored."""
        image = open_image(self.series(tilted_space()))
        for about, quarters, flip in (("z", 1, False), ("x", 3, False), ("y", 0, True), ("z", 2, True)):
            made = turn(image, about, quarters, flip=flip)
            matrix = (made.space.affine @ image.space.inverse)[:3, :3]
            np.testing.assert_allclose(self.world_of(made), self.world @ matrix.T, atol=1e-6)
            placement = place_by(image, Transform(made.space.affine @ image.space.inverse, name="Turn"))
            placed = image.placed(placement)
            np.testing.assert_allclose(self.world_of(placed), self.world @ matrix.T, atol=1e-6)

    def test_a_head_that_has_turned(self):
        space = Space((24, 24, 20), np.diag([2.0, 2.0, 2.0, 1.0]))
        image = open_image(self.series(space))
        x, y, z = (np.indices(space.shape) - np.array([[[[12]]], [[[12]]], [[[10]]]])) * 2.0
        volumes = []
        for degrees in (0, 0, 4, 4, -5, 0, 3):
            a = np.radians(degrees)
            u, v = np.cos(a) * x + np.sin(a) * y, -np.sin(a) * x + np.cos(a) * y
            volumes.append(1000.0 * ((u / 16) ** 2 + (v / 11) ** 2 + (z / 13) ** 2 < 1) + 300.0 * (u > 4))
        moved = image.like(lambda index, _: np.asfortranarray(volumes[index[0]].astype("f4")))
        still = correct_motion(moved, "first").image
        for n, degrees in enumerate((0, 0, 4, 4, -5, 0, 3)):
            a = np.radians(degrees)
            back = np.array([[np.cos(a), np.sin(a), 0], [-np.sin(a), np.cos(a), 0], [0, 0, 1]])
            np.testing.assert_allclose(self.world_of(still)[n], back @ self.world[n], atol=0.02)

    def test_volumes_left_out_and_one_alone(self):
        image = open_image(self.series(tilted_space()))
        made = drop_volumes(image, 2, 1)
        self.assertEqual(facts_of(made)["bValues"], self.strengths[2:-1])
        np.testing.assert_allclose(self.world_of(made), self.world[2:-1], atol=1e-6)
        self.assertEqual(made.axes[0].labels, ("b 1000",) * 4)
        self.assertEqual(gradient_texts(image.frame((1,))), {})
        self.assertEqual(gradient_texts(one_place(image, "direction", 2)), {})

    def test_through_files_and_a_study(self):
        run = self.series(tilted_space(), "sub-01_dwi")
        kestrelmist("convert", run, "--to", self.place / "out.nii.gz")
        self.assertEqual((self.place / "out.bval").read_text().split(), ["0", *["1000"] * 5, "2500.5"])
        wanted = np.loadtxt(self.place / "sub-01_dwi.bvec")
        np.testing.assert_allclose(np.loadtxt(self.place / "out.bvec"), wanted, atol=1e-7)
        listed = kestrelmist("scan", self.place, "--json").stdout
        self.assertIn("7 directions", listed)
        self.assertNotIn("times", listed)
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=run, subject="T-1")
            study.run("convert", image="dwi", to=str(self.place / "again.nii.gz"))
        np.testing.assert_allclose(np.loadtxt(self.place / "again.bvec"), wanted, atol=1e-7)

    def test_what_does_not_fit_is_said_and_left_out(self):
        space = tilted_space()
        for name, bval, bvec, said in (
            ("short", "0 1000", None, "The file has 7 volumes, and its gradients are 2"),
            ("words", "zero one", None, "cannot be read"),
            ("rows", None, "1 0 0\n0 1 0\n", "and its gradients are 2×3"),
            ("ragged", None, "1 0\n0\n1 2 3\n", "cannot be read"),
            ("none", None, "", "no .bvec beside"),
            ("nan", "0 nan 1 1 1 1 1", None, "cannot be read"),
            ("empty", "", None, "cannot be read"),
        ):
            path = self.series(space, name)
            if bval is not None:
                (self.place / f"{name}.bval").write_text(bval)
            if bvec == "":
                (self.place / f"{name}.bvec").unlink()
            elif bvec is not None:
                (self.place / f"{name}.bvec").write_text(bvec)
            image = open_image(path)
            self.assertIn(said, " ".join(c.sentence for c in image.caveats), name)
            self.assertEqual(image.axes[0].name, "direction" if name == "none" else "time")
        path = self.series(space, "turned")
        np.savetxt(self.place / "turned.bvec", np.loadtxt(self.place / "turned.bvec").T)  # a row a volume
        np.testing.assert_allclose(self.world_of(open_image(path)), self.world, atol=1e-6)


class PositionCodeTest(PlaceCase):
    def test_it_stays(self):
        for code in (1, 2, 3, 4):
            values = nib.Nifti1Image(np.zeros((4, 5, 6), np.int16), tilted_space((4, 5, 6)).affine)
            values.set_sform(values.affine, code)
            values.set_qform(values.affine, code)
            nib.save(values, self.place / "in.nii")
            image = open_image(self.place / "in.nii")
            save_image(self.place / "out.nii.gz", image)
            header = nib.load(self.place / "out.nii.gz").header
            self.assertEqual((int(header["sform_code"]), int(header["qform_code"])), (code, code))
            self.assertEqual(open_image(self.place / "out.nii.gz").space.world, image.space.world)
