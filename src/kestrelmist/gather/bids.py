"""A folder of scans as a BIDS-style folder: what each image is, where it goes, and a table of what became what."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from ..core.errors import Trouble
from ..core.image import Image
from ..core.operation import operation
from ..core.parameter import FolderPath, NewPath
from ..core.progress import Progress, silent
from ..core.safe_write import write_trouble
from ..core.table import Column, Table
from ..formats.beside_nifti import write_sidecar
from ..formats.bids_names import FACT
from ..formats.nifti import save_nifti
from .bids_folder import NAME, Participants, write_converted, write_study_files
from .bids_rules import without_place
from .bids_targets import Part, Source, label, parts_of
from .plan import plan_folder
from .subject_rule import SubjectRule


@operation(
    "gather",
    "Convert a folder to BIDS",
    name="convert-folder",
    keywords="bids nifti sidecar dicom whole study sort",
    group="Into files",
)
def convert_folder(
    folder: FolderPath,
    to: NewPath,
    *,
    subject_from: Literal["patient id", "patient name", "folder", "file name"] = "patient id",
    subject_pattern: str = "(.+)",
    session: str = "",
    session_from: Literal["date", "folder", "file name"] = "date",
    session_pattern: str = "",
    progress: Progress = silent(),
) -> Table:
    """Convert every image below a folder to NIfTI with sidecars, sorted as the BIDS standard sorts them.

    What is there stays as it is: participants are joined with those that are listed, other files are left alone. What
    cannot be converted is named in the table with the reason. Images the standard has no place for go to a folder
    "extra" under the same kind of name. Files that are named as the standard names them keep their names.

    Parameters
    ----------
    folder : path
        Where the scans are, nested and unsorted as they may be.
    to : path
        The study folder; made when it is not there.
    subject_from : text
        Where the subject's name is taken from.
    subject_pattern : text
        Regular expression; its first group is the subject.
    session : text
        Session label for all images.
    session_from : text
        Where sessions come from otherwise: the date of the study, for subjects that were scanned on several; or a
        pattern found in the folder or the file name.
    session_pattern : text
        Regular expression; its first group is the session.

    Raises
    ------
    Trouble
        When the folder holds no image, the place cannot be written, or the table of participants there is none.
    """
    to = Path(to)
    lines = [
        line
        for line in plan_folder(folder, SubjectRule(subject_from, subject_pattern), progress=progress.part(0.0, 0.15))
        if line.is_image
    ]
    if not lines:
        raise Trouble("There is no image in this folder", "choose the folder that holds the scans", folder)
    sources = [Source(line.name, line.subject, line.seems, line.open, line.date, str(line.files[0])) for line in lines]
    rule = SessionRule(session_from, session_pattern)
    return convert_images(sources, Path(to), session, rule, progress.part(0.15, 1.0))


@dataclass(frozen=True)
class SessionRule:
    """Where the sessions (visits) of a subject come from: "date", which names one when there are several; or a pattern
    whose first group is found in the folder or the file name."""

    source: str = "date"
    pattern: str = ""

    def sessions(self, sources: list[Source]) -> list[str]:
        """The session of each image, "" for none."""
        if self.source == "date":
            dates: dict[str, set[str]] = {}
            for one in sources:
                dates.setdefault(one.subject, set()).add(one.date)
            return [one.date if len(dates[one.subject] - {""}) > 1 else "" for one in sources]
        rule = SubjectRule("text", self.pattern or "(.+)")
        text = {"folder": lambda p: str(Path(p).parent), "file name": lambda p: Path(p).name}[self.source]
        return [rule.subject({"text": text(one.place)}) for one in sources]


def convert_images(
    sources: list[Source],
    to: Path,
    session: str = "",
    rule: SessionRule = SessionRule(),
    progress: Progress | None = None,
) -> Table:
    """Write images into a BIDS-style folder; see `convert_folder`."""
    progress = progress or silent()
    if to.exists() and not to.is_dir():
        raise Trouble("There is a file of this name already", "name a folder", to)
    participants = Participants(to)  # what cannot be joined is said before anything is written
    table = Table(
        "Converted", [Column("source"), Column("subject"), Column("seems"), Column("file"), Column("problem")]
    )
    opened: list[tuple[int, Source, Image]] = []
    for n, source in enumerate(sources):
        progress.at(0.1 * n / len(sources), "Opening")
        try:
            if not label(source.subject):
                raise Trouble(f"The subject of “{source.name}” is not known", "give a pattern that finds it")
            opened.append((n, source, source.open(silent())))
        except Trouble as trouble:
            table.rows.append((source.name, source.subject, source.seems, "", str(trouble)))
    sessions = rule.sessions([source for _, source, _ in opened])
    wanted = [(n, one, image, label(session or one.session or own)) for (n, one, image), own in zip(opened, sessions)]
    try:
        to.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise write_trouble(error, to) from error
    parts = parts_of(wanted)
    paths = _paths(to, parts)
    _say_what_maps_are_for(to, parts, paths)
    for n, (part, path) in enumerate(zip(parts, paths)):
        source = sources[part.source]
        within = progress.part(0.1 + 0.9 * n / len(parts), 0.1 + 0.9 * (n + 1) / len(parts))
        try:
            written = _write(part, path, within)
        except Trouble as trouble:
            table.rows.append((source.name, source.subject, source.seems, "", str(trouble)))
            continue
        names = [str(one.relative_to(to)) for one in written]
        problems = [c.sentence for c in part.image.caveats] + part.doubts
        problems += [f"the standard has no file {name}" for name in without_place(names) if part.folder]
        table.rows.append((source.name, source.subject, source.seems, names[0], "; ".join(problems)))
        known = {k.removeprefix(FACT): v for k, v in part.image.facts.items() if k.startswith(FACT)}
        if label(source.subject) != source.subject:
            known[NAME] = source.subject
        participants.add(f"sub-{part.subject}", known)
    if any(row[3] for row in table.rows):
        participants.save()
    write_study_files(to)
    write_converted(to, table)
    return table


def _paths(to: Path, parts: list[Part]) -> list[Path]:
    """A path for each that nothing has yet: those that belong together have one number of run."""
    found: dict[int, Path] = {}
    taken: set[Path] = set()
    groups: dict[tuple, list[Part]] = {}
    for part in parts:
        own = part.together or f"{part.source}"
        groups.setdefault((part.subject, part.session, own), []).append(part)
    for several in groups.values():
        run = int(several[0].entities.get("run", "1")) if several[0].entities.get("run", "1").isdigit() else 1
        first = run
        while True:
            tried = [to / part.where / f"{part.name(run if run > first else 1)}.nii.gz" for part in several]
            if len(set(tried)) == len(tried) and not any(p in taken or _is_there(p) for p in tried):
                break
            run += 1
            if run > first + 1 + len(parts) + 100_000:
                raise Trouble("There are too many images of one kind", "choose another folder", to)
        taken.update(tried)
        for part, path in zip(several, tried):
            found[id(part)] = path
            if run > first and any(_is_there(to / part.where / f"{part.name()}.nii.gz") for part in several):
                part.doubts.append("an image of this kind was there already, so it is another run")
    return [found[id(part)] for part in parts]


def _is_there(path: Path) -> bool:
    return path.exists() or path.with_suffix("").exists()


def _say_what_maps_are_for(to: Path, parts: list[Part], paths: list[Path]) -> None:
    """Field maps name the series that they are meant for, by the standard's own addresses: those of the same session,
    each by the map that came last before it, or else first."""
    for key in {(p.subject, p.session) for p in parts}:
        own = [(p, path) for p, path in zip(parts, paths) if (p.subject, p.session) == key]
        maps: dict[str, list[Part]] = {}
        for part, _ in own:
            if part.folder == "fmap":
                maps.setdefault(part.together or str(part.source), []).append(part)
        order = sorted(maps.values(), key=lambda several: min(part.source for part in several))
        for part, path in own:
            if not part.is_echo_planar or not order:
                continue
            before = [several for several in order if min(one.source for one in several) < part.source]
            address = f"bids::{path.relative_to(to).as_posix()}"
            meant = before[-1] if before else order[0]
            fields = [one for one in meant if not one.suffix.startswith("magnitude")]
            for one in fields or meant:
                one.facts.setdefault("IntendedFor", []).append(address)


def _write(part: Part, path: Path, progress: Progress) -> list[Path]:
    """Write one image with what lies beside it; nothing of it is left when that fails."""
    written = [path]
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        save_nifti(path, part.image, progress)
        written += write_sidecar(path, part.image, part.facts)
    except OSError as error:
        raise write_trouble(error, path) from error
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return written
