"""What an affine alignment may do: numbers that can be turned into a matrix, and back."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..core.errors import Trouble
from ..core.rigid import step_matrix

SHIFT, TURN, SCALE, SHEAR = slice(0, 3), slice(3, 6), slice(6, 9), slice(9, 12)
"""Of the twelve numbers: mm, radians about x, y, z, natural logarithms of three scales, three shears."""
NAMES = ("shift x", "shift y", "shift z", "turn x", "turn y", "turn z", "scale x", "scale y", "scale z")


@dataclass(frozen=True)
class Freedom:
    """Degrees of freedom.

    Parameters
    ----------
    number : int
        How many there are.
    flat : bool
        Whether they are those of a picture.
    free : array (12, number)
        What each does to the twelve numbers of `matrix_of`.
    words : str
        What may be done.
    """

    number: int
    flat: bool
    free: np.ndarray
    words: str


def _free(*columns: tuple[int, ...]) -> np.ndarray:
    made = np.zeros((12, len(columns)))
    for n, rows in enumerate(columns):
        made[list(rows), n] = 1.0
    return made


_RIGID = ((0,), (1,), (2,), (3,), (4,), (5,))
IN_SPACE = {
    3: Freedom(3, False, _free(*_RIGID[:3]), "shift"),
    6: Freedom(6, False, _free(*_RIGID), "shift and turn"),
    7: Freedom(7, False, _free(*_RIGID, (6, 7, 8)), "shift, turn and one scale"),
    9: Freedom(9, False, _free(*_RIGID, (6,), (7,), (8,)), "shift, turn and three scales"),
    12: Freedom(12, False, np.eye(12), "shift, turn, three scales and shear"),
}
IN_PLANE = {
    2: Freedom(2, True, _free((0,), (1,)), "shift"),
    3: Freedom(3, True, _free((0,), (1,), (5,)), "shift and turn"),
    4: Freedom(4, True, _free((0,), (1,), (5,), (6, 7)), "shift, turn and one scale"),
    6: Freedom(6, True, _free((0,), (1,), (5,), (6,), (7,), (9,)), "shift, turn, two scales and shear"),
}


def freedom(number: int, flat: bool) -> Freedom:
    """The degrees of freedom of that number; raises Trouble when there are none of it."""
    known = IN_PLANE if flat else IN_SPACE
    if number not in known:
        raise Trouble(
            f"{'Pictures' if flat else 'Volumes'} cannot be aligned with {number} degrees of freedom",
            f"choose {', '.join(map(str, known))}",
        )
    return known[number]


def matrix_of(numbers: np.ndarray, centre: np.ndarray) -> np.ndarray:
    """The matrix (4, 4) of twelve numbers: scale and shear about a centre (mm), then a turn about it, then a shift."""
    numbers = np.asarray(numbers, float)
    stretch = np.diag(np.exp(numbers[SCALE]))
    shear = np.eye(3)
    shear[[0, 0, 1], [1, 2, 2]] = numbers[SHEAR]
    made = np.eye(4)
    made[:3, :3] = _turn(numbers[TURN]) @ stretch @ shear
    made[:3, 3] = centre + numbers[SHIFT] - made[:3, :3] @ centre
    return made


def slopes_of(numbers: np.ndarray, centre: np.ndarray) -> np.ndarray:
    """By how much the matrix of twelve numbers grows with each of them, (12, 4, 4)."""
    found = np.zeros((12, 4, 4))
    found[SHIFT, :3, 3] = np.eye(3)
    whole = matrix_of(numbers, centre)[:3, :3]
    turn = _turn(numbers[TURN])
    inner = turn.T @ whole
    stretch = np.exp(numbers[SCALE])
    for n in range(3):
        step = np.eye(3)[n] * 1e-6
        found[3 + n, :3, :3] = (_turn(numbers[TURN] + step) - _turn(numbers[TURN] - step)) @ inner / 2e-6
        found[6 + n, :3, :3] = np.outer(turn[:, n], inner[n])
    for n, (row, column) in enumerate(((0, 1), (0, 2), (1, 2))):
        found[9 + n, :3, column] = turn[:, row] * stretch[row]
    found[3:, :3, 3] = -found[3:, :3, :3] @ centre
    return found


def _turn(vector: np.ndarray) -> np.ndarray:
    return step_matrix((0.0, 0.0, 0.0, *vector), np.zeros(3))[:3, :3]


def numbers_of(matrix: np.ndarray, centre: np.ndarray) -> np.ndarray:
    """The twelve numbers of a matrix (4, 4) that does not mirror."""
    turn, upper = np.linalg.qr(matrix[:3, :3])
    sign = np.sign(np.diag(upper))
    turn, upper = turn * sign, upper * sign[:, None]
    if np.linalg.det(turn) < 0:
        raise Trouble("This start mirrors left and right", "start from a transform that does not")
    scale = np.diag(upper)
    shear = upper / scale[:, None]
    made = np.zeros(12)
    made[SHIFT] = matrix[:3, :3] @ centre + matrix[:3, 3] - centre
    made[TURN] = turn_of(turn)
    made[SCALE] = np.log(scale)
    made[SHEAR] = shear[0, 1], shear[0, 2], shear[1, 2]
    return made


def turn_of(matrix: np.ndarray) -> np.ndarray:
    """Axis times angle (radians) of a rotation (3, 3)."""
    from scipy.spatial.transform import Rotation

    return np.asarray(Rotation.from_matrix(matrix).as_rotvec())


def nearest(numbers: np.ndarray, of: Freedom) -> np.ndarray:
    """The twelve numbers that a freedom allows which lie nearest to some."""
    weights = of.free.sum(0)
    return of.free @ ((of.free.T @ numbers) / weights)
