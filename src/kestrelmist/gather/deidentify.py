"""Remove identity from DICOM files and others: header, pixels, and a check that nothing was left."""

from __future__ import annotations

import shutil
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

from ..core.claim import claimed
from ..core.errors import Trouble, let_through
from ..core.home import identity_key
from ..core.progress import Progress, silent
from ..core.safe_write import write_trouble
from ..core.table import Column, Table
from ..core.waiting import reading
from ..formats.dicom.header import read_header
from ..formats.dicom.scan import scan_files
from ..formats.dicom.series import series_image
from ..formats.format import format_of
from ..formats.guarded import no_memory
from ..formats.series import Series
from ..formats.unknown import refuse_unknown
from .bare_image import bare_facts
from .burned_text import text_in
from .clean_header import Cleaner
from .clean_pixels import PixelRule, blank, is_plain, pictures_of, save_with
from .clean_stream import bare_pixels
from .identity_profile import Rules
from .identity_words import IdentityWords
from .quiet import quiet
from .sought_words import PLAIN, SoughtWords

TEXT_LOOKED_FOR = ("US", "OT", "SC", "XC", "ES", "DX", "CR", "RF", "XA", "MG", "NM")
"""Modalities in whose pixels words are common; slices of others are looked at in a sample."""

SAMPLE = 24
"""Pictures of such a series that are looked at when its pixels were left alone."""


@dataclass
class Outcome:
    """What came of it: new files by old one, counts of what was done, and pictures that likely still hold words, by
    series."""

    files: dict[Path, Path] = field(default_factory=dict)
    done: Counter = field(default_factory=Counter)
    pictures_changed: int = 0
    texts: list[tuple[str, int, int]] = field(default_factory=list)
    left_out: list[tuple[str, str]] = field(default_factory=list)
    unseen: Counter = field(default_factory=Counter)
    """What the check of the result cannot look into, with the number of files."""

    def report(self, title: str, named: bool = True) -> Table:
        """What was removed, replaced and kept, and what to look at; with `named` false, no old file name stands in
        it."""
        table = Table(title, [Column("element"), Column("tag"), Column("what"), Column("files")])
        order = {
            "removed": 0,
            "emptied": 1,
            "replaced": 2,
            "shifted": 3,
            "counted from the start": 4,
            "cleaned": 5,
            "kept": 6,
        }
        for (name, tag, action), count in sorted(self.done.items(), key=lambda i: (order.get(i[0][2], 9), i[0][0])):
            table.rows.append((name, tag, action, count))
        if self.pictures_changed:
            table.rows.insert(0, ("Pixels", "", "blanked", self.pictures_changed))
        for name, first, count in self.texts:
            table.rows.insert(
                0,
                (
                    f"Words likely left in “{name}”: {count} picture{'s' if count != 1 else ''}, the first is {first}",
                    "",
                    "look",
                    count,
                ),
            )
        for what, count in self.unseen.items():
            table.rows.append((what, "", "not looked into", count))
        for name, reason in self.left_out:
            table.rows.append((name if named else "A file", "", f"left out: {reason}" if named else "left out", 1))
        return table


def deidentify_files(
    files: list[Path],
    place: Path,
    cleaner: Cleaner,
    pixels: PixelRule | None = None,
    progress: Progress | None = None,
    check_pixels: bool = True,
    all_or_none: bool = True,
) -> Outcome:
    """Write cleaned copies of DICOM files into a new folder, and check them by opening them again.

    Parameters
    ----------
    files : list of path
        DICOM files, of one series or several.
    place : path
        A folder that is not there yet.
    cleaner : Cleaner
    pixels : PixelRule, optional
        Blanked in every picture of every file, numbered in the order of the series.
    check_pixels : bool
        Look for words that are left in the pixels, and set the flag that says so to what was found.
    all_or_none : bool
        Stop at a file that cannot be cleaned; otherwise it is left out, not copied, and named in the outcome.

    Raises
    ------
    Trouble
        When a file cannot be read, the place is taken or cannot be written, or a word of identity is found in the
        result.
    """
    progress = progress or silent()
    if place.exists():
        raise Trouble("There is something of this name already", "name a new folder", place)
    outcome = Outcome()
    try:
        with claimed(place) as beside:
            beside.mkdir(parents=True)
            first: dict[str, int] = {}
            with quiet():
                for n, path in enumerate(progress.part(0.0, 0.7).over(files, what="Removing identity")):
                    target = beside / f"{n + 1:05d}.dcm"
                    try:
                        with reading(path):
                            _clean_file(path, target, cleaner, pixels, first, outcome)
                    except Trouble as trouble:
                        target.unlink(missing_ok=True)
                        outcome.left_out.append((path.name, str(trouble)))
                        if all_or_none or len(outcome.left_out) == len(files):
                            raise
                        continue
                    outcome.files[path] = place / target.name
            outcome.done = cleaner.done
            _check(beside, cleaner, pixels is not None, outcome, progress.part(0.7, 1.0), check_pixels)
            beside.rename(place)
    except OSError as error:
        raise write_trouble(error, place) from error
    return outcome


