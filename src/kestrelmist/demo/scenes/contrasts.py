"""More of the two heads: T2 and proton density of the first, T1 and CT of the second, each on a grid of its own."""

from __future__ import annotations

from ...core.space import Space
from ...formats.nifti import write_nifti
from ..scans import centred_space, head_ct_space, head_mr_space, head_t2_space, scan_ct, scan_mr
from ..scene import Station, scene


def pd_space() -> Space:
    """Grid of the proton-density head: thick coronal slices."""
    return centred_space((136, 58, 120), (0.2, 0.5, 0.2))


@scene("Head T2", 32)
def head_t2(station: Station) -> None:
    space = head_t2_space()
    write_nifti(station.folder / "head T2.nii", scan_mr(station.animal, space, 0.02, "T2"), space, "Head T2, made up")


@scene("Head PD", 34)
def head_pd(station: Station) -> None:
    space = pd_space()
    write_nifti(station.folder / "head PD.nii", scan_mr(station.animal, space, 0.02, "PD"), space, "Head PD, made up")


@scene("The second animal", 36)
def second_animal(station: Station) -> None:
    assert station.other is not None
    space = head_mr_space()
    write_nifti(station.folder / "second head T1.nii", scan_mr(station.other, space), space, "Head T1, made up")
    space = head_ct_space(192, 180)
    write_nifti(station.folder / "second head CT.nii", scan_ct(station.other, space), space, "Head CT, made up")
