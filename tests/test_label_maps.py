import json
import subprocess
import sys
import textwrap

import numpy as np
from scipy import ndimage

from kestrelmist.core.errors import Trouble
from kestrelmist.core.labels import LARGEST, LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.outline.compare import compare_labels
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, straight_space, tilted_space, two_balls
from tests.test_operations import ROOT

GROW = {"label": "Ball", "point": (-4, 0, 0), "low": 500, "high": 2000}
TRUTH = int((two_balls().data > 0).sum())


def ball(space: Space, centre, radius: float, name: str = "Ball") -> LabelMap:
    world = space.to_world(np.indices(space.shape).reshape(3, -1).T)
    inside = ((world - centre) ** 2).sum(1) <= radius**2
    table, _ = LabelTable().with_new(name)
    return LabelMap(space, inside.reshape(space.shape).astype(np.uint16), table)


class CompareTest(PlaceCase):
    def values(self, a: LabelMap, b: LabelMap) -> dict:
        table = compare_labels(a, b)
        return dict(zip([c.name for c in table.columns], table.rows[0]))

    def test_overlap_and_distance_against_formulas(self):
        space = straight_space((60, 50, 40), 0.5)
        a, b = ball(space, (0, 0, 0), 6.0), ball(space, (2.0, 0, 0), 6.0)
        row = self.values(a, b)
        one, two, both = a.data > 0, b.data > 0, (a.data > 0) & (b.data > 0)
        self.assertAlmostEqual(row["dice"], 2 * both.sum() / (one.sum() + two.sum()), places=12)
        self.assertAlmostEqual(row["jaccard"], both.sum() / (one | two).sum(), places=12)
        self.assertAlmostEqual(row["dice"], 2 * row["jaccard"] / (1 + row["jaccard"]), places=12)
        self.assertAlmostEqual(row["volume"], one.sum() * 0.125)
        self.assertAlmostEqual(row["volume_difference"], (int(one.sum()) - int(two.sum())) * 0.125)
        # a lens: the caps of both balls beyond the plane half-way, of height r − d/2
        height = 6.0 - 1.0
        lens = 2 * np.pi * height**2 * (3 * 6.0 - height) / 3
        self.assertAlmostEqual(row["jaccard"], lens / (2 * 4 / 3 * np.pi * 6.0**3 - lens), delta=0.01)
        # surface voxels and their distances by another library
        shells = [m & ~ndimage.binary_erosion(m) for m in (one, two)]
        far = [ndimage.distance_transform_edt(~shells[1 - n], sampling=0.5)[shells[n]] for n in (0, 1)]
        found = np.concatenate(far)
        self.assertAlmostEqual(row["surface_distance_mean"], found.mean(), places=9)
        self.assertAlmostEqual(row["surface_distance_95"], np.percentile(found, 95), places=9)

    def test_the_same_the_empty_and_another_grid(self):
        space = tilted_space((30, 30, 30), (0.5, 0.5, 0.5))
        middle = space.to_world((15, 15, 15))
        a = ball(space, middle, 4.0)
        row = self.values(a, a)
        self.assertEqual((row["dice"], row["jaccard"], row["surface_distance_mean"]), (1.0, 1.0, 0.0))
        nothing = LabelMap(space, table=a.table)
        row = self.values(a, nothing)
        self.assertEqual((row["dice"], row["surface_distance_95"]), (0.0, None))
        self.assertIsNone(self.values(nothing, nothing)["dice"])
        finer = Space((60, 60, 60), space.affine @ np.diag([0.5, 0.5, 0.5, 1.0]))
        self.assertGreater(self.values(a, ball(finer, middle, 4.0))["dice"], 0.97)
        with self.assertRaisesRegex(Trouble, "no label of the same name"):
            compare_labels(a, ball(space, middle, 4.0, "Other"))

    def test_a_flat_picture_is_compared_by_area(self):
        space = Space((40, 30, 1), np.diag([0.001, 0.001, 1.0, 1.0]))
        a = ball(space, (0.02, 0.015, 0), 0.008)
        table = compare_labels(a, ball(space, (0.022, 0.015, 0), 0.008))
        self.assertEqual((table.columns[1].name, table.columns[1].unit), ("area", "mm2"))
        self.assertAlmostEqual(table.rows[0][1], int(a.counts[1]) * 1e-6)


