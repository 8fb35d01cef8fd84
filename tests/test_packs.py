"""Standard spaces: packs as folders, in a study, and places in them."""

import json

import numpy as np

from kestrelmist.align.lay import hand_matrix
from kestrelmist.align.packs import make_pack, shipped, standard_place
from kestrelmist.core.errors import Trouble
from kestrelmist.core.image import Image
from kestrelmist.core.labels import LabelMap, LabelTable
from kestrelmist.core.space import Space
from kestrelmist.core.transform import Transform
from kestrelmist.core.world import World
from kestrelmist.demo.regions import names
from kestrelmist.formats.pack import STANDARD, read_pack
from kestrelmist.formats.saving import save_image
from kestrelmist.study.recipes.cohort import run_cohort
from kestrelmist.study.recipes.of_logbook import recipe_of
from kestrelmist.study.study import Study
from tests.command import kestrelmist
from tests.desk_case import DeskCase
from tests.making import PlaceCase, keep_thing, straight_space

SPACE = straight_space((30, 28, 26), 0.5)
SHIFT = hand_matrix((4.0, -3.0, 2.0), (0, 0, 0), 1, (0, 0, 0))


def template() -> tuple[Image, LabelMap]:
    """A template with two regions, left and right of the middle."""
    i, j, k = np.indices(SPACE.shape)
    values = (100 * np.exp(-(((i - 15) / 8) ** 2) - ((j - 14) / 7) ** 2 - ((k - 12) / 6) ** 2)).astype(np.float32)
    numbers = np.where(values > 30, np.where(i < 15, 1, 2), 0).astype(np.uint16)
    table, _ = LabelTable().with_new("Core, left")
    table, _ = table.with_new("Core, right")
    return Image(values, SPACE, "Mean"), LabelMap(SPACE, numbers, table, "Parts")


