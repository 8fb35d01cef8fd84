"""Old words sought in the bytes of new files: in several encodings, whole and as parts, in packed headers too."""

from __future__ import annotations

import base64
import re
import zlib
from collections.abc import Iterable
from pathlib import Path

from ..formats.deflated import is_deflated, unpacked
from .defined_terms import TERMS
from .identity_words import TOKEN, IdentityWords, folded

SHORTEST = 3
"""Letters of a word that is sought in bytes; shorter ones stand everywhere."""
PLAIN = 5
"""Letters from which a word is sought inside longer ones too."""
AMONG_PIXELS = 6
"""Bytes of a word that is sought among pixels, where chance writes all short ones."""
HEAD = 1 << 16
"""Bytes at both ends of a file of another format where its texts are."""
OWN = (
    "kestrelmist basic profile removed segment roi retain clean application confidentiality option other dates"
    " longitudinal temporal information modified patient characteristics device identity descriptors safe private pixel"
    " data scanner picture image float short little endian explicit voxel creator"
)
"""What the program itself writes."""


class SoughtWords:
    """What to look for in written files, and what cannot be looked for.

    Parameters
    ----------
    words : IdentityWords
    known : texts
        Texts that were put into the result on purpose: meanings of codes.
    """

    def __init__(self, words: IdentityWords, known: Iterable[str] = ()):
        usual = {folded(t) for text in (*TERMS, OWN, *known) for t in re.split(r"[\W_]+", text)}
        self.not_sought: list[str] = []
        """Words that a standard file may well hold, or that are too short to be told from others."""
        sought: list[str] = []
        for form, word in {**words.phrases, **words.names}.items():
            tokens = [folded(t) for t in TOKEN.findall(word)] or [form]
            digits = form.isdecimal() and len(form) < 6
            dense = any(ord(c) >= 0x2E80 for c in word)
            if digits or (len(form) < SHORTEST and not (dense and len(form) > 1)) or set(tokens) <= usual:
                self.not_sought.append(word)
            else:
                sought.append(word)
        self._forms = {form: word for word in sorted(set(sought), key=len) for form in _forms(word)}
        self._coded = {form: word for word in set(sought) for form in _in_base64(word)}

    def first_in(self, data: bytes) -> str:
        """The first old word in some bytes, "" when there is none."""
        small = data.lower()
        for form, word in self._forms.items():
            if _stands(small, form, len(word) >= PLAIN or not word.isascii() or b"\0" in form):
                return word
        return next((word for form, word in self._coded.items() if form in data), "")

    def first_among_pixels(self, data: bytes) -> str:
        """The first old word in packed pixels, "" when there is none; short ones are not sought there."""
        small = data.lower()
        return next((w for form, w in self._forms.items() if len(form) >= AMONG_PIXELS and form in small), "")

    def first_in_dicom(self, path: Path, pixels_at: int, packed: bool, pixels: int = 0) -> str:
        """The first old word in a DICOM file: in its header, unpacked when it is packed, in packed pixels, and after
        plain `pixels`, which are so many bytes."""
        with open(path, "rb") as stream:
            data = stream.read(pixels_at if pixels_at and not packed else -1)
            if pixels_at and not packed and pixels:
                stream.seek(pixels_at + pixels)
                data += b" " + stream.read()
                pixels_at = len(data)
        if is_deflated(data):
            return self.first_in(unpacked(data))
        at = pixels_at or len(data)
        return self.first_in(data[:at]) or (self.first_among_pixels(data[at:]) if packed else "")

    def first_in_files(self, place: Path) -> str:
        """The first old word in what tells of an image in a file of another format, or in the files of a folder: their
        beginnings, unpacked when they are packed, and their ends."""
        for path in sorted(p for p in place.rglob("*") if p.is_file()) if place.is_dir() else [place]:
            with open(path, "rb") as stream:
                data = stream.read(HEAD)
                if path.stat().st_size > HEAD:
                    stream.seek(max(HEAD, path.stat().st_size - HEAD))
                    data += stream.read()
            if data[:2] == b"\x1f\x8b":
                data = zlib.decompressobj(zlib.MAX_WBITS | 16).decompress(data, HEAD)
            hit = next((w for form, w in self._forms.items() if len(form) >= AMONG_PIXELS and form in data.lower()), "")
            if hit:
                return hit
        return ""


def _stands(data: bytes, form: bytes, inside: bool) -> bool:
    """Whether a form is found; as a word by itself unless `inside`."""
    at = data.find(form)
    while at >= 0:
        before, after = data[max(0, at - 1) : at], data[at + len(form) : at + len(form) + 1]
        if inside or not (before.isalnum() or after.isalnum()):
            return True
        at = data.find(form, at + 1)
    return False


def _forms(word: str) -> dict[bytes, None]:
    """A word in the encodings of headers, its ASCII letters small."""
    found: dict[bytes, None] = {}
    for text in (word, word.casefold(), word.upper()):
        for encoding in ("utf-8", "latin-1", "iso8859-5", "utf-16-le", "utf-16-be"):
            try:
                found[text.encode(encoding).lower()] = None
            except UnicodeEncodeError:
                continue
    return found


def _in_base64(word: str) -> list[bytes]:
    """What a word looks like inside a longer text in base64 (RFC 4648), at each of the three places it can begin."""
    found = []
    for text in dict.fromkeys((word, word.lower(), word.upper(), word.title())):
        raw = text.encode()
        for before in range(3):
            coded = base64.b64encode(b"\0" * before + raw)
            over = (before + len(raw)) % 3
            sure = coded[(0, 2, 3)[before] : len(coded) - 4 + over if over else len(coded)]
            if len(sure) >= 6:
                found.append(sure)
    return found
