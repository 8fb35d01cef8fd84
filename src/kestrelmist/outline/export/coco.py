"""Objects as COCO JSON (T.-Y. Lin et al., ECCV 2014): images, categories, and a polygon, box and area each."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np

from ...core.labels import LabelMap
from ...core.progress import Progress
from ...core.safe_write import written_whole
from ..contours.marks_of import rings_of


def coco_of(labels: LabelMap, picture: str, progress: Progress) -> dict:
    """The objects of a label map: each connected piece of a label in a slice is one. Places count in pixels from the
    outer corner of the first."""
    from scipy import ndimage

    images: list[dict] = []
    found: list[dict] = []
    rows = [row for row in labels.table if labels.counts[row.number]]
    nk, nj, ni = labels.kji.shape
    for k in progress.over(range(nk), nk, "Writing objects"):
        name = picture if nk == 1 else f"{Path(picture).stem} {k + 1:04d}{Path(picture).suffix}"
        images.append({"id": k + 1, "file_name": name, "width": ni, "height": nj})
        plane = labels.kji[k]
        for row in rows:
            mask = plane == row.number
            if not mask.any():
                continue
            pieces, _ = ndimage.label(mask, np.ones((3, 3)))
            for n, part in enumerate(ndimage.find_objects(pieces), 1):
                own = pieces[part] == n
                top, left = part[0].start, part[1].start
                outer = [ring for ring, hole in rings_of(own) if not hole]
                polygons = [[float(v) for y, x in ring for v in (x + left + 0.5, y + top + 0.5)] for ring in outer]
                box = [left, top, own.shape[1], own.shape[0]]
                found.append(
                    {
                        "id": len(found) + 1,
                        "image_id": k + 1,
                        "category_id": row.number,
                        "segmentation": polygons,
                        "area": int(own.sum()),
                        "bbox": box,
                        "iscrowd": 0,
                    }
                )
    categories = [{"id": row.number, "name": row.name, "supercategory": ""} for row in rows]
    return {"images": images, "annotations": found, "categories": categories}


def write_coco(to: Path, labels: LabelMap, picture: str, progress: Progress) -> None:
    """Write the objects of a label map."""
    with written_whole(to) as stream:
        stream.write(json.dumps(coco_of(labels, picture, progress), ensure_ascii=False, indent=1).encode())
