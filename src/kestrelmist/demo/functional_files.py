"""Files of a functional run and of what is true of it, and whole animals on demand."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterable
from pathlib import Path

import numpy as np

from ..core.axis import Axis
from ..core.errors import Trouble
from ..core.image import Image
from ..core.labels import LabelMap, LabelTable
from ..core.progress import Progress, silent
from ..core.safe_write import written_whole
from ..core.space import Space
from ..formats.beside_nifti import write_sidecar
from ..formats.label_files import write_label_map
from ..formats.saving import save_image
from ..formats.sidecar import KEY
from .animal import make_animal
from .functional_run import DIRECTION, ECHO, MAP_ECHOES, REPEAT, SPACING, FunctionalRun, slice_times
from .off_resonance import FIELD_STRENGTH
from .scans import coil, head_mr_space, head_t2_space, scan_mr
from .truth import true_labels, true_shares

MOTION = ("trans_x", "trans_y", "trans_z", "rot_x", "rot_y", "rot_z")
TISSUES = ("grey", "white", "fluid")


def write_truth_of_run(folder: Path, run: FunctionalRun) -> None:
    """What is true of a run: motion, field, the signal that stays, the brain as it lies in it and where it would lie,
    the run's look without distortion, the coil's brightness, heart and breath."""
    folder.mkdir(parents=True, exist_ok=True)
    rows = [",".join(["volume", *MOTION])]
    rows += [",".join([str(n + 1), *(f"{v:.7g}" for v in row)]) for n, row in enumerate(run.moved)]
    _text(folder / "motion.csv", "\n".join(rows) + "\n")
    moments = REPEAT * np.arange(run.times)
    pulses = np.stack([moments, run.pulse(moments), run.breath(moments), run.answer(moments)], 1)
    rows = ["time,pulse,breath,odour", *(",".join(f"{v:.7g}" for v in row) for row in pulses)]
    _text(folder / "pulse and breath.csv", "\n".join(rows) + "\n")
    field = run.true_field(run.space)
    for name, values, unit in (
        ("field", field, "Hz"),
        ("shift", field * run.voxels_a_hz, "voxels"),
        ("signal that stays", run.kept_signal(), ""),
        ("without distortion", run.undistorted(), ""),
        ("brightness of the coil", run.coil(run.space).T, ""),
    ):
        _image(folder / f"{name}.nii.gz", values, run.space, unit)
    _labels(folder / "brain in the run.nii.gz", run.true_brain(True), run.space, ("Brain",))
    _labels(folder / "brain without distortion.nii.gz", run.true_brain(False), run.space, ("Brain",))


def write_animal(folder: Path, seed: int, times: int = 40, progress: Progress | None = None) -> Path:
    """An animal of any seed: T1 and T2 of the head, a functional run with its single volume and field map as NIfTI with
    sidecars, and the truth of all; returns the folder, which is named after the animal."""
    progress = progress or silent()
    progress.at(0.0, f"Making the animal of seed {seed}")
    animal = make_animal(name_of(seed), seed)
    place = folder / animal.name
    truth = place / "truth"
    truth.mkdir(parents=True)
    for n, (weighting, noise, space) in enumerate((("T1", 0.028, head_mr_space()), ("T2", 0.02, head_t2_space()))):
        progress.at(0.3 + 0.1 * n, f"Scanning {animal.name}")
        _image(place / f"head {weighting}.nii.gz", scan_mr(animal, space, noise, weighting), space)
        _image(truth / f"head {weighting}, brightness of the coil.nii.gz", coil(space).T, space)
        _labels(truth / f"head {weighting}, brain.nii.gz", true_labels(animal, ["Brain"], space), space, ("Brain",))
    space = head_mr_space()
    shares = true_shares(animal, space)
    for n, tissue in enumerate(TISSUES):
        _image(truth / f"head T1, {tissue}.nii.gz", shares[..., n], space)
    progress.at(0.6, f"A run of {animal.name}")
    run = FunctionalRun(animal, times)
    write_run(place, run, progress.part(0.6, 0.9))
    write_truth_of_run(truth, run)
    return place


def write_animals(folder: Path, seeds: Iterable[int], times: int, progress: Progress) -> list[Path]:
    """Animals of several seeds, each in a folder of its own; each is made beside and named when it is whole.

    Raises
    ------
    Trouble
        When an animal is there already.
    """
    seeds, made = list(seeds), []
    folder.mkdir(parents=True, exist_ok=True)
    for n, seed in enumerate(seeds):
        place = folder / name_of(seed)
        if place.exists():
            raise Trouble("This animal is there already", "take it away, or choose another seed or folder", place)
        beside = folder / f".{place.name}.{os.getpid()}.part"
        try:
            write_animal(beside, seed, times, progress.part(n / len(seeds), (n + 1) / len(seeds))).rename(place)
        finally:
            shutil.rmtree(beside, ignore_errors=True)
        made.append(place)
    return made


def name_of(seed: int) -> str:
    """What the animal of a seed is called."""
    return f"HM-{seed:02d}"


def write_run(
    folder: Path, run: FunctionalRun, progress: Progress | None = None, lies: np.ndarray | None = None
) -> None:
    """The run, its single volume and its field map as NIfTI, each with its sidecar. `lies` is how the world of the
    files lies to that of the anatomy, (4, 4), as on another day; as it does when left out."""
    progress = progress or silent()
    space, map_space = (one if lies is None else one.moved(lies) for one in (run.space, run.map_space))
    common = {"Modality": "MR", "MagneticFieldStrength": FIELD_STRENGTH}
    lines = {
        **common,
        "EchoTime": ECHO,
        "RepetitionTime": REPEAT,
        "PhaseEncodingDirection": DIRECTION,
        "EffectiveEchoSpacing": SPACING,
        "TotalReadoutTime": round(SPACING * (run.space.shape[1] - 1), 9),
        "SliceTiming": [round(float(t), 6) for t in slice_times(run.space.shape[2])],
    }
    volumes = np.empty((*run.space.shape, run.times), np.uint16, order="F")
    for n in range(run.times):
        progress.at(n / run.times, "Taking volumes")
        volumes[..., n] = run.volume(n)
    series = Image(volumes, space, axes=(Axis.even("time", run.times, REPEAT, "s"),))
    _with_sidecar(folder / "odour run.nii.gz", series, lines)
    _with_sidecar(folder / "odour run, single volume.nii.gz", Image(run.reference(), space), lines)
    sizes, phases, difference = run.field_map()
    for n, echo in enumerate(MAP_ECHOES):
        said = {**common, "EchoTime": echo}
        for kind, values in (("magnitude", sizes[n]), ("phase", phases[n])):
            _with_sidecar(folder / f"field map, {kind} {n + 1}.nii.gz", Image(values, map_space), said)
    said = {**common, "EchoTime1": MAP_ECHOES[0], "EchoTime2": MAP_ECHOES[1]}
    _with_sidecar(folder / "field map, phase difference.nii.gz", Image(difference, map_space), said)


def _with_sidecar(path: Path, image: Image, facts: dict) -> None:
    image.facts = {KEY: json.dumps(facts)}
    save_image(path, image)
    write_sidecar(path, image)


def _image(path: Path, values: np.ndarray, space: Space, unit: str = "") -> None:
    kind = np.float32 if values.dtype.kind == "f" else values.dtype
    save_image(path, Image(np.asfortranarray(values, kind), space, unit=unit))


def _labels(path: Path, values: np.ndarray, space: Space, names: tuple[str, ...]) -> None:
    table = LabelTable()
    for name in names:
        table, _ = table.with_new(name)
    write_label_map(path, LabelMap(space, np.asfortranarray(values, np.uint16), table))


def _text(path: Path, text: str) -> None:
    with written_whole(path) as stream:
        stream.write(text.encode())
