"""The mean of twenty dormice with their regions, as a standard space: made by the program's own alignment.

Run as `python -m kestrelmist.demo.mean_animal FOLDER`; the pack that comes with the program was made so.
"""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np

from ..align.template import build_template
from ..core.image import Image
from ..core.labels import Label, LabelMap, LabelTable
from ..core.progress import Progress, silent
from ..core.through import resampled_through
from ..formats.label_files import write_label_map
from ..formats.pack import Pack, Region, write_pack
from ..formats.saving import save_image
from .animal import make_animal
from .regions import TREE, names, regions_of
from .scans import centred_space, scan_ct, scan_mr
from .truth import true_shares

ANIMALS, FIRST = 20, 201
"""How many, and the seed of the first; none of them is one of the demo, the tests or the truth."""
SPACE = centred_space((124, 148, 112), (0.2, 0.2, 0.2))
SHARES = ("grey", "white", "fluid")
COLOURS = ("#D98A6A", "#8FB58C", "#6FA0B8", "#C9B36A", "#A48BB5", "#B8756F", "#7FA98F", "#8895C2", "#C79A7A", "#9DB27A")
LICENCE = "Made up by a computer. Free for any use, without conditions (CC0 1.0)."


def make_pack(folder: Path, animals: int = ANIMALS, progress: Progress | None = None) -> Pack:
    """Make the pack in a folder: templates of three contrasts, a mask, shares of tissues, regions."""
    progress = progress or silent()
    group, scans, shares, regions = [], [], [], []
    for n in range(animals):
        progress.at(0.15 * n / animals, f"Making animal {n + 1}")
        animal = make_animal(f"HM-{FIRST + n}", FIRST + n)
        group.append(Image(scan_mr(animal, SPACE), SPACE, "T1", modality="MR", subject=animal.name))
        scans.append([scan_mr(animal, SPACE, weighting="T2").T, scan_ct(animal, SPACE, noise=20.0).T])
        shares.append(true_shares(animal, SPACE, 2))
        regions.append(regions_of(animal, SPACE))
    for one in group:  # one scanner, one sequence: contrasts are alike
        one.facts |= {"EchoTime": "0.01", "RepetitionTime": "2"}
    name = "Hollowmere mean dormouse"
    found = build_template(group[0], group[1:], warps=2, name=name, progress=progress.part(0.15, 0.9))
    sums = [np.zeros(SPACE.shape[::-1], np.float32) for _ in range(5)]
    counts = np.zeros((len(names()) + 1, *SPACE.shape[::-1]), np.uint8)
    for n, way in enumerate(found.transforms):
        progress.at(0.9 + 0.1 * n / animals, "Bringing the others into the mean")
        way = way.prepared()
        parts = [*scans[n], *(np.ascontiguousarray(shares[n][..., m].T) for m in range(3))]
        for total, part in zip(sums, parts):
            brought = resampled_through(part.astype(np.float32), SPACE, SPACE, way, "linear", np.nan)
            total += np.where(np.isfinite(brought), brought, part.min()) / animals
        brought = resampled_through(regions[n], SPACE, SPACE, way, "nearest", 0)
        for number in np.unique(brought):
            counts[number] += brought == number
    return _written(folder, name, found.template, sums, counts.argmax(0).astype(np.uint16))


def _written(folder: Path, name: str, template: Image, sums: list[np.ndarray], numbers: np.ndarray) -> Pack:
    folder.mkdir(parents=True, exist_ok=True)
    space = template.space

    def save(file: str, values: np.ndarray, unit: str = "") -> str:
        save_image(folder / file, Image(values.T, space, Path(file).name.split(".")[0], unit=unit))
        return file

    t2, ct, *shares = sums
    templates = {
        "T1": save("T1.nii.gz", np.rint(template.kji).astype(np.int16)),
        "T2": save("T2.nii.gz", np.rint(t2).astype(np.int16)),
        "CT": save("CT.nii.gz", np.rint(ct).astype(np.int16), "HU"),
    }
    tissues = {
        name: save(f"{name}.nii.gz", np.round(np.clip(part, 0, 1), 2).astype(np.float32))
        for name, part in zip(SHARES, shares)
    }
    brain = [number for number, _, group, _ in names() if group != "Head" and number]
    mask = np.isin(numbers, brain).astype(np.uint16)
    write_label_map(
        folder / "brain.nii.gz", LabelMap(space, mask.T, LabelTable([Label(1, "Brain", "#D98A6A")]), "Brain")
    )
    kinds = [member for members in TREE.values() for member in members]
    regions = [
        Region(number, region, group, side, COLOURS[kinds.index(region.split(",")[0]) % len(COLOURS)])
        for number, region, group, side in names()
    ]
    table = LabelTable([Label(one.number, one.name, one.colour) for one in regions])
    write_label_map(folder / "regions.nii.gz", LabelMap(space, numbers.T, table, "Regions"))
    pack = Pack(
        folder,
        name,
        "1",
        "hazel dormouse (made up)",
        f"The mean of {ANIMALS} made-up animals of the field station Hollowmere, built by turns of alignment",
        LICENCE,
        templates,
        {"Brain": "brain.nii.gz"},
        tissues,
        {"Regions": "regions.nii.gz"},
        {"Regions": tuple(regions)},
    )
    write_pack(pack)
    return pack


if __name__ == "__main__":
    made = make_pack(
        Path(sys.argv[1]), progress=Progress(lambda f, what: print(f"{100 * f:5.1f} % {what}", flush=True))
    )
    print(made.folder)
