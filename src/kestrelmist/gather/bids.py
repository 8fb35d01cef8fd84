"""A folder of scans as a BIDS-style folder: what each image is, where it goes, and a table of what became what."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import FolderPath, NewPath
from ..core.progress import Progress, silent
from ..core.safe_write import write_trouble, written_whole
from ..core.table import Column, Table
from ..formats.beside_nifti import write_sidecar
from ..formats.nifti import save_nifti
from ..formats.sidecar import facts_of
from .plan import plan_folder
from .subject_rule import SubjectRule

VERSION = "1.10.0"
ANATOMICAL = (
    ("flair", "FLAIR"),
    ("t1", "T1w"),
    ("t2\\*|t2star", "T2starw"),
    ("t2", "T2w"),
    ("pd|proton", "PDw"),
    ("angio|tof", "angio"),
    ("swi", "swi"),
)
"""What series are called, and the suffix of their kind."""


@dataclass(frozen=True)
class Target:
    """Where an image goes: `folder` is the data type ("" when the standard has none for it), `suffix` its ending."""

    folder: str
    suffix: str
    entities: str = ""


@operation(
    "gather", "Convert a folder to BIDS", name="convert-folder", keywords="bids nifti sidecar dicom whole study sort"
)
def convert_folder(
    folder: FolderPath,
    to: NewPath,
    *,
    subject_from: Literal["patient id", "patient name", "folder", "file name"] = "patient id",
    subject_pattern: str = "(.+)",
    session: str = "",
    progress: Progress = silent(),
) -> Table:
    """Convert every image below a folder to NIfTI with sidecars, sorted as the BIDS standard sorts them.

    Nothing that is there is replaced; what cannot be converted is named in the table with the reason. Images the
    standard has no place for go to a folder "extra" under the same kind of name.

    Parameters
    ----------
    folder : path
        Where the scans are, nested and unsorted as they may be.
    to : path
        The new study folder; made when it is not there.
    subject_from : text
        Where the subject's name is taken from.
    subject_pattern : text
        Regular expression; its first group is the subject.
    session : text
        Session label for all images; none when left out.

    Raises
    ------
    Trouble
        When the folder holds no image, or the place cannot be written.
    """
    to = Path(to)
    lines = [
        line
        for line in plan_folder(folder, SubjectRule(subject_from, subject_pattern), progress=progress.part(0.0, 0.15))
        if line.is_image
    ]
    if not lines:
        raise Trouble("There is no image in this folder", "choose the folder that holds the scans", folder)
    return convert_images(
        [Source(line.name, line.subject, line.seems, line.open) for line in lines],
        Path(to),
        session,
        progress.part(0.15, 1.0),
    )


@dataclass(frozen=True)
class Source:
    """An image to be converted: what it is called, whose it is, what it seems to be, and `open(progress)` that gives
    it."""

    name: str
    subject: str
    seems: str
    open: Callable[[Progress], Image]


def convert_images(sources: list[Source], to: Path, session: str = "", progress: Progress | None = None) -> Table:
    """Write images into a BIDS-style folder; see `convert_folder`."""
    progress = progress or silent()
    if to.exists() and not to.is_dir():
        raise Trouble("There is a file of this name already", "name a folder", to)
    try:
        to.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise write_trouble(error, to) from error
    table = Table(
        "Converted", [Column("source"), Column("subject"), Column("seems"), Column("file"), Column("problem")]
    )
    subjects: set[str] = set()
    for n, source in enumerate(sources):
        part = progress.part(n / len(sources), (n + 1) / len(sources))
        try:
            image = source.open(part.part(0.0, 0.1))
            path = _free(to, image, label(source.subject), label(session))
            path.parent.mkdir(parents=True, exist_ok=True)
            save_nifti(path, image, part.part(0.1, 1.0))
            write_sidecar(path, image)
            _add_task(path, image)
        except Trouble as trouble:
            table.rows.append((source.name, source.subject, source.seems, "", str(trouble)))
            continue
        subjects.add(f"sub-{label(source.subject)}")
        table.rows.append(
            (
                source.name,
                source.subject,
                source.seems,
                str(path.relative_to(to)),
                "; ".join(c.sentence for c in image.caveats),
            )
        )
    _write_study_files(to, subjects)
    table.save_csv(to / "converted.csv")
    return table


def label(text: str) -> str:
    """A BIDS label: letters and digits only."""
    return re.sub(r"[^0-9A-Za-z]", "", text)


def target_of(image: Image) -> Target:
    """Data type and suffix of an image, from what its header and its name say."""
    facts, name = facts_of(image), image.name.lower()
    component = facts.get("ImageComponent", "")
    along = {a.name: a.size for a in image.axes}
    part = "_part-phase" if component == "phase" else ""
    if image.modality == "MR":
        if "bValues" in facts or "direction" in along:
            return Target("dwi", "dwi", part)
        is_map = re.search(r"field ?map|fmap|gre_field|b0 ?map|phase ?diff", name)
        if component == "phase" and (is_map or along.get("echo", 1) == 1 and "time" not in along):
            return Target("fmap", "phasediff" if "diff" in name else "phase1")
        if is_map:
            return Target("fmap", "magnitude1")
        if (
            "time" in along
            or "EP" in str(facts.get("ScanningSequence", ""))
            and re.search(r"bold|fmri|run|task|rest", name)
        ):
            return Target(
                "func", "bold" if "time" in along else "sbref", f"_task-{label(image.name) or 'unknown'}{part}"
            )
        for words, suffix in ANATOMICAL:
            if re.search(rf"(?:^|[^a-z]){'(?:' + words + ')'}", name):
                return Target("anat", suffix, part)
        return Target("", "MR", part)
    if image.modality == "PT":
        return Target("pet", "pet")
    return Target("", label(image.modality) or "image")


def _free(to: Path, image: Image, subject: str, session: str) -> Path:
    """A path that nothing has yet; "run-2" and so on when an image of this kind is there."""
    if not subject:
        raise Trouble(f"The subject of “{image.name}” is not known", "give a pattern that finds it")
    target = target_of(image)
    folder = to / f"sub-{subject}" if target.folder else to / "extra" / f"sub-{subject}"
    start = f"sub-{subject}"
    if session:
        folder, start = folder / f"ses-{session}", f"{start}_ses-{session}"
    if not target.folder:
        start += f"_desc-{label(image.name)}"
    for n in range(1, 1000):
        run = f"_run-{n}" if n > 1 else ""
        path = folder / target.folder / f"{start}{target.entities}{run}_{target.suffix}.nii.gz"
        if not path.exists():
            return path
    raise Trouble(f"There are too many images called “{image.name}”", "choose another folder", to)


def _add_task(path: Path, image: Image) -> None:
    """The task's name, which the standard wants in the sidecar of a functional series."""
    sidecar = path.with_name(path.name.removesuffix(".nii.gz") + ".json")
    if "_task-" in path.name:
        facts = json.loads(sidecar.read_text()) if sidecar.exists() else {}
        with written_whole(sidecar) as stream:
            stream.write((json.dumps({"TaskName": image.name} | facts, indent=2, ensure_ascii=False) + "\n").encode())


def _write_study_files(to: Path, subjects: set[str]) -> None:
    from .. import VERSION as PROGRAM

    description = to / "dataset_description.json"
    if not description.exists():
        with written_whole(description) as stream:
            stream.write(
                (
                    json.dumps(
                        {
                            "Name": to.resolve().name,
                            "BIDSVersion": VERSION,
                            "DatasetType": "raw",
                            "GeneratedBy": [{"Name": "Kestrelmist", "Version": PROGRAM}],
                        },
                        indent=2,
                    )
                    + "\n"
                ).encode()
            )
    with written_whole(to / "README") as stream:
        stream.write(b"Converted with Kestrelmist. converted.csv says which file came from which series.\n")
    participants = to / "participants.tsv"
    known = set(participants.read_text().split()[1:]) if participants.exists() else set()
    with written_whole(participants) as stream:
        stream.write(("participant_id\n" + "".join(f"{s}\n" for s in sorted(known | subjects))).encode())
    ignore = to / ".bidsignore"
    if not ignore.exists():
        with written_whole(ignore) as stream:
            stream.write(b"extra/\nconverted.csv\n")
