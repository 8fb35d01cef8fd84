"""Words drawn into pixels, as scanners burn them in: a five by seven dot matrix."""

from __future__ import annotations

import numpy as np

COLUMNS = {
    "A": "7C1211127C",
    "B": "7F49494936",
    "C": "3E41414122",
    "D": "7F4141413E",
    "E": "7F49494941",
    "F": "7F09090901",
    "G": "3E41415172",
    "H": "7F0808087F",
    "I": "00417F4100",
    "J": "2040413F01",
    "K": "7F08142241",
    "L": "7F40404040",
    "M": "7F020C027F",
    "N": "7F0408107F",
    "O": "3E4141413E",
    "P": "7F09090906",
    "Q": "3E4151215E",
    "R": "7F09192946",
    "S": "4649494931",
    "T": "01017F0101",
    "U": "3F4040403F",
    "V": "1F2040201F",
    "W": "3F4038403F",
    "X": "6314081463",
    "Y": "0304780403",
    "Z": "6151494543",
    "0": "3E5149453E",
    "1": "00427F4000",
    "2": "4261514946",
    "3": "2141454B31",
    "4": "1814127F10",
    "5": "2745454539",
    "6": "3C4A494930",
    "7": "0171090503",
    "8": "3649494936",
    "9": "064949291E",
    "-": "0808080808",
    ".": "0060600000",
    ":": "0036360000",
    "/": "2010080402",
    " ": "0000000000",
}
"""Five columns a letter, the lowest bit on top."""


def words_mask(text: str, size: int = 2) -> np.ndarray:
    """Pixels [row, column] that the words cover, each dot `size` × `size`."""
    columns = []
    for letter in text.upper():
        bits = bytes.fromhex(COLUMNS[letter])
        columns += [[(c >> n) & 1 for n in range(7)] for c in bits] + [[0] * 7]
    return np.kron(np.array(columns, bool).T, np.ones((size, size), bool))


def burn(picture: np.ndarray, text: str, row: int, column: int, colour=255, size: int = 2) -> None:
    """Draw words into a picture [row, column] or with colours last, in place."""
    mask = words_mask(text, size)
    picture[row : row + mask.shape[0], column : column + mask.shape[1]][mask] = colour