class SeveralMapsTest(PlaceCase):
    def test_make_copy_choose_rename_delete_and_compare(self):
        with self.study_with_balls() as study:
            study.run("grow", **GROW)
            with self.assertRaisesRegex(Trouble, "needs a label map.*there is no other"):
                study.run("compare-labels")
            study.run("new-labels", image=1, name="Anna", copy="Two balls#Labels")
            study.run("erase", label="Ball", point=(4, 0, 0), diameter=20.0)  # Anna's is in hand
            anna, first = study.label_map(study.in_hand(1)), study.label_map(study.label_maps(1)[0].id)
            self.assertEqual(int(first.counts[1]), TRUTH)
            self.assertLess(int(anna.counts[1]), TRUTH)
            (row,) = study.run("compare-labels", labels="Two balls#Labels", other="Two balls#Anna").rows
            self.assertAlmostEqual(row[1] - row[2], row[3])
            # who names nothing does not compare a map with itself
            left_out = study.run("compare-labels", labels="Two balls#Anna")
            self.assertEqual((left_out.title, left_out.rows[0][1]), ("Anna and Labels", row[2]))
            study.run("choose-labels", labels="Two balls#Labels")
            self.assertIs(study.labels(1), first)
            study.run("new-labels", image=1, name="Anna")  # the name is taken: it gets another
            names = [m.name for m in study.label_maps(1)]
            self.assertEqual(len({n.casefold() for n in names}), 3)
            with self.assertRaisesRegex(Trouble, "needs a label map.*Anna"):
                study.run("compare-labels", labels="Two balls#Labels")
            study.run("rename", thing=f"Two balls#{names[-1]}", name="9")
            study.run("paint", labels="Two balls#9", label="Dot", point=(0, 8, 0), diameter=1.0)
            with self.assertRaisesRegex(Trouble, "a label map “anna” on “Two balls” already"):
                study.run("rename", thing="Two balls#9", name="anna")
            key = next(m.id for m in study.label_maps(1) if m.name == "9")
            study.run("delete", thing=key, name="9")
            self.assertEqual([m.name for m in study.label_maps(1)], ["Labels", "Anna"])
            self.assertEqual(list((study.folder / "labels").glob(str(key))), [])
        with Study(self.place / "study") as again:
            self.assertEqual([int(again.label_map(m.id).counts[1]) for m in again.label_maps(1)][0], TRUTH)

    def test_on_the_command_line(self):
        self.study_with_balls().close()
        study = ("--study", self.place / "study")
        point = ("--point", "-4,0,0")
        kestrelmist("grow", "Two balls", "--label", "Ball", *point, "--low", 500, "--high", 2000, *study)
        kestrelmist("new-labels", "Two balls", "--name", "Ben", "--copy", "Two balls#Labels", *study)
        kestrelmist("erase", "--labels", "Two balls#Ben", "--label", "Ball", *point, "--diameter", 4, *study)
        told = json.loads(
            kestrelmist("compare-labels", "Two balls#Labels", "--other", "Two balls#Ben", *study, "--json").stdout
        )
        (row,) = told["rows"]
        self.assertAlmostEqual(row["volume"], TRUTH * 0.125)
        self.assertLess(row["dice"], 1)
        several = kestrelmist("measure-labels", "Two balls", "--labels", "Two balls#Nobody", *study, code=1).stderr
        self.assertIn("Labels", several)

    def test_every_number_can_be_used(self):
        space = Space((4, 1, 1), np.eye(4))
        labels = LabelMap(space, np.array([LARGEST, 1, 0, LARGEST - 1], np.uint16).reshape(4, 1, 1))
        self.assertEqual([row.number for row in labels.table], [1, LARGEST - 1, LARGEST])
        copy = labels.copied()
        np.testing.assert_array_equal(copy.counts, labels.counts)
        copy.data[0] = 0
        self.assertEqual(int(labels.data[0, 0, 0]), LARGEST)


HUGE = """
import sys
import numpy as np
from pathlib import Path
from kestrelmist.study.study import Study
from kestrelmist.study.journal.versions import state_of

def peak():
    # rusage would also tell of what the process that started this one has held
    return float(Path("/proc/self/status").read_text().partition("VmHWM:")[2].split()[0]) / 1024

with Study(Path(sys.argv[1])) as study:
    record = study.records()[0]
    study.image(record.id)
    study.run("paint", label="Warm", point=(1.0, 1.0, 0), diameter=0.01)  # code is loaded
    before = peak()
    middle = tuple(record.space.centre)
    study.run("paint", label="Cell", point=middle, diameter=2.0)
    study.run("name-version", labels=study.in_hand(record.id), name="Now")
    study.run("new-labels", image=record.id, name="Other", copy=study.in_hand(record.id))
    study.run("erase", label="Cell", point=middle, diameter=1.0)
    first, second = (m.id for m in study.label_maps(record.id))
    print(int(study.label_map(first).counts[2]), int(study.label_map(second).counts[2]))
    more = peak() - before
    row = study.run("compare-labels", labels=first, other=second).rows[1]
    print(row[4])
    print(int(state_of(study, first, "Now").counts[2]))
print(more)
with Study(Path(sys.argv[1])) as study:
    files = [f for f in (study.folder / "labels").rglob("*") if f.is_file()]
    print(int(study.label_map(first).counts[2]), sum(f.stat().st_size for f in files))
"""