class PackTest(PlaceCase):
    def make(self):
        image, labels = template()
        share = Image(np.asarray(image.data) / 100, SPACE, "grey")
        told = make_pack(image, self.place / "pack", labels, others=[share], name="Test animal", version="3",
                         licence="Free")  # fmt: skip
        self.assertEqual(told.rows[0][:4], ("Test animal", "3", 2, 2))
        return self.place / "pack"

    def test_written_and_read(self):
        pack = read_pack(self.make())
        self.assertEqual((pack.name, pack.version, pack.licence), ("Test animal", "3", "Free"))
        self.assertEqual(
            (list(pack.templates), list(pack.tissues), list(pack.atlases)), (["Mean"], ["grey"], ["Parts"])
        )
        self.assertEqual([(r.number, r.name, r.side) for r in pack.regions["Parts"]],
                         [(1, "Core, left", "left"), (2, "Core, right", "right")])  # fmt: skip
        image = pack.image("Mean")
        self.assertEqual((image.space.world.id, image.subject), ("Test animal 3", "Test animal"))
        self.assertEqual(image.facts[STANDARD], "Test animal")
        np.testing.assert_allclose(image.data, template()[0].data, atol=1e-4)
        labels = pack.label_map("Parts")
        np.testing.assert_array_equal(labels.kji, template()[1].kji)
        with self.assertRaisesRegex(Trouble, "There is a file of this name already"):
            self.make()

    def test_wrong_packs(self):
        folder = self.make()
        facts = json.loads((folder / "pack.json").read_text())
        for words, change in (
            ("says no name", {"name": " "}),
            ("names no template", {"templates": {}}),
            ("lies outside its folder", {"templates": {"T": "../x.nii.gz"}}),
            ("is not there", {"templates": {"T": "gone.nii.gz"}}),
            ("is no list of names and files", {"masks": ["a"]}),
        ):
            (folder / "pack.json").write_text(json.dumps(facts | change))
            with self.subTest(words), self.assertRaisesRegex(Trouble, words):
                read_pack(folder)
        (folder / "pack.json").write_text("{")
        with self.assertRaisesRegex(Trouble, "is no JSON"):
            read_pack(folder)
        (folder / "pack.json").write_text(json.dumps(facts))
        next(folder.glob("*.tsv")).unlink()
        with self.assertRaisesRegex(Trouble, "The regions of this atlas have no names"):
            read_pack(folder / "pack.json")
        with self.assertRaisesRegex(Trouble, "has no pack.json"):
            read_pack(self.place)
        image, labels = template()
        other = Image(np.zeros((4, 4, 4), np.float32), Space((4, 4, 4), np.eye(4)), "Other")
        with self.assertRaisesRegex(Trouble, "lies on another grid"):
            make_pack(image, self.place / "new", labels, others=[other])
        with self.assertRaisesRegex(Trouble, "has no region with a name"):
            make_pack(image, self.place / "new", LabelMap(SPACE))
        self.assertFalse((self.place / "new").exists())

    def test_the_mean_dormouse_that_comes_with_the_program(self):
        pack = read_pack(shipped())
        self.assertEqual(pack.name, "Hollowmere mean dormouse")
        self.assertEqual(sorted(pack.templates), ["CT", "T1", "T2"])
        regions = pack.regions["Regions"]
        self.assertGreaterEqual(len(regions), 24)
        self.assertEqual([(r.number, r.name, r.group, r.side) for r in regions], names())
        self.assertGreaterEqual(len({r.group for r in regions}), 4)
        labels = pack.label_map("Regions")
        self.assertTrue(all(labels.counts[r.number] > 50 for r in regions), labels.counts[:40])
        # left is left: regions of a pair lie on their side, and are about as large
        for region in regions:
            if region.side == "left":
                at = np.argwhere(labels.kji == region.number)
                self.assertLess(labels.space.to_world(at[:, ::-1])[:, 0].mean(), -0.1, region.name)
                twin = next(r for r in regions if r.name == region.name.replace("left", "right"))
                share = labels.counts[region.number] / labels.counts[twin.number]
                self.assertTrue(0.7 < share < 1.4, (region.name, share))
        size = sum(path.stat().st_size for path in shipped().iterdir())
        self.assertLess(size, 20e6)

    def test_in_a_study_and_a_place_in_it(self):
        folder = self.make()
        with Study(self.place / "study", create=True) as study:
            study.run("open-pack", folder=folder)
            records = {record.name: record for record in study.records()}
            self.assertEqual(sorted(records), ["Mean", "grey"])
            (parts,) = study.label_maps(records["Mean"].id)
            self.assertEqual(parts.name, "Parts")
            self.assertEqual([row.name for row in study.label_map(parts.id).table], ["Core, left", "Core, right"])
            with self.assertRaisesRegex(Trouble, "is in the study already"):
                study.run("open-pack", folder=folder)
            study.history.undo()
            self.assertEqual(study.records(), [])
            study.history.redo()
            own = Image(np.ones((20, 20, 20), np.float32), straight_space((20, 20, 20)), "Head", subject="HM-1")
            keep_thing(study, own)
            head = next(r for r in study.records() if r.name == "Head")
            way = Transform(SHIFT, head.grid.world, records["Mean"].grid.world, "Way")
            with self.assertRaisesRegex(Trouble, "no transform"):
                study.run("standard-place", image="Head", template="Mean", point=(1, 2, 3))
            keep_thing(study, way)
            there = study.run("standard-place", image="Head", template="Mean", point=(-5, 3, -2), atlas="Mean#Parts")
            self.assertEqual(there.rows[1][1:4], (-1.0, 0.0, 0.0))
            self.assertEqual(there.rows[1][5:], (1, "Core, left"))
            back = study.run("standard-place", image="Head", template="Mean", point=(-1, 0, 0), back=True)
            self.assertEqual(back.rows[0][1:4], (-5.0, 3.0, -2.0))

    def test_a_recipe_finds_the_standard_space_and_the_way_of_the_next_subject(self):
        folder = self.make()
        moves = {f"HM-{n}": hand_matrix((n, -n, 0.5), (0, 0, 3 * n), 1, (0, 0, 0)) for n in (1, 2)}
        with Study(self.place / "study", create=True) as study:
            study.run("open-pack", folder=folder)
            for subject, move in moves.items():
                space = SPACE.moved(move).in_world(World(subject, subject))
                keep_thing(study, Image(np.asarray(template()[0].data), space, "Head", subject=subject))
            study.run("align", image="HM-1/Head", onto="Test animal/Mean", freedom="6")
            study.run("bring-labels", image="HM-1/Head", source="Test animal/Mean#Parts")
            recipe = recipe_of(study.logbook.entries())
            self.assertEqual([slot.kind for slot in recipe.slots], ["image", "image"])  # the way is found anew
            table = run_cohort(study, recipe, workers=0)
            self.assertEqual([row[0] for row in table.rows], ["HM-1", "HM-2"])  # a standard space is no subject
            second = next(r for r in study.records() if r.subject == "HM-2")
            labels = study.labels(second.id)
            self.assertEqual([row.name for row in labels.table], ["Core, left", "Core, right"])
            wanted = template()[1].kji
            self.assertGreater((labels.kji == wanted).mean(), 0.98)

    def test_places_of_files(self):
        image, labels = template()
        found = standard_place(image, image, point=(2.0, 0.0, 0.0), atlas=labels)
        self.assertEqual(found.rows[1][-1], "Core, right")
        save_image(self.place / "t.nii.gz", image)
        kestrelmist("make-pack", self.place / "t.nii.gz", "--to", self.place / "made", "--name", "By command")
        self.assertEqual(read_pack(self.place / "made").world.id, "By command 1")


