"""Files that a command writes its results to: one for the result that was asked for, others for those beside it, or a
folder for all."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import Any

from .command_output import Said
from .core.claim import claimed
from .core.errors import Trouble
from .core.image import Image
from .core.kind import kind_of_value
from .core.labels import LabelMap
from .core.names import file_name
from .core.operation import Operation, Result
from .core.progress import Progress
from .formats.format import formats_holding

TABLES = (".csv", ".parquet", ".tsv")


def require_place(operation: Operation, study: Path | None, out: Path | None, beside: dict[str, Path]) -> None:
    """Raises Trouble before anything is computed when the result would have no place, or cannot be written under the
    name."""
    from .formats.format import writer_for

    for result in operation.results:
        if result.name in beside:
            writer_for(beside[result.name], result.kind.name)
    if out is None:
        if study is None and any(
            not r.kind.is_read and not (r.many and operation.brings_files) for r in operation.results
        ):
            raise Trouble(
                f"“{operation.title}” needs a place for its result",
                "name a file with --out, or work in a study with --study",
            )
        return
    if takes_folder(operation, out):
        if out.is_file() or (out.is_dir() and any(out.iterdir())):
            raise Trouble("There is something of this name already", "name a new folder", out)
        return
    if operation.results and operation.results[0].many and not operation.brings_files:
        raise Trouble(f"“{operation.title}” makes several files", "name a new folder, without an ending", out)
    written = [r.kind.alters if r.kind.is_change else r.kind.name for r in operation.results]
    if not written:
        raise Trouble(f"“{operation.title}” has no result to write", "leave --out out", out)
    troubles = []
    for kind in dict.fromkeys(written):
        try:
            writer_for(out, kind)
            return
        except Trouble as trouble:
            troubles.append(trouble)
    raise troubles[0]


def require_apart(given: Iterable[Any], places: Sequence[Path]) -> None:
    """Raises Trouble when a result would take the place of what it is made from, or of another result."""
    for n, place in enumerate(places):
        if any(place.absolute() == other.absolute() for other in places[:n]):
            raise Trouble("Two results are to go to one file", "give them different names", place)
    sources = [source for value in given for source in _files_meant(value)]
    for place in places:
        if place.exists() and any(place.samefile(source) for source in sources):
            raise Trouble("The result would take the place of what it is made from", "give it another name", place)


def _files_meant(value: Any) -> list[Path]:
    """Files that a word of the command names, by itself or with a place or a name behind it."""
    if isinstance(value, list):
        return [source for one in value for source in _files_meant(one)]
    if not isinstance(value, (str, Path)):
        return []
    text = str(value)
    words = {text, text.rpartition("@")[0], text.partition("#")[0], text.partition("#")[0].rpartition("@")[0]}
    return [path for path in map(Path, filter(None, words)) if _is_file(path)]


def _is_file(path: Path) -> bool:
    try:
        return path.is_file()
    except (OSError, ValueError):  # a name that can be none
        return False


def takes_folder(operation: Operation, out: Path) -> bool:
    """Whether a name without an ending is a folder that all results go to."""
    several = bool(operation.results) and operation.results[0].many and not operation.brings_files
    return not out.suffix and (several or len(beside_results(operation)) > 0)


def beside_results(operation: Operation) -> list[Result]:
    """Results that may be written to files of their own, beside the one that was asked for."""
    plain = [r for r in operation.results if not r.many and not r.kind.is_change]
    return [r for r in plain if r is not operation.results[0]]


def flag_of(name: str) -> str:
    """The option that names a file for a result."""
    return f"--out-{name.replace('_', '-')}"


def write_result(operation: Operation, said: Said, out: Path, progress: Progress) -> list[Path]:
    """Write the thing that the file's name asks for, or all into a folder; returns what was written.

    Raises Trouble when there is nothing, or more than one thing, to write there.
    """
    if takes_folder(operation, out):
        return _write_folder(said, out, progress)
    rows: list[Any] = list(said.tables) or [thing for thing in said.things if _has_room(thing, out)]
    fits: list[Any] = rows if out.suffix.lower() in TABLES or not said.things else said.things
    table_leads = bool(operation.results) and operation.results[0].kind.is_read
    if len(fits) > 1 and said.one_leads and (fits is said.things or table_leads):
        fits = fits[:1]
    if len(fits) != 1:
        what = f"{len(fits)} things to write" if fits else "nothing to write"
        raise Trouble(f"There is {what} into one file", "leave --out out, or name a study with --study", out)
    return _write(out, fits[0], progress, said)


def _has_room(thing: Any, out: Path) -> bool:
    """Whether a file of this name has room for a thing that is no table."""
    kind = kind_of_value(thing)
    return kind is not None and any(out.suffix.lower() in f.ways_to_write for f in formats_holding(kind.name))


def write_beside(said: Said, places: dict[str, Path], progress: Progress) -> list[Path]:
    """Write results by their names; returns what was written."""
    found: list[Path] = []
    for name, path in places.items():
        if name not in said.named:
            raise Trouble(f"Nothing came out as “{name}”", f"leave {flag_of(name)} out", path)
        thing = said.named[name]
        found += _write(path, thing[0] if isinstance(thing, list) else thing, progress, said)
    return found


def _write_folder(said: Said, out: Path, progress: Progress) -> list[Path]:
    """Every result under its own name; the folder has its name when it is whole."""
    found: list[Path] = []
    with claimed(out) as beside:
        beside.mkdir()
        things = _by_file(said)
        for n, (name, thing) in enumerate(things):
            ending = _ending_of(thing)
            part = progress.part(n / len(things), (n + 1) / len(things))
            found += _write(beside / f"{name.replace('_', ' ')}{ending}", thing, part, said)
        if out.is_dir():
            out.rmdir()  # it is empty
        beside.rename(out)
    return [out / path.name for path in found]


def _ending_of(thing: Any) -> str:
    """That of its kind; pictures without sides are OME-TIFF, which knows their scale and takes large ones in tiles."""
    if isinstance(thing, Image) and thing.space.shape[2] == 1 and not thing.space.sides_known:
        return ".ome.tif"
    kind = kind_of_value(thing)
    return kind.ending if kind is not None else ".nii.gz"


def _by_file(said: Said) -> list[tuple[str, Any]]:
    """Each thing with the name of its file; several of one result are numbered;
    images have the last part of their own names, such as that of a stain."""
    found: list[tuple[str, Any]] = []
    for name, given in said.named.items():
        if isinstance(given, list) and len(given) != 1:
            known = [name for name, _ in found]
            for n, thing in enumerate(given, 1):
                own = file_name(thing.name.rpartition(", ")[2]) if isinstance(thing, Image) else ""
                found.append((own if own and own not in known else f"{name} {n:02d}", thing))
                known.append(found[-1][0])
        else:
            found.append((name, given[0] if isinstance(given, list) else given))
    return found


def _write(path: Path, thing: Any, progress: Progress, said: Said) -> list[Path]:
    """Write a thing, and beside it the names of labels, or how an image was taken."""
    from .formats.beside_nifti import write_sidecar
    from .formats.label_files import table_path
    from .formats.nifti import is_nifti
    from .formats.not_said import lost_in
    from .formats.saving import save_thing

    save_thing(path, thing, progress)
    said.in_files.append(thing)
    if isinstance(thing, LabelMap):
        return [path, table_path(path)] if len(thing.table) else [path]
    beside = write_sidecar(path, thing) if isinstance(thing, Image) and is_nifti(path) else []
    if isinstance(thing, Image) and (lost := lost_in(path, thing)):
        said.lost.append(f"{path.name} does not say {', '.join(lost)}")
    return [path, *beside]
