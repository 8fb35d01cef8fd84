"""Movements of a stiff body: six numbers and the matrix they stand for."""

from __future__ import annotations

import numpy as np


def matrix_of(moved, centre) -> np.ndarray:
    """The matrix (4, 4) of a movement of the world.

    Parameters
    ----------
    moved : six numbers
        Shifts along x, y, z in mm, and turns about x, y, z in rad, which are done in this order about axes through
        `centre` that stand still.
    centre : three mm

    Examples
    --------
    >>> matrix_of((1, 0, 0, 0, 0, np.pi / 2), (0, 0, 0)).round(6).tolist()[0]
    [0.0, -1.0, 0.0, 1.0]
    """
    a, b, c = (float(v) for v in moved[3:6])
    x = np.array([[1, 0, 0], [0, np.cos(a), -np.sin(a)], [0, np.sin(a), np.cos(a)]])
    y = np.array([[np.cos(b), 0, np.sin(b)], [0, 1, 0], [-np.sin(b), 0, np.cos(b)]])
    z = np.array([[np.cos(c), -np.sin(c), 0], [np.sin(c), np.cos(c), 0], [0, 0, 1]])
    matrix = np.eye(4)
    matrix[:3, :3] = z @ y @ x
    middle = np.asarray(centre, float)
    matrix[:3, 3] = middle + np.asarray(moved[:3], float) - matrix[:3, :3] @ middle
    return matrix


def moved_by(matrix: np.ndarray, centre) -> np.ndarray:
    """The six numbers of a matrix; see `matrix_of`. Turns about y lie between −90° and 90°."""
    turn = matrix[:3, :3]
    b = np.arcsin(np.clip(-turn[2, 0], -1, 1))
    a, c = np.arctan2(turn[2, 1], turn[2, 2]), np.arctan2(turn[1, 0], turn[0, 0])
    middle = np.asarray(centre, float)
    shift = matrix[:3, 3] - middle + turn @ middle
    return np.array([*shift, a, b, c])


def step_matrix(step, centre) -> np.ndarray:
    """The matrix of a small step: shifts, and a turn by the length of a vector about it (O. Rodrigues, 1840)."""
    vector = np.asarray(step[3:6], float)
    angle = float(np.linalg.norm(vector))
    turn = np.eye(3)
    if angle > 0:
        x, y, z = vector / angle
        cross = np.array([[0, -z, y], [z, 0, -x], [-y, x, 0]])
        turn = turn + np.sin(angle) * cross + (1 - np.cos(angle)) * cross @ cross
    matrix, middle = np.eye(4), np.asarray(centre, float)
    matrix[:3, :3] = turn
    matrix[:3, 3] = middle + np.asarray(step[:3], float) - turn @ middle
    return matrix