class StandardDeskTest(DeskCase):
    def test_coordinates_regions_outlines_and_typed_places(self):
        image, labels = template()
        make_pack(image, self.place / "pack", labels, name="Test animal")
        with Study(self.place / "study", create=True) as study:
            study.run("open-pack", folder=self.place / "pack")
            moved = SPACE.moved(np.linalg.inv(SHIFT))
            keep_thing(study, Image(np.asarray(image.data) + 1, moved, "Head", subject="HM-1"))
            mean, head = (next(r for r in study.records() if r.name == name) for name in ("Mean", "Head"))
            keep_thing(study, Transform(SHIFT, head.grid.world, mean.grid.world, "Way"))
        window = self.open(self.place / "study")
        desk = window.desk
        desk.viewing.show_image(head.id)
        self.settle(window)
        desk.viewing.go_to((-5.0, 3.0, -2.0))
        self.settle(window)
        told = dict(window.bench.here.told)
        self.assertEqual(told["Standard"], "−1.00 +0.00 +0.00")
        self.assertEqual(told["Region"], "Core, left")
        self.assertIn("Core, left", window.readout.fields["Standard"].text())
        go = window.bench.look.go
        go.setText("s 2 1 0")
        go.returnPressed.emit()
        self.settle(window)
        np.testing.assert_allclose(desk.viewing.crosshair, (-2.0, 4.0, -2.0), atol=1e-9)
        self.assertEqual(dict(window.bench.here.told)["Region"], "Core, right")
        # laid over, its regions are drawn as edges where they lie in this head
        desk.layers.lay_over(mean.id)
        self.settle(window)
        (outlines,) = desk.layers.outlines()
        self.assertEqual(outlines.thing.at((-5.0, 3.0, -2.0)), 1)
        desk.layers.set_shown(mean.id, False)
        self.assertEqual(desk.layers.outlines(), [])
        # the standard space itself
        desk.viewing.show_image(mean.id)
        self.settle(window)
        desk.viewing.go_to((2.0, 1.0, 0.0))
        self.settle(window)
        self.assertEqual(dict(window.bench.here.told)["Region"], "Core, right")
