"""How a series was taken, under the names the BIDS standard uses (bids-specification, "Magnetic Resonance Imaging")."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from .dicom.frames import private_block_reader
from .dicom.times import Clock
from .series import Series, component_of
from .sidecar import facts_of

if TYPE_CHECKING:
    from ..core.image import Image
    from ..core.space import Space

PLAIN = {
    "Manufacturer": "Manufacturer",
    "ManufacturerModelName": "ManufacturersModelName",
    "MagneticFieldStrength": "MagneticFieldStrength",
    "FlipAngle": "FlipAngle",
    "ScanningSequence": "ScanningSequence",
    "SequenceVariant": "SequenceVariant",
    "SequenceName": "SequenceName",
    "MRAcquisitionType": "MRAcquisitionType",
    "SoftwareVersions": "SoftwareVersions",
    "ProtocolName": "ProtocolName",
    "SeriesDescription": "SeriesDescription",
    "BodyPartExamined": "BodyPartExamined",
    "PixelBandwidth": "PixelBandwidth",
    "KVP": "KVP",
    "ConvolutionKernel": "ConvolutionKernel",
    "ReceiveCoilName": "ReceiveCoilName",
    "SliceThickness": "SliceThickness",
}
SECONDS = {"EchoTime": 1e-3, "RepetitionTime": 1e-3, "InversionTime": 1e-3}
NUMBERS = ("MagneticFieldStrength", "FlipAngle", "PixelBandwidth", "KVP", "SliceThickness")


def acquisition_facts(series: Series, space: Space) -> dict:
    """Repetition and echo time (s), slice timing (s), phase encoding, echo spacing (s), diffusion weighting and the
    like.

    What the headers do not say is left out, never guessed. `SliceTiming` counts from the start of the first volume,
    slice by slice along k; directions are those of the image's own axes.
    """
    import pydicom

    try:
        ds = pydicom.dcmread(series.first.path, stop_before_pixels=True, force=True)
    except Exception:  # facts are an extra; the image may still be whole
        return {}
    found: dict = {"Modality": series.modality} if series.modality else {}
    for keyword, name in PLAIN.items():
        value = _value(ds, keyword)
        if value is not None:
            several = hasattr(value, "__iter__") and not isinstance(value, str)
            text = "\\".join(map(str, value)) if several else str(value)
            found[name] = float(value) if keyword in NUMBERS and _is_number(value) else text
    for keyword, scale in SECONDS.items():
        value = series.first.header.get(keyword)
        value = _value(ds, keyword) if value is None else value
        if _is_number(value) and float(value) > 0:
            found[keyword] = round(float(value) * scale, 9)
    for axis in series.axes:
        if axis.name == "echo" and axis.values:
            found["EchoTimes"] = [round(v * 1e-3, 9) for v in axis.values]
        if axis.name == "time" and axis.step and series.modality != "MR":
            found["RepetitionTime"] = round(axis.step, 9)
    if component := component_of(series.first):
        found["ImageComponent"] = component
    private = _private(ds)
    if timing := slice_timing(series, private):
        found["SliceTiming"] = timing
    found |= _phase_encoding(ds, series, private)
    found |= diffusion(series, space)
    return found


def _value(ds, keyword: str):
    """An element of the header, or of the first item of its functional groups."""
    if ds.get(keyword) not in (None, ""):
        return ds.get(keyword)
    places = {
        "EchoTime": ("MREchoSequence", "EffectiveEchoTime"),
        "RepetitionTime": ("MRTimingAndRelatedParametersSequence", "RepetitionTime"),
        "FlipAngle": ("MRTimingAndRelatedParametersSequence", "FlipAngle"),
        "InversionTime": ("MRModifierSequence", "InversionTimes"),
    }
    if keyword in places:
        for group in (ds.get("SharedFunctionalGroupsSequence") or [None])[:1] + list(
            ds.get("PerFrameFunctionalGroupsSequence") or []
        )[:1]:
            sequence = group.get(places[keyword][0]) if group is not None else None
            if sequence and sequence[0].get(places[keyword][1]) not in (None, ""):
                return sequence[0].get(places[keyword][1])
    return None


def _is_number(value) -> bool:
    try:
        return value is not None and bool(np.isfinite(float(value)))
    except (TypeError, ValueError):
        return False


def _private(ds) -> dict:
    """Slice times (ms), bandwidth along the phase (Hz a pixel) and its sign, where makers keep them."""
    found: dict = {}
    for tag, name in ((0x00191029, "times"), (0x00191028, "bandwidth"), (0x0043102C, "spacing")):
        if tag in ds and ds[tag].VR != "UN":
            value = ds[tag].value
            found[name] = (
                [float(v) for v in value]
                if name == "times" and hasattr(value, "__len__")
                else float(value)
                if _is_number(value)
                else None
            )
    if (0x0029, 0x1010) in ds:
        try:
            tags = private_block_reader().read(ds[0x0029, 0x1010].value)["tags"]

            def items(name):
                return tags.get(name, {}).get("items") or []

            if items("PhaseEncodingDirectionPositive"):
                found["positive"] = int(items("PhaseEncodingDirectionPositive")[0])
            if items("BandwidthPerPixelPhaseEncode"):
                found.setdefault("bandwidth", float(items("BandwidthPerPixelPhaseEncode")[0]))
            if items("MosaicRefAcqTimes"):
                found.setdefault("times", [float(v) for v in items("MosaicRefAcqTimes")])
        except Exception:  # a private block that is not what it seems
            pass
    return {k: v for k, v in found.items() if v is not None}


def slice_timing(series: Series, private: dict) -> list[float]:
    """When each slice of a volume was taken, s after the first; empty when the headers do not say."""
    depth = series.depth
    if len(private.get("times", ())) == depth > 1:
        times = np.array(private["times"]) / 1000
        # tiles lie in the order of the stack, unless the stack was turned end for end when it was put in order
        first = series.grid[0][0]
        if first is not None and first.tile is not None and first.tile[:2] != (0, 0):
            times = times[::-1]
        return [round(float(t - times.min()), 6) for t in times]
    if series.modality != "MR" or depth < 2 or not any(a.name == "time" for a in series.axes):
        return []
    volume = series.grid[min(1, len(series.grid) - 1)]  # the first may still be on its way to the steady state
    if any(s is None for s in volume):
        return []
    clock = Clock(s for s in volume if s is not None)
    acquired = [clock.acquired(s) for s in volume if s is not None]
    moments = [np.nan if t is None or acquired[0] is None else (t - acquired[0]) * 1e-6 for t in acquired]
    for taken in ([s.number("TriggerTime", np.nan) / 1000 for s in volume if s is not None], moments):
        if np.all(np.isfinite(taken)) and len(set(taken)) > 1:
            repeat = series.first.number("RepetitionTime") / 1000
            times = np.array(taken) - min(taken)
            if repeat <= 0 or times.max() < repeat:
                return [round(float(t), 6) for t in times]
    return []


def _phase_encoding(ds, series: Series, private: dict) -> dict:
    along = str(ds.get("InPlanePhaseEncodingDirection") or "")
    if not along:
        for group in (ds.get("SharedFunctionalGroupsSequence") or [])[:1]:
            geometry = group.get("MRFOVGeometrySequence")
            along = str(geometry[0].get("InPlanePhaseEncodingDirection", "")) if geometry else ""
    if not along.upper().startswith(("ROW", "COL")):
        return {}
    axis = "i" if along.upper().startswith("ROW") else "j"
    found: dict = (
        {"PhaseEncodingDirection": axis + ("" if private["positive"] else "-")}
        if "positive" in private
        else {"PhaseEncodingAxis": axis}
    )
    lines = series.matrix[0] if axis == "i" else series.matrix[1]
    spacing = (
        1.0 / (private["bandwidth"] * lines)
        if private.get("bandwidth")
        else private["spacing"] / 1e6
        if private.get("spacing")
        else None
    )
    if spacing:
        found |= {
            "EffectiveEchoSpacing": round(spacing, 10),
            "TotalReadoutTime": round(spacing * (lines - 1), 10),
            "ReconMatrixPE": lines,
        }
    return found


def diffusion(series: Series, space: Space) -> dict:
    """b-values (s/mm²) and directions of each volume along the image's own axes, as .bval and .bvec files hold them.

    The first component changes its sign where i, j and k are right-handed in the world, as those files have it.
    """
    from .dicom.header import FROM_DICOM_AXES

    firsts = [next((s for s in volume if s is not None), None) for volume in series.grid]
    own = [s for s in firsts if s is not None and "DiffusionBValue" in s.header]
    if not own or len(own) < len(firsts):
        return {}
    directions = space.affine[:3, :3] / np.array(space.spacing)
    vectors = []
    for s in own:
        given = s.header.get("DiffusionGradientOrientation")
        vector = np.array(given, float) if isinstance(given, list) and len(given) == 3 else np.zeros(3)
        vector = directions.T @ (FROM_DICOM_AXES[:3, :3] @ vector)
        if np.linalg.det(directions) > 0:
            vector[0] *= -1
        vectors.append([round(float(v) + 0.0, 8) for v in vector])
    return {"bValues": [s.number("DiffusionBValue") for s in own], "bVectors": vectors}


def elements_of(image: Image) -> dict[str, str | float]:
    """What is known of how an image was taken, as elements of DICOM with the units that those have."""
    facts = facts_of(image)
    found: dict[str, str | float] = {}
    for name, scale in SECONDS.items():
        if _is_number(facts.get(name)) and float(facts[name]) > 0:
            found[name] = f"{float(facts[name]) / scale:.10g}"
    for name in NUMBERS:
        if name != "SliceThickness" and _is_number(facts.get(name)):
            found[name] = f"{float(facts[name]):.10g}"
    return found


def gradient_elements(image: Image) -> list[dict[str, float | list[float]]]:
    """b-value and direction of each volume in DICOM's coordinates, empty when they are not known: `diffusion` the
    other way round."""
    from .dicom.header import FROM_DICOM_AXES

    facts, axis = facts_of(image), image.axes[0] if image.axes else None
    strengths, vectors = facts.get("bValues"), facts.get("bVectors")
    if axis is None or axis.name != "direction" or not isinstance(strengths, list) or not isinstance(vectors, list):
        return []
    if len(strengths) != axis.size or len(vectors) != axis.size:
        return []
    directions = image.space.affine[:3, :3] / np.array(image.space.spacing)
    mirrored = np.array([-1 if np.linalg.det(directions) > 0 else 1, 1, 1])
    found: list[dict[str, float | list[float]]] = []
    for strength, vector in zip(strengths, vectors):
        one: dict[str, float | list[float]] = {"DiffusionBValue": float(strength)}
        if np.any(vector):
            towards = FROM_DICOM_AXES[:3, :3].T @ (directions @ (np.array(vector, float) * mirrored))
            one["DiffusionGradientOrientation"] = [float(v) for v in towards]
        found.append(one)
    return found