def _clean_file(
    path: Path, target: Path, cleaner: Cleaner, pixels: PixelRule | None, first: dict[str, int], outcome: Outcome
) -> None:
    import pydicom

    header = read_header(path) if pixels is not None else None
    try:
        ds = pydicom.dcmread(path, force=True, stop_before_pixels=header is not None and header.plain)
        if "SOPClassUID" not in ds:
            raise ValueError
        if header is not None and header.plain and not is_plain(header, ds):
            ds = pydicom.dcmread(path, force=True)
    except OSError:
        raise
    except MemoryError as error:
        raise no_memory(path) from error
    except BaseException as error:  # a broken file breaks the parser in many ways
        let_through(error)
        raise Trouble("This DICOM file cannot be read", "leave it out, or copy it again", path) from error
    try:
        if not hasattr(ds, "file_meta") or "TransferSyntaxUID" not in ds.file_meta:
            _give_meta(ds)
        frames = None
        if pixels is not None and "Rows" in ds:
            series = str(ds.get("SeriesInstanceUID", ""))
            frames = pictures_of(path, header, ds)
            outcome.pictures_changed += blank(frames, pixels, first.get(series, 0))
            first[series] = first.get(series, 0) + len(frames)
        cleaner.clean(ds)
        if frames is not None:
            save_with(ds, frames, target)
        else:
            bare_pixels(ds)
            ds.save_as(target, enforce_file_format=True)
    except (Trouble, OSError):
        raise
    except MemoryError as error:
        raise no_memory(path) from error
    except BaseException as error:  # elements that no rule can be carried out on
        let_through(error)
        raise Trouble(
            f"The header of this file cannot be cleaned ({type(error).__name__})",
            "leave it out, or copy it again",
            path,
        ) from error


def _give_meta(ds) -> None:
    from pydicom.dataset import FileMetaDataset
    from pydicom.uid import ExplicitVRLittleEndian, ImplicitVRLittleEndian

    ds.file_meta = FileMetaDataset()
    ds.file_meta.TransferSyntaxUID = ImplicitVRLittleEndian if ds.original_encoding[0] else ExplicitVRLittleEndian
    ds.file_meta.MediaStorageSOPClassUID, ds.file_meta.MediaStorageSOPInstanceUID = ds.SOPClassUID, ds.SOPInstanceUID


def _check(folder: Path, cleaner: Cleaner, changed: bool, outcome: Outcome, progress: Progress, look: bool) -> None:
    """Open the result again: every series must be an image as before, and no word of identity may stand in it."""
    new = sorted(folder.iterdir())
    words = cleaner.words.without(cleaner.subject)
    sought = SoughtWords(words, cleaner.meanings)
    for n, path in enumerate(new):
        progress.at(0.5 * n / len(new), "Checking the result")
        found = read_header(path)
        if found is None or found.cut_short:
            raise Trouble(
                "A cleaned file does not open again, so nothing was kept",
                "report this file; the original is unharmed",
                list(outcome.files)[n],
            )
        packed = not found.plain and "Rows" in found.header
        frames = max(1, int(found.number("NumberOfFrames", 1))) if found.plain and "Rows" in found.header else 0
        hit = sought.first_in_dicom(path, found.offset, packed, frames and found.bytes_needed * frames)
        if hit:
            raise Trouble(
                f"“{hit}” still stands in the result, so nothing was kept",
                "leave descriptions and private elements out, or give another subject name",
                list(outcome.files)[n],
            )
        outcome.unseen["values of pixels, where words may be drawn"] += 1
        if packed:
            outcome.unseen["coded pictures: only their headers were looked into"] += 1
    if sought.not_sought:
        outcome.unseen[f"{len(sought.not_sought)} words of the old header too short or too common to be sought"] += 1
    for series in scan_files(new) if look else ():
        if series.kind or series.broken:
            continue
        _flag_text(series, changed, outcome, progress.part(0.5, 1.0))


