"""OME-Zarr 0.4 and 0.5: chunked pyramids of any size, read chunk by chunk."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import Any

import numpy as np

from ..core.axis import Axis
from ..core.caveat import NO_SCALE, NOTED, Caveat
from ..core.errors import Trouble, let_through
from ..core.image import Image, Origin
from ..core.progress import Progress
from ..core.regular import require_regular
from ..core.space import Space, picture_space
from .format import Format, image_name, register
from .lengths import millimetres, seconds
from .own_words import KEY, take_in_words
from .planes import AXIS_NAMES, Planes, in_parts
from .sampling import sampled_levels

BIGGEST_CHUNK = 1 << 29


def read_ome_zarr(path: Path) -> Image:
    """The first multiscale picture of an OME-Zarr folder; without OME facts, its first array. Others are told of.

    Raises
    ------
    Trouble
        When the folder is damaged, names arrays outside itself, or holds no array.
    """
    import zarr

    group = zarr.open(_regular_store(path), mode="r")
    left: list[Caveat] = []
    if isinstance(group, zarr.Array):
        facts, datasets, letters = {}, [("", None)], "".join("tczyx"[-group.ndim :])
    else:
        group, path, left = _one_picture(group, path)
        facts = _facts_of(group)
        left += _left_in(group, facts)
        datasets, letters = _datasets(group, facts, path)
    arrays = [(_array(group, name, path), steps) for name, steps in datasets]
    letters = letters or "".join("tczyx"[-arrays[0][0].ndim :])
    colour = _is_colour(arrays[0][0], letters, facts)
    letters = letters.replace("c", "s") if colour else letters
    levels = [
        Planes(partial(_read, array, path), letters, tuple(array.shape), np.dtype(array.dtype), colour)
        for array, _ in arrays
    ]
    first = levels[0]
    if len(letters) != len(first.shape) or not {"x", "y"} <= set(letters):
        raise Trouble("The axes of this OME-Zarr do not fit its arrays", "write it again", path)
    space, caveats = _space(first, arrays[0][1], facts, letters)
    caveats += left
    axes = [_axis(first, n, arrays[0][1], facts, letters) for n in first.along]
    common: dict[str, Any] = {"name": image_name(path), "facts": _flat(facts), "axes": axes, "colour": colour}
    coarser = [
        in_parts(Image(level.fetch, space.resized(level.space()), **common), level)
        for level in levels[1:]
        if len(level.shape) == len(letters)
        and [level.shape[n] for n in level.along] == [first.shape[n] for n in first.along]
    ]
    image = in_parts(
        Image(first.fetch, space, origin=Origin("OME-Zarr", [path]), caveats=caveats, levels=coarser, **common), first
    )
    image.levels = image.levels or sampled_levels(first, image, first.dtype)
    own = facts.get(KEY)
    take_in_words(image, str(own.get("words", "")) if isinstance(own, dict) else "")
    return image


def _facts_of(group) -> dict:
    found = dict(group.attrs)
    return dict(found.get("ome", found)) | {"kestrelmist": found.get("kestrelmist") or {}}


def _one_picture(group, path: Path):
    """The group of one picture, where it lies, and what is said of others: a folder may be a collection of pictures.

    Raises
    ------
    Trouble
        When it is a plate of wells, of which nobody can say which field is meant.
    """
    import zarr

    facts = _facts_of(group)
    if "plate" in facts or "well" in facts:
        wells = [str(w.get("path")) for w in (facts.get("plate") or {}).get("wells") or () if isinstance(w, dict)]
        example = f"{path.name}/{wells[0]}/0" if wells else f"{path.name}/0"
        raise Trouble("This OME-Zarr is a plate of many fields", f"open one field of it, such as {example}", path)
    numbered = sorted((name for name, one in group.groups() if name.isdigit()), key=int)
    if facts.get("multiscales") or not numbered or any(True for _ in group.arrays()):
        return group, path, []
    inner = group[numbered[0]]
    assert isinstance(inner, zarr.Group)
    many = len(numbered) - 1
    said = f"{many} more pictures are" if many > 1 else "Another picture is"
    names = ", ".join(numbered[1:5]) + (", …" if many > 4 else "")
    return inner, path / numbered[0], [Caveat(NOTED, f"{said} in this OME-Zarr and left: {names}")] if many else []


def _left_in(group, facts: dict) -> list[Caveat]:
    """What is to be said of further pyramids and of labels, which are not taken."""
    said = []
    others = len((facts.get("multiscales") or ())[1:])  # without their names, which somebody has typed
    if others:
        said.append(f"{others} further pyramid{'s are' if others > 1 else ' is'} in this OME-Zarr and left")
    if "labels" in group:
        count = len(_facts_of(group["labels"]).get("labels") or ())
        said.append(
            f"The labels of this OME-Zarr are left ({count}, in its folder “labels”); they can be opened on the image"
        )
    return [Caveat(NOTED, sentence) for sentence in said]


def _datasets(group, facts: dict, path: Path):
    """Names of the arrays of the pyramid with the step and start of each axis, and the letters of the axes."""
    scales = facts.get("multiscales")
    if not scales:
        names = sorted(name for name, _ in group.arrays())
        if not names:
            raise Trouble("There is no array in this OME-Zarr", "copy it again, the whole folder", path)
        return [(names[0], None)], ""
    entry = scales[0]
    axes = entry.get("axes") or ["t", "c", "z", "y", "x"]
    letters = "".join(str(a["name"] if isinstance(a, dict) else a)[:1].lower() for a in axes)
    overall = _steps(entry.get("coordinateTransformations"), len(axes))
    found = []
    for dataset in entry["datasets"]:
        step, start = _steps(dataset.get("coordinateTransformations"), len(axes))
        found.append((str(dataset["path"]), (step * overall[0], start * overall[0] + overall[1], axes)))
    return found, letters


def _is_colour(array, letters: str, facts: dict) -> bool:
    labels = [str(c.get("label")).lower() for c in (facts.get("omero") or {}).get("channels") or ()]
    return (
        labels == ["red", "green", "blue"]
        and np.dtype(array.dtype) == np.uint8
        and "c" in letters
        and "s" not in letters
        and array.shape[letters.index("c")] == 3
    )


def _steps(transformations, rank: int) -> tuple[np.ndarray, np.ndarray]:
    step, start = np.ones(rank), np.zeros(rank)
    for t in transformations or ():
        values = np.array(t.get(t.get("type", ""), []), float)
        if values.shape == (rank,):
            step, start = (step * values, start * values) if t["type"] == "scale" else (step, start + values)
    return step, start


def _array(group, name: str, path: Path):
    import zarr

    if not name:
        array = group
    else:
        parts = Path(name).parts
        if ".." in parts or Path(name).is_absolute() or path.resolve() not in (path / name).resolve().parents:
            raise Trouble(
                "This OME-Zarr names an array outside its own folder", "get it again from where it was made", path
            )
        array = group[name]
    if not isinstance(array, zarr.Array):
        raise Trouble("The pyramid of this OME-Zarr is not whole", "copy it again, the whole folder", path)
    kind = np.dtype(array.dtype)
    if kind.kind not in "biuf":
        raise Trouble("This OME-Zarr holds no numbers", "write it again", path)
    if (
        not array.shape
        or min(array.shape) < 1
        or int(np.prod(array.chunks, dtype=object)) * kind.itemsize > BIGGEST_CHUNK
    ):
        raise Trouble("The header of this OME-Zarr gives no sensible size", "copy it again, the whole folder", path)
    return array


def _regular_store(path: Path):
    """The folder as a store that reads ordinary files only: a pipe in place of a chunk would be waited for for ever."""
    from zarr.storage import LocalStore

    class RegularStore(LocalStore):
        async def get(self, key, prototype=None, byte_range=None):
            require_regular(self.root / key)
            return await super().get(key, prototype, byte_range)

    return RegularStore(path, read_only=True)


def _read(array, path: Path, selection: tuple) -> np.ndarray:
    try:
        return array[selection]
    except MemoryError:
        raise
    except BaseException as error:  # damaged chunks break decoders in many ways
        let_through(error)
        raise Trouble("Some chunks of this OME-Zarr are damaged", "copy it again, the whole folder", path) from error


def _space(planes: Planes, steps, facts: dict, letters: str) -> tuple[Space, list[Caveat]]:
    columns, rows, depth = planes.space()
    if steps is None:
        return picture_space(columns, rows, None, depth), [
            Caveat(NO_SCALE, "The file gives no scale: pixel spacing is missing")
        ]
    step, start, axes = steps
    units = [str(a.get("unit") or "") if isinstance(a, dict) else "" for a in axes]
    to_mm = [millimetres(unit) for unit in units]
    at = {letter: letters.index(letter) for letter in "xyz" if letter in letters}
    if any(to_mm[at[letter]] is None for letter in "xy") or any(not _sensible(step[n]) for n in at.values()):
        unit = next((units[at[letter]] for letter in "xy" if units[at[letter]]), "")
        why = f"the unit “{unit[:40]}” of its pixels is not known" if unit else "the unit of its pixels is missing"
        if all(to_mm[at[letter]] is not None for letter in "xy"):
            why = "the size of its pixels is not sensible"
        return picture_space(columns, rows, None, depth), [Caveat(NO_SCALE, f"The file gives no scale: {why}")]
    factor = {letter: to_mm[n] or to_mm[at["x"]] or 1.0 for letter, n in at.items()}
    mm = {letter: step[n] * factor[letter] for letter, n in at.items()}
    affine = facts.get("kestrelmist", {}).get("affine")
    if affine is not None:
        return Space((columns, rows, depth), np.array(affine, float)), []
    space = picture_space(columns, rows, (mm["x"], mm["y"]), depth, mm.get("z"))
    shift = np.array([start[at[letter]] * factor[letter] if letter in at else 0.0 for letter in "xyz"])
    if not np.isfinite(shift).all() or not shift.any():
        return space, []
    # its place is that of its first voxel, in the frame that the file tells of
    moved = space.affine.copy()
    moved[:3, 3] = np.array([1, -1, -1]) * shift
    said = "Its place is the one that the file gives for its first voxel, " + " × ".join(f"{v:.6g}" for v in shift)
    return Space(space.shape, moved, space.unit, space.world), [Caveat(NOTED, f"{said} mm")]


def _sensible(step: float) -> bool:
    return bool(np.isfinite(step) and step > 0)


def _axis(planes: Planes, n: int, steps, facts: dict, letters: str) -> Axis:
    letter, size = letters[n], planes.shape[n]
    if letter == "t":
        unit = steps[2][n].get("unit", "") if steps and isinstance(steps[2][n], dict) else ""
        second = seconds(str(unit))
        return Axis.even("time", size, float(steps[0][n]) * second if second else None, "s")
    if letter == "c":
        labels = tuple(
            str(c.get("label") or f"channel {k + 1}")
            for k, c in enumerate((facts.get("omero") or {}).get("channels") or ())
        )
        return Axis("channel", size, labels=labels if len(labels) == size else ())
    return Axis(AXIS_NAMES.get(letter, f"axis {letter}"), size)


def _flat(facts, before: str = "") -> dict[str, str]:
    found: dict[str, str] = {}
    items = facts.items() if isinstance(facts, dict) else ((f"[{n + 1}]", v) for n, v in enumerate(facts[:50]))
    for key, value in items:
        name = f"{before}{key}" if not before or str(key).startswith("[") else f"{before}.{key}"
        if isinstance(value, (dict, list)) and value and len(found) < 2000:
            found |= _flat(value, name)
        else:
            found[name] = str(value)
    return found


def _save(path: Path, image: Image, progress: Progress) -> None:
    from .ome_zarr_write import save_ome_zarr

    save_ome_zarr(path, image, progress)


register(Format("OME-Zarr", (".zarr",), read_ome_zarr, _save, folder=True))
