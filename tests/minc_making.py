"""Small MINC files, written as the format has it: NetCDF for the first version, HDF5 for the second."""

from __future__ import annotations

from pathlib import Path

import h5py
import numpy as np
from scipy.io import netcdf_file

START, STEP = {"xspace": -10.0, "yspace": 5.0, "zspace": 2.0}, {"xspace": 0.5, "yspace": 0.4, "zspace": -0.7}
LOWS = np.array([0.0, 1.0, -2.0])
"""Real value of the lowest number of each slice; the highest is ten above it."""


def truth(values: np.ndarray) -> np.ndarray:
    """Real values of stored bytes [z, y, x]: each slice along z has a scale of its own."""
    lows = np.resize(LOWS, values.shape[-3])[:, None, None]
    return lows + values / 255.0 * 10.0


def write_minc1(path: Path, values: np.ndarray, tilt: np.ndarray | None = None) -> Path:
    """Bytes [z, y, x], or [time, z, y, x] with 2.5 s from time to time."""
    dims = ("time", "zspace", "yspace", "xspace")[-values.ndim :]
    with netcdf_file(str(path), "w") as file:
        for name, size in zip(dims, values.shape):
            file.createDimension(name, size)
        for name in dims:
            variable = file.createVariable(name, "i", ())
            variable.data[...] = 0
            variable.spacing = "regular__"
            variable.start, variable.step = (START[name], STEP[name]) if name != "time" else (0.0, 2.5)
            if tilt is not None and name != "time":
                variable.direction_cosines = tilt[:, "xyz".index(name[0])]
        image = file.createVariable("image", "b", dims)
        image.data[...] = values.astype(np.uint8).view(np.int8)
        image.signtype, image.valid_range = "unsigned", np.array([0.0, 255.0])
        outer = dims[:-2]
        lows = np.broadcast_to(np.resize(LOWS, values.shape[-3]), values.shape[:-2])
        for name, add in (("image-min", 0.0), ("image-max", 10.0)):
            limit = file.createVariable(name, "d", outer)
            limit.data[...] = lows + add
        patient = file.createVariable("patient", "i", ())
        patient.data[...] = 0
        patient.identification = "HM-31"
        file.history = "made for a test"
    return path


def write_minc2(path: Path, values: np.ndarray) -> Path:
    """The same as HDF5."""
    dims = ("time", "zspace", "yspace", "xspace")[-values.ndim :]
    with h5py.File(path, "w") as file:
        root = file.create_group("minc-2.0")
        image = root.create_group("image/0")
        for name, size in zip(dims, values.shape):
            variable = root.create_dataset(f"dimensions/{name}", data=np.int32(0))
            start, step = (START[name], STEP[name]) if name != "time" else (0.0, 2.5)
            variable.attrs.update({"start": start, "step": step, "length": np.int32(size)})
            variable.attrs["spacing"] = np.bytes_("regular__")
        stored = image.create_dataset("image", data=values.astype(np.uint8), compression="gzip")
        stored.attrs["dimorder"] = np.bytes_(",".join(dims))
        stored.attrs["valid_range"] = np.array([0.0, 255.0])
        lows = np.broadcast_to(np.resize(LOWS, values.shape[-3]), values.shape[:-2]).astype(float)
        for name, add in (("image-min", 0.0), ("image-max", 10.0)):
            limit = image.create_dataset(name, data=lows + add)
            limit.attrs["dimorder"] = np.bytes_(",".join(dims[:-2]))
        patient = root.create_group("info").create_dataset("patient", data=np.int32(0))
        patient.attrs["identification"] = np.bytes_("HM-31")
    return path