def _flag_text(series: Series, changed: bool, outcome: Outcome, progress: Progress) -> None:
    """Look for words in the pixels, and set the flag that says whether there are any to what was found."""
    import pydicom

    try:
        image = series_image(series, "mend", facts=False)
        # a flag that says "no words" is only set after a look at every picture
        everywhere = changed or series.modality in TEXT_LOOKED_FOR or image.colour
        texts = text_in(image, progress, None if everywhere else SAMPLE)
    except Trouble:
        return
    if texts:
        outcome.texts.append((series.description or "series", min(texts) + 1, len(texts)))
    flag = "YES" if texts else "NO" if changed else None
    for path in series.files if flag else ():
        ds = pydicom.dcmread(path)
        if str(ds.get("BurnedInAnnotation", "")) != flag:
            ds.BurnedInAnnotation = flag
            if flag == "NO":
                _add_code(ds, "113101", "Clean Pixel Data Option")
            ds.save_as(path)


def _add_code(ds, code: str, meaning: str) -> None:
    from pydicom.dataset import Dataset

    item = Dataset()
    item.CodeValue, item.CodingSchemeDesignator, item.CodeMeaning = code, "DCM", meaning
    ds.DeidentificationMethodCodeSequence.append(item)


def cleaner_for(rules: Rules, subject: str, key: str) -> Cleaner:
    """A cleaner with this person's own secret, or with a word of theirs."""
    return Cleaner(rules, key.encode() if key else identity_key(), subject.strip())


def strip_other(path: Path, target: Path, words: IdentityWords, progress: Progress | None = None) -> list[str]:
    """Write a file of another format anew, with its values, place and scale and the numbers of how it was taken, and
    nothing else of its header; what was written is searched for its old names and for `words`. Returns the names of
    what is kept of how it was taken.

    Raises Trouble when the format cannot be written, or an old name is found; nothing is left then.
    """
    from ..formats.beside_nifti import write_sidecar
    from ..formats.nifti import is_nifti
    from ..formats.saving import save_image
    from ..formats.sidecar import facts_of

    known = format_of(path)
    if known is None:
        refuse_unknown(path)
    image = known.open(path)
    bare = image.like(image._fetch, name="image", subject="", levels=image.levels, **bare_facts(image))
    save_image(target, bare, progress)
    old = IdentityWords(dict(words.names), dict(words.phrases))
    given, stays = ({label for axis in one.axes for label in axis.labels} for one in (image, bare))
    for text in (image.name, image.subject, *sorted(given - stays)):
        if len(text) >= PLAIN:  # what a writer writes of an image besides its grid
            old.add_phrase(text)
    written = [target, *(write_sidecar(target, bare) if is_nifti(target) else [])]
    hit = next(filter(None, map(SoughtWords(old).first_in_files, written)), "")
    if hit:
        for one in written:
            shutil.rmtree(one) if one.is_dir() else one.unlink()
        raise Trouble(f"“{hit}” still stands in the result, which was not kept", "report this file", path)
    return sorted(facts_of(bare))


def bare_name(path: Path) -> str:
    """The ending a stripped file gets: its own when we can write it, a near one when not."""
    known = format_of(path)
    if known is not None and known.name == "NIfTI":
        return ".nii.gz" if path.name.lower().endswith((".gz", ".bz2")) else ".nii"
    return ".nii.gz" if known is None else known.ways_to_write[0] if known.ways_to_write else known.instead