class HugePictureTest(PlaceCase):
    def test_a_map_on_sixty_by_forty_thousand_pixels_costs_what_is_painted(self):
        import zarr

        folder = self.place / "huge.ome.zarr"
        group = zarr.open_group(str(folder), mode="w", zarr_format=2)
        sizes = [(40_000 >> n, 60_000 >> n) for n in range(7)]
        for n, size in enumerate(sizes):
            group.create_array(str(n), shape=(1, *size), chunks=(1, 1024, 1024), dtype="u1", fill_value=7)
        axes = [{"name": a, "type": "space", "unit": "micrometer"} for a in "zyx"]
        levels = [
            {"path": str(n), "coordinateTransformations": [{"type": "scale", "scale": [1, 0.5 * 2**n, 0.5 * 2**n]}]}
            for n in range(len(sizes))
        ]
        group.attrs["multiscales"] = [{"version": "0.4", "axes": axes, "datasets": levels}]
        with Study(self.place / "study", create=True) as study:
            study.run("gather", folder=folder, subject="T-1")
        ran = subprocess.run(
            [sys.executable, "-c", textwrap.dedent(HUGE), str(self.place / "study")],
            capture_output=True, text=True, cwd=ROOT,
        )  # fmt: skip
        self.assertEqual(ran.returncode, 0, ran.stderr[-3000:])
        counts, dice, then, more, last = ran.stdout.strip().splitlines()
        whole, left = map(int, counts.split())
        self.assertAlmostEqual(whole, np.pi * 1.0**2 / 0.0005**2, delta=whole * 1e-3)
        self.assertAlmostEqual(whole - left, np.pi * 0.5**2 / 0.0005**2, delta=whole * 1e-3)
        self.assertAlmostEqual(float(dice), 2 * left / (left + whole), places=9)
        self.assertEqual(int(then), whole)
        kept, size = map(int, last.split())
        self.assertEqual(kept, whole)
        self.assertLess(size, 20e6)
        self.assertLess(float(more), 200, "MB more at the most")


class SeveralMapsDeskTest(DeskCase):
    def test_in_the_window(self):
        with self.study_with_balls() as study:
            study.run("grow", **GROW)
        window = self.open(self.place / "study")
        window.desk.viewing.set_stage("Outline")
        self.settle(window)
        group = window.bench.outline.groups["label maps"]
        group.make("Anna", window.desk.viewing.maps.map.id)
        self.settle(window)
        self.assertEqual((group.choice.currentText(), group.choice.count()), ("Anna", 2))
        self.assertEqual(window.desk.viewing.maps.map.name, "Anna")
        anna = window.desk.viewing.maps.labels
        self.assertEqual(int(anna.counts[1]), TRUTH)
        window.desk.session.run(
            "erase",
            {
                "labels": window.desk.viewing.maps.map.id,
                "image": 1,
                "label": "Ball",
                "point": (-4, 0, 0),
                "diameter": 8.0,
            },
        )
        self.settle(window)
        lead = window.table.lead.canvas
        plain = lead.render_pixels().copy()
        self.assertTrue(group.others.isVisibleTo(group))
        group.others.setChecked(True)
        self.settle(window)
        self.assertGreater(int((lead.render_pixels() != plain).sum()), 30)  # edges of the first one show
        group.choice.setCurrentIndex(0)
        group.choice.activated.emit(0)
        self.settle(window)
        self.assertEqual(int(window.desk.viewing.maps.labels.counts[1]), TRUTH)
        self.assertIsNot(window.desk.viewing.maps.labels, anna)
        window.desk.session.undo()  # the erasing in the other map, wherever one looks
        self.settle(window)
        self.assertEqual(int(anna.counts[1]), TRUTH)
        self.assertEqual(self.troubles, [])
