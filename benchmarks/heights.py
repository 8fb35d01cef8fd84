"""Levelling of a large height map, and what is seen of a limit that is dragged."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from .row import Row, best_of, in_turn

SIDE = 4096
PARTS = 32
"""In which a section of eight thousand points is read."""


def rows() -> list[Row]:
    from kestrelmist.core.image import Image
    from kestrelmist.core.progress import silent
    from kestrelmist.core.space import picture_space
    from kestrelmist.prepare.heights.level import level
    from kestrelmist.scene.view import AXIAL, fitted
    from kestrelmist.study.inputs import settle
    from kestrelmist.study.open_study import OpenStudy
    from kestrelmist.study.preview import preview

    rng = np.random.default_rng(1)
    x = np.linspace(-1, 1, SIDE)
    heights = (40 * x + 30 * x**2 + rng.normal(0, 5, (SIDE, 1)) + rng.normal(0, 0.5, (SIDE, SIDE))).astype(np.float32)
    heights[1000:3000, 1500:2500] += 300
    image = Image(heights.T[:, :, None], picture_space(SIDE, SIDE, (1e-4, 1e-4)), "Map", unit="nm")

    def plain() -> None:
        for line in heights:
            used = line <= 120
            line - np.polyval(np.polyfit(x[used], line[used], 2), x)

    level(image, "lines", order=2, limit_above=120.0, robust=False)  # compiled
    ours, loop = in_turn(lambda: level(image, "lines", order=2, limit_above=120.0, robust=False), plain, 3)
    view, limits = fitted(AXIAL, image.space, 800, 700), iter(range(100, 1000))
    study: OpenStudy = None  # type: ignore[assignment]  # nothing of a study is asked for: the image is handed over

    def dragged() -> None:
        task = settle(
            study,
            "level",
            {"image": image, "how": "lines", "robust": False, "order": 2, "limit_above": float(next(limits))},
        )
        preview(study, task, view, (), silent())

    dragged()
    seen = best_of(dragged, 5)
    return [
        Row(f"levelling {SIDE}², order 2, what is tall left out", ours, loop, "numpy.polyfit in a loop", "≤ 0.05"),
        Row("preview of a limit that is dragged", seen * 1000, 50.0, "goal", "≤ 50 ms", "ms", met=seen <= 0.05),
        _across_a_plain_file(heights),
    ]


def _across_a_plain_file(heights: np.ndarray) -> Row:
    """A section across a map whose pixels lie in its file as they are, of which only the line is read."""
    import tifffile
    import zarr

    from kestrelmist.formats.opening import open_image
    from kestrelmist.measure.section import Line, section_of

    with tempfile.TemporaryDirectory() as place:
        path = Path(place) / "map.tif"
        tifffile.imwrite(path, np.tile(heights, (2, 2)))

        def section() -> None:
            image = open_image(path)
            ends = image.space.to_world([(10, 50, 0), (8000, 700, 0)])
            section_of(image, Line(tuple(ends[0]), tuple(ends[1])))

        def by_the_library() -> None:
            store = tifffile.imread(path, aszarr=True)
            pixels = zarr.open_array(store, mode="r")
            for n in range(PARTS):
                pixels[50 + 20 * n : 78 + 20 * n, 250 * n : 250 * (n + 1)]
            store.close()

        section()  # its libraries are loaded
        ours, theirs = in_turn(section, by_the_library, 3)
    return Row(
        f"a section across a plain file of {2 * SIDE}²", ours, theirs, "tifffile and zarr, as many parts", "≤ 0.2"
    )
